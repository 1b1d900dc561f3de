# The drive is pulled out in the middle of a haul: all that was recorded is there, and the words are clear.
printf 'kind = "write"\nblock = "64 KiB"\ndepth = 8\nuntil = { duration = "60 s" }\n' | route long
hollow-mile haul /tmp/long.toml --on /dev/nvme1n1 --erase "KW 0550" --json >/tmp/out 2>/tmp/err &
job=$!
recorded 20
host "device_del nvme1"
code=0
wait $job || code=$?
cat /tmp/out /tmp/err
code_is 4
has /tmp/out '"state": "failed"'
has /tmp/err '/dev/nvme1n1 is gone'
[ "$(number /tmp/out written_bytes)" -gt 1000000 ]
hm ledger --json
has /tmp/out '"state": "failed"'
hm findings last --json
code_is 0
hm yard --json
has_not /tmp/out 'nvme1n1'
