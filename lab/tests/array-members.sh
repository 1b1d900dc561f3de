# What an array's members do in the middle of a haul, and what it moves beside what one of them moves alone.
for d in nvme0n1 nvme1n1; do dd if=/dev/zero of=/dev/$d bs=1M count=20 2>/dev/null; done
modprobe raid0
modprobe raid1
modprobe dm-mod
[ -e /dev/md0 ] && mdadm --stop /dev/md0
load='kind = "read"\nblock = "128 KiB"\ndepth = 8\nuntil = { duration = "6 s" }\nregion = { to = "192 MiB" }\n'
printf "$load" | route alone
hm haul /tmp/alone.toml --on /dev/nvme0n1
code_is 0
# Two drives striped by the device mapper.
dmsetup create pair --noudevsync --table "0 393216 striped 2 128 /dev/nvme0n1 0 /dev/nvme1n1 0"
dmsetup mknodes --noudevsync 2>/dev/null || true
pair=/dev/dm-$(dmsetup info -c --noheadings -o minor pair)
printf "$(echo "$load" | sed 's/6 s/36 s/')" | route striped
hm haul /tmp/striped.toml --on $pair --json
code_is 0
has /tmp/out '"hauled_alone": 1'
has /tmp/out '"members": 2'
for member in nvme0n1 nvme1n1; do has /tmp/out "\"name\": \"$member\""; done
hm vitals $pair
has /tmp/out 'nvme1n1 +drive'
dmsetup remove pair --noudevsync
# One that is slower than the other: the array waits for it.
modprobe null_blk nr_devices=1 gb=1 queue_mode=2 irqmode=2 completion_nsec=30000000
dmsetup create pair --noudevsync --table "0 393216 striped 2 128 /dev/nvme0n1 0 /dev/nullb0 0"
dmsetup mknodes --noudevsync 2>/dev/null || true
pair=/dev/dm-$(dmsetup info -c --noheadings -o minor pair)
printf 'kind = "read"\nblock = "64 KiB"\ndepth = 4\nuntil = { duration = "40 s" }\nregion = { to = "192 MiB" }\n' | route slow
hm haul /tmp/slow.toml --on $pair --json
code_is 0
has /tmp/out '"waits_for": "nullb0"'
dmsetup remove pair --noudevsync
rmmod null_blk
# A mirror loses a member under load: it is told when it happens, and the haul goes on.
mdadm --create /dev/md0 --run --force --level=1 --assume-clean --metadata=1.2 --raid-devices=2 --size=65536 /dev/nvme0n1 /dev/nvme1n1 </dev/null
printf 'kind = "read"\nblock = "64 KiB"\ndepth = 2\nrate = "4 MB/s"\nuntil = { duration = "12 s" }\n' | route mirror
(sleep 5; mdadm --fail /dev/md0 /dev/nvme1n1) &
hm haul /tmp/mirror.toml --on /dev/md0 --json
code_is 0
has /tmp/out 'short of 1 of its 2 members'
mdadm --stop /dev/md0
for d in nvme0n1 nvme1n1; do dd if=/dev/zero of=/dev/$d bs=1M count=4 2>/dev/null; done
