# A drive with a volatile write cache loses power in a stamped write: what was flushed is there, what was not may be gone.
modprobe null_blk nr_devices=0
mount -t configfs config /sys/kernel/config 2>/dev/null || true
drive=/sys/kernel/config/nullb/nullb0
# Of a first try.
if [ -d $drive ]; then rmdir $drive; fi
mkdir $drive
echo 128 >$drive/size
echo 4096 >$drive/blocksize
echo 1 >$drive/memory_backed
# MiB that the cache holds: all that comes between two flushes.
echo 32 >$drive/cache_size
echo 1 >$drive/power
node=/dev/nullb0
printf 'kind = "write"\nblock = "64 KiB"\ndepth = 4\nrate = "3 MB/s"\nstamped = true\nflush_every = "4 MiB"\nuntil = { bytes = "100 %%" }\n' | route flushed
hollow-mile haul /tmp/flushed.toml --on $node --erase nullb0 --json >/tmp/out 2>/tmp/err &
job=$!
# Between the third flush and the fourth.
for i in $(seq 100); do
    sleep 0.2
    hollow-mile ledger --json >/tmp/rows 2>/dev/null || true
    [ "$(number /tmp/rows written_bytes)" -gt 13800000 ] 2>/dev/null && break
done
echo 0 >$drive/power
wait $job || true
cat /tmp/err
haul=$(haul_id /tmp/out)
written=$(number /tmp/out written_bytes)
echo 1 >$drive/power
read_back "$haul" $node
lost=$(number /tmp/out unflushed_bytes)
echo "$written written, $lost lost"
[ "$(number /tmp/out wrong_bytes)" = 0 ]
[ "$lost" -gt 65536 ] && [ "$lost" -lt 5000000 ]
[ "$((written - lost))" -ge 12582912 ]
echo 0 >$drive/power
rmdir $drive
umount /sys/kernel/config
rmmod null_blk
