# A lookout on a drive whose every answer comes late by a known time: what it says others wait is that, at rest and under load.
modprobe null_blk nr_devices=1 gb=1 queue_mode=2
modprobe dm-delay
echo "0 262144 delay /dev/nullb0 0 200" | dmsetup create late --noudevsync
dmsetup mknodes --noudevsync 2>/dev/null || true
node=/dev/dm-$(dmsetup info -c --noheadings -o minor late)
cat >/tmp/look.toml <<'R'
name = "look"
[[leg]]
kind = "rest"
lookout = "400 ms"
until = { duration = "41 s" }
[[leg]]
kind = "read"
block = "64 KiB"
depth = 2
lookout = "400 ms"
until = { duration = "41 s" }
R
hm haul /tmp/look.toml --on $node --json
code_is 0
# A timer of the kernel adds a tick of 4 ms at most, and the lookout rounds to a hundredth.
for what in at_rest under_load; do
    p99=$(awk -v what="\"$what\":" '$1 == what { on = 1 } on && $1 == "\"p99_us\":" { print $2 + 0; exit }' /tmp/out)
    awk -v p="$p99" 'BEGIN { exit !(p >= 197000 && p <= 212000) }' || { echo "$what: p99 $p99 µs, 200 ms to 206 ms wanted"; cat /tmp/out; exit 1; }
done
dmsetup remove late --noudevsync
rmmod null_blk
