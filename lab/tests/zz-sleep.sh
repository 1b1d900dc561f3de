# The machine is suspended to memory while a haul runs: the haul's own time stands still meanwhile, and the record says so.
printf 'kind = "read"\nblock = "64 KiB"\ndepth = 2\nrate = "2 MB/s"\nuntil = { duration = "12 s" }\n' | route warm
hollow-mile haul /tmp/warm.toml --on /dev/nvme0n1 --json >/tmp/out 2>/tmp/err &
recorded 20
wake_after 8
echo mem >/sys/power/state
echo woken
wait
cat /tmp/err
has /tmp/out '"state": "done"'
has /tmp/out '"errors": 0'
awk '/"elapsed_s"/ { gsub(",", ""); exit !($2 > 11 && $2 < 20) }' /tmp/out
haul=$(haul_id /tmp/out)
hm findings "$haul" --json
has /tmp/out 'the machine slept for ([5-9]|1[0-2]) s'
