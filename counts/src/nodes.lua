-- Says that a node is there; how many are.
local time = redis.call('TIME')
redis.call('ZADD', KEYS[1], time[1], ARGV[1])
redis.call('ZREMRANGEBYSCORE', KEYS[1], '-inf', time[1] - tonumber(ARGV[2]))
redis.call('EXPIRE', KEYS[1], 3600)
return redis.call('ZCARD', KEYS[1])
