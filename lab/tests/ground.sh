# A scan names a slow stretch (dm-delay over null_blk) to the bin, by several passes and a visit again.
slow_stretch
printf 'kind = "scan"\nbins = 128\nblock = "256 KiB"\ndepth = 2\n' | route ground
hm haul /tmp/ground.toml --on $node --json
code_is 0
has /tmp/out '"kind": "slow-zone"'
# 128 MiB to 144 MiB, each edge within a bin of 2.1 MiB.
from=$(grep -A12 '"kind": "slow-zone"' /tmp/out | number - position_bytes)
to=$(grep -A12 '"kind": "slow-zone"' /tmp/out | number - position_end_bytes)
echo "slow from $from to $to"
awk -v a="$from" -v b="$to" 'BEGIN { d = a - 134217728; e = b - 150994944; exit !(d < 2300000 && d > -2300000 && e < 2300000 && e > -2300000) }'
[ "$(grep -c '"kind": "slow-zone"' /tmp/out)" = 1 ]
dmsetup remove slow --noudevsync
rmmod null_blk

# What one haul wrote stamped, another finds: all of it, and nothing else.
printf 'kind = "write"\nstamped = true\nblock = "256 KiB"\nregion = { from = "256 MiB" }\nuntil = { bytes = "48 MiB" }\n' | route stamp
hm haul /tmp/stamp.toml --on /dev/nvme0n1 --erase KW-0417 --json
code_is 0
haul=$(haul_id /tmp/out)
printf 'kind = "verify"\nblock = "256 KiB"\nof = "%s"\n' "$haul" | route again
hm haul /tmp/again.toml --on /dev/nvme0n1 --json
code_is 0
[ "$(number /tmp/out checked_bytes)" = 50331648 ]
[ "$(number /tmp/out wrong_bytes)" = 0 ]
# A block that somebody else wrote over is told.
dd if=/dev/zero of=/dev/nvme0n1 bs=4096 count=1 seek=65540 conv=notrunc 2>/dev/null
sync
hm haul /tmp/again.toml --on /dev/nvme0n1 --json
[ "$(number /tmp/out wrong_bytes)" = 4096 ]
has /tmp/out '"wrong": "unstamped"'
