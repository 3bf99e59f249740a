-- The beginning of each period and what was counted in it; KEYS are counts of periods.
local told = {}
for i = 1, #KEYS do
  local kept = redis.call('HMGET', KEYS[i], 'from', 'used')
  told[#told + 1] = tonumber(kept[1] or '0')
  told[#told + 1] = tonumber(kept[2] or '0')
end
return told
