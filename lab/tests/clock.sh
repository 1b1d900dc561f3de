# The wall clock is set while a haul runs: its own time goes on, and the record says what happened.
printf 'kind = "read"\nblock = "64 KiB"\ndepth = 2\nrate = "2 MB/s"\nuntil = { duration = "14 s" }\n' | route warm
hollow-mile haul /tmp/warm.toml --on /dev/nvme0n1 --json >/tmp/out 2>/tmp/err &
recorded 20
date -s "@$(($(date +%s) + 3600))" >/dev/null
recorded 50
date -s "@$(($(date +%s) - 7200))" >/dev/null
wait
has /tmp/out '"state": "done"'
haul=$(haul_id /tmp/out)
awk '/"elapsed_s"/ { gsub(",", ""); exit !($2 > 13 && $2 < 20) }' /tmp/out
hm findings "$haul" --json
has /tmp/out 'set ahead by 3[56][0-9][0-9] s'
has /tmp/out 'set back by 7[12][0-9][0-9] s'
# As it was: the tests that follow ask for the last haul, and that goes by when hauls began.
date -s "@$(($(date +%s) + 3600))" >/dev/null
