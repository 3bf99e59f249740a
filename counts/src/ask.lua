-- Asks for all limits of a call: counts all of them, or none. The time is the server's own.
-- KEYS: a limit's count of a subject. ARGV: six for each of them.
local time = redis.call('TIME')
local now = time[1] * 1000 + math.floor(time[2] / 1000)
-- Microseconds since 2025, so that parts of one are told apart in a double.
local fine = (time[1] - 1735689600) * 1000000 + time[2]
local told, counts, all = {}, {}, true

-- "s": any window. The moments (or the beginnings of slices) with what was counted in each, the oldest first, and their sum.
local function sliding(key, most, window, weight, _, slice)
  local list, sum = key .. ':l', key .. ':n'
  local total = tonumber(redis.call('GET', sum) or '0')
  local function free_at(entry)
    return tonumber(string.match(entry, '^%d+')) + slice - 1 + window
  end
  local function count_of(entry)
    return tonumber(string.match(entry, '%d+$'))
  end
  local first = redis.call('LINDEX', list, 0)
  if not first then total = 0 end
  while first and free_at(first) <= now do
    redis.call('LPOP', list)
    total = redis.call('DECRBY', sum, count_of(first))
    first = redis.call('LINDEX', list, 0)
  end
  local allowed = total + weight <= most
  local left = math.max(0, most - total)
  if allowed then left = left - weight end
  local wanted = weight
  if allowed then wanted = left == 0 and 1 or 0 end
  local last = redis.call('LINDEX', list, -1)
  local at = math.floor(now / slice) * slice
  local own = at .. ' ' .. weight
  local wait = 0
  if wanted > left then
    local room = left
    local from = 0
    while room < wanted do
      local entry = redis.call('LINDEX', list, from)
      if not entry then entry = allowed and weight > 0 and own or last end
      if not entry then break end
      wait = free_at(entry) - now
      room = room + count_of(entry)
      from = from + 1
      if entry == own or from > 400 then break end
    end
  end
  local reset = 0
  if allowed and weight > 0 then
    -- A clock that went back counts with what was counted last.
    if last then at = math.max(at, tonumber(string.match(last, '^%d+'))) end
    reset = at + slice - 1 + window - now
  elseif last then
    reset = free_at(last) - now
  end
  told[#told + 1] = { allowed and 1 or 0, left, wait * 1000, reset * 1000, at }
  return allowed, function()
    if weight == 0 then return end
    if last and tonumber(string.match(last, '^%d+')) == at then
      redis.call('LSET', list, -1, at .. ' ' .. (count_of(last) + weight))
    else
      redis.call('RPUSH', list, at .. ' ' .. weight)
      -- What is counted with the last lasts no longer than it does.
      redis.call('PEXPIRE', list, window * 2 + slice)
      redis.call('SET', sum, total, 'PX', window * 2 + slice)
    end
    redis.call('INCRBY', sum, weight)
  end
end

-- "m": even distances (the generic cell rate algorithm): when the next one is due. Here `window` is the distance, `extra` how
-- far ahead of their time some may come, both in microseconds.
local function smooth(key, most, each, weight, ahead)
  local due = math.max(tonumber(redis.call('GET', key) or '0'), fine)
  local after = due + each * weight
  local last = fine + ahead
  local allowed = most > 0 and after <= last
  if allowed then due = after end
  local left = math.min(math.floor((last - due) / each), most)
  local wait = 0
  if not allowed or left == 0 then
    wait = math.max(0, due + each * math.max(weight, 1) - last)
  end
  told[#told + 1] = { allowed and 1 or 0, math.max(0, left), math.ceil(wait), math.ceil(due - fine), math.ceil(due) }
  return allowed, function()
    local text = string.format('%.17g', due)
    redis.call('SET', key, text, 'PX', math.ceil((due - fine) / 1000) + 1000)
  end
end

-- "f": from a moment on, for as long as the window is. A node whose clock is behind begins no period anew.
local function fixed(key, most, window, weight, from)
  local kept = redis.call('HMGET', key, 'from', 'used')
  local begun, used = tonumber(kept[1] or '0'), tonumber(kept[2] or '0')
  if from > begun then begun, used = from, 0 end
  local allowed = used + weight <= most
  if allowed then used = used + weight end
  local left = math.max(0, most - used)
  local ends = math.max(0, begun + window - now) * 1000
  local wait = (not allowed or left == 0) and ends or 0
  told[#told + 1] = { allowed and 1 or 0, left, wait, ends, begun }
  return allowed, function()
    redis.call('HSET', key, 'from', string.format('%.17g', begun), 'used', string.format('%.17g', used))
    redis.call('PEXPIRE', key, math.max(1000, begun + 2 * window - now))
  end
end

for i = 1, #KEYS do
  local of = (i - 1) * 6
  local form = ARGV[of + 1]
  local ask = form == 's' and sliding or form == 'm' and smooth or fixed
  local function number(at) return tonumber(ARGV[of + at]) end
  local allowed, count = ask(KEYS[i], number(2), number(3), number(4), number(5), number(6))
  counts[i] = count
  all = all and allowed
end
if all then
  for i = 1, #counts do counts[i]() end
end
local flat = {}
for i = 1, #told do
  for j = 1, 5 do flat[#flat + 1] = told[i][j] end
end
return flat
