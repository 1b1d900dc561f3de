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
lookout = "225 ms"
until = { duration = "24 s" }
[[leg]]
kind = "read"
block = "64 KiB"
depth = 2
lookout = "225 ms"
until = { duration = "24 s" }
R
hm haul /tmp/look.toml --on $node --json
code_is 0
# A timer of the kernel adds a tick of 4 ms at most, the lookout rounds to a hundredth, and a busy host wakes the guest late.
said=
for what in at_rest under_load; do
    p99=$(awk -v what="\"$what\":" '$1 == what { on = 1 } on && $1 == "\"p99_us\":" { print $2 + 0; exit }' /tmp/out)
    awk -v p="$p99" 'BEGIN { exit !(p >= 194000 && p <= 230000) }' || { echo "$what: p99 $p99 µs, 200 ms to 204 ms, and late when the host is busy, wanted"; cat /tmp/out; exit 1; }
    said="$said, $p99 µs $what"
done
echo "lab: lookout, of answers that come after 200 to 204 ms: p99${said#,}" >/dev/console
dmsetup remove late --noudevsync
rmmod null_blk
