# A drive goes in the middle of a haul, and comes back: the haul is continued where it ended.
modprobe scsi_debug dev_size_mb=64
appeared
host=$(readlink -f /sys/block/$name | sed 's,.*/\(host[0-9]*\)/.*,\1,')
serial=$(hollow-mile yard --json | grep -A4 "/dev/$name\"" | sed -n 's/.*"serial": "\(.*\)",/\1/p')
printf 'kind = "write"\nblock = "64 KiB"\ndepth = 2\nrate = "4 MB/s"\nuntil = { bytes = "40 MiB" }\n' | route w
hollow-mile haul /tmp/w.toml --on /dev/$name --erase "$serial" --json >/tmp/out 2>/tmp/err &
job=$!
recorded 20
echo 1 >/sys/block/$name/device/delete
code=0
wait $job || code=$?
cat /tmp/err
code_is 4
has /tmp/err 'is gone'
written=$(number /tmp/out written_bytes)
haul=$(haul_id /tmp/out)
echo "- - -" >/sys/class/scsi_host/$host/scan
appeared
hm haul /tmp/w.toml --on /dev/$name --erase "$serial" --continues "$haul" --json
code_is 0
rest=$(number /tmp/out written_bytes)
echo "$written and $rest"
[ $((written + rest)) -ge 41943040 ] && [ $((written + rest)) -le 44000000 ]
rmmod scsi_debug
