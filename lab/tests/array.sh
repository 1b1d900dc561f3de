# An array is a drive with drives below it: each of them is followed, and what is not whole is said before the start.
for d in nvme0n1 nvme1n1; do dd if=/dev/zero of=/dev/$d bs=1M count=20 2>/dev/null; done
modprobe raid0
modprobe raid1
[ -e /dev/md0 ] && mdadm --stop /dev/md0
mdadm --create /dev/md0 --run --force --level=0 --chunk=64 --metadata=1.2 --raid-devices=2 /dev/nvme0n1 /dev/nvme1n1 </dev/null
printf 'kind = "write"\nblock = "256 KiB"\nrate = "8 MB/s"\nregion = { to = "256 MiB" }\nuntil = { duration = "8 s" }\n' | route striped
hm haul /tmp/striped.toml --on /dev/md0 --erase md0 --give-up data,md-raid --json
code_is 0
for member in nvme0n1 nvme1n1; do
    has /tmp/out "\"name\": \"$member\""
done
written=$(number /tmp/out written_bytes)
hm export last --of meters -o /tmp/members.csv
code_is 0
# A row a second: what both members moved is what the array wrote, but for its first and last second.
moved=$(awk -F, '$3 == "MB/s" { s += $4 } END { print int(s * 1000000) }' /tmp/members.csv)
[ "$moved" -gt $((written / 2)) ] && [ "$moved" -lt $((written * 3 / 2)) ] || { echo "$moved moved, $written written"; exit 1; }
# Each of the two carries about half.
awk -F, '$2 == "nvme0n1" && $3 == "MB/s" { a += $4 } $2 == "nvme1n1" && $3 == "MB/s" { b += $4 } END { exit !(a > 0.35 * (a + b) && a < 0.65 * (a + b)) }' /tmp/members.csv
mdadm --stop /dev/md0
for d in nvme0n1 nvme1n1; do dd if=/dev/zero of=/dev/$d bs=1M count=4 2>/dev/null; done
# A mirror of which one half is missing.
mdadm --create /dev/md0 --run --force --level=1 --metadata=1.2 --raid-devices=2 --size=65536 /dev/nvme0n1 missing </dev/null
printf 'kind = "read"\nblock = "256 KiB"\nuntil = { bytes = "8 MiB" }\n' | route mirror
hm haul /tmp/mirror.toml --on /dev/md0
code_is 0
has /tmp/err 'the raid1 array is short of 1 of its 2 members'
hm yard --json
has /tmp/out '"what": "drive"'
has /tmp/out 'raid1 array of 2'
# Writing to it is asked about.
printf 'kind = "write"\nblock = "256 KiB"\nuntil = { bytes = "4 MiB" }\n' | route half
hm haul /tmp/half.toml --on /dev/md0 --erase md0 --give-up data,md-raid
code_is 3
has /tmp/err 'degraded'
hm haul /tmp/half.toml --on /dev/md0 --erase md0 --give-up data,md-raid,degraded
code_is 0
hm vitals /dev/md0
has /tmp/out 'nvme0n1 +drive'
mdadm --stop /dev/md0
for d in nvme0n1 nvme1n1; do dd if=/dev/zero of=/dev/$d bs=1M count=4 2>/dev/null; done
