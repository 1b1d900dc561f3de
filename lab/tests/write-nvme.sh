# A write haul on NVMe: sequential, random, mixed, several workers, stamped, limited; critical warnings are seen on it.
cat >/tmp/many.toml <<'R'
name = "many"
[[leg]]
kind = "write"
stamped = true
until = { bytes = "32 MiB" }
[[leg]]
kind = "mixed"
read_percent = 70
pattern = "random"
block = "4 KiB"
depth = 16
workers = 2
region = { from = "64 MiB", to = "128 MiB" }
until = { bytes = "4 MiB" }
[[leg]]
kind = "read"
pattern = "random"
block = "4 KiB"
depth = 8
until = { bytes = "2 MiB" }
[[leg]]
kind = "write"
block = "64 KiB"
depth = 4
rate = "4 MB/s"
until = { duration = "3 s" }
R
hm haul /tmp/many.toml --on /dev/nvme0n1 --erase KW-0417 --json
code_is 0
has /tmp/out '"state": "done"'
has /tmp/out 'io_uring'
has /tmp/out '"errors": 0'
written=$(number /tmp/out written_bytes)
# 32 MiB stamped, 30 % of 4 MiB mixed, 12 MB at most at 4 MB/s: the emulation may be slower than that.
[ "$written" -gt 36000000 ] && [ "$written" -lt 48000000 ] || { echo "$written written"; exit 1; }
dd if=/dev/nvme0n1 of=/tmp/first bs=4 count=1 2>/dev/null
has /tmp/first 'HMs1'
hm export last --as csv -o /tmp/many.csv
code_is 0
has /tmp/many.csv 'other_bytes'
# From outside: the temperature warning bit, set while a haul runs.
printf 'kind = "read"\nblock = "64 KiB"\ndepth = 2\nrate = "2 MB/s"\nuntil = { duration = "26 s" }\n' | route warm
hollow-mile haul /tmp/warm.toml --on /dev/nvme0n1 --json >/tmp/out 2>/tmp/err &
recorded 10
host "qom-set /machine/peripheral/nvme0 smart_critical_warning 2"
wait
has /tmp/out '"state": "done"'
has /tmp/out 'a temperature is beyond its threshold'
host "qom-set /machine/peripheral/nvme0 smart_critical_warning 0"
for i in $(seq 20); do
    hm vitals /dev/nvme0n1 --json
    grep -q '"critical_warning": 0' /tmp/out && break
    sleep 0.3
done
has /tmp/out '"critical_warning": 0'
# Blocks of 4,096 bytes: smaller ones are refused before anything is asked.
printf 'kind = "write"\nblock = "512 B"\nuntil = { bytes = "1 MiB" }\n' | route small
hm haul /tmp/small.toml --on /dev/nvme1n1 --erase "KW 0550"
code_is 2
has /tmp/err 'not a multiple'
