# The disk with the ledger goes in the middle of a haul: it stops, says why, and what was on the medium is there afterwards.
modprobe dm-mod
table() { echo "0 131072 $1" | dmsetup load under && dmsetup suspend --noflush --nolockfs --noudevsync under && dmsetup resume --noudevsync under; }
echo "0 131072 linear /dev/nvme0n1 0" | dmsetup create under --noudevsync
dmsetup mknodes --noudevsync 2>/dev/null || true
node=/dev/dm-$(dmsetup info -c --noheadings -o minor under)
mke2fs $node >/dev/null 2>&1
mount -t ext4 $node /mnt
export HOLLOW_MILE_HOME=/mnt/home
printf 'kind = "write"\nblock = "64 KiB"\ndepth = 4\nrate = "4 MB/s"\nuntil = { duration = "60 s" }\n' | route long
hollow-mile haul /tmp/long.toml --on /dev/nvme1n1 --erase "KW 0550" --json >/tmp/out 2>/tmp/err &
job=$!
recorded 40
sync
before=$have
table error
code=0
wait $job || code=$?
cat /tmp/err
code_is 6
has /tmp/err 'the haul was stopped because'
umount /mnt 2>/dev/null || umount -l /mnt
table "linear /dev/nvme0n1 0"
mount -t ext4 $node /mnt
hm ledger --json
code_is 0
has /tmp/out '"state": "(cut-short|stopped|failed)"'
[ "$(number /tmp/out samples)" -ge "$((before - 20))" ]
hm findings last --json
code_is 0
umount /mnt
dmsetup remove under --noudevsync
dd if=/dev/zero of=/dev/nvme0n1 bs=1M count=1 conv=notrunc 2>/dev/null
