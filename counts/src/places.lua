-- Asks for places among what may be under way at the same time; `core/rules/src/limit/places.rs` says the same.
-- ARGV: the node, how many there are, how many it has under way, how many it wants, for how long, and whether it served any.
local key, node = KEYS[1], ARGV[1]
local most, held, wanted, lasts = tonumber(ARGV[2]), tonumber(ARGV[3]), tonumber(ARGV[4]), tonumber(ARGV[5])
local time = redis.call('TIME')
local now = time[1] * 1000 + math.floor(time[2] / 1000)
local parts = redis.call('HGETALL', key)
local others, count, had, since, own = 0, 0, 0, 0, false
local waiting = {}
for i = 1, #parts, 2 do
  local has, waits, til = string.match(parts[i + 1], '^(%d+) (%d+) (%d+)$')
  if tonumber(til) <= now then
    redis.call('HDEL', key, parts[i])
  elseif parts[i] == node then
    own, had, since = true, tonumber(has), tonumber(waits)
  else
    count, others = count + 1, others + tonumber(has)
    if waits ~= '0' then waiting[#waiting + 1] = { tonumber(waits), parts[i] } end
  end
end
if since == 0 or ARGV[6] == '1' then since = now end
local yields = false
for _, other in ipairs(waiting) do
  if other[1] < since or (other[1] == since and other[2] < node) then yields = true end
end
local may = math.min(wanted, math.max(0, most - others))
if yields then may = math.min(may, held) end
local has = math.max(held, may)
if wanted == 0 then
  redis.call('HDEL', key, node)
elseif own or count < 1000 then
  if wanted <= has then since = 0 elseif has > had then since = now end
  redis.call('HSET', key, node, string.format('%.0f %.0f %.0f', has, since, now + lasts))
  redis.call('PEXPIRE', key, lasts * 2)
else
  return { 0, 0 }
end
return { may, yields and 1 or 0 }
