-- Takes back what was counted. ARGV: form, weight, when it was counted, and the distance of a smooth limit.
local key, form, weight, at = KEYS[1], ARGV[1], tonumber(ARGV[2]), tonumber(ARGV[3])
if form == 's' then
  local list, sum = key .. ':l', key .. ':n'
  local entries = redis.call('LRANGE', list, 0, -1)
  for i = #entries, 1, -1 do
    local moment, count = string.match(entries[i], '^(%d+) (%d+)$')
    if tonumber(moment) == at then
      local less = math.min(weight, tonumber(count))
      redis.call('LSET', list, i - 1, moment .. ' ' .. (tonumber(count) - less))
      redis.call('DECRBY', sum, less)
      break
    end
  end
elseif form == 'm' then
  local time = redis.call('TIME')
  local fine = (time[1] - 1735689600) * 1000000 + time[2]
  local due = tonumber(redis.call('GET', key) or '0')
  local less = math.min(tonumber(ARGV[4]) * weight, math.max(0, at - fine), due)
  redis.call('SET', key, string.format('%.17g', due - less), 'KEEPTTL')
else
  local kept = redis.call('HMGET', key, 'from', 'used')
  if tonumber(kept[1] or '0') == at then
    local used = math.max(0, tonumber(kept[2] or '0') - weight)
    redis.call('HSET', key, 'used', string.format('%.17g', used))
  end
end
return 1
