# One drive, two programs: the second stands back.
printf 'kind = "write"\nblock = "64 KiB"\ndepth = 4\nuntil = { duration = "15 s" }\n' | route long
printf 'kind = "read"\nblock = "64 KiB"\ndepth = 4\nuntil = { bytes = "1 MiB" }\n' | route r
hollow-mile haul /tmp/long.toml --on /dev/nvme0n1 --erase KW-0417 --json >/tmp/first 2>&1 &
recorded 1
hm haul /tmp/long.toml --on /dev/nvme0n1 --erase KW-0417
code_is 3
has /tmp/err 'process [0-9]+ \(hollow-mile\) has it open for writing'
hm haul /tmp/r.toml --on /dev/nvme0n1
code_is 2
has /tmp/err 'locked by a program that writes'
wait
has /tmp/first '"state": "done"'
