# A command that never comes back: the kernel waits 30 s, takes it back and asks again. The haul goes on, and the record says so.
modprobe scsi_debug dev_size_mb=16 opts=4 every_nth=120
appeared
printf 'kind = "read"\nblock = "64 KiB"\ndepth = 2\nuntil = { bytes = "100 %%" }\n' | route late
hm haul /tmp/late.toml --on /dev/$name --json
code_is 0
has /tmp/out '"state": "done"'
[ "$(number /tmp/out read_bytes)" = 16777216 ]
awk '/longest_stall_s/ { gsub(",", ""); if ($2 >= 25) found = 1 } END { exit !found }' /tmp/out
has_not /tmp/out '"kind": "cache-end"'
haul=$(haul_id /tmp/out)
# While nothing comes back the record goes on.
hm export "$haul" --as csv -o /tmp/late.csv --force
rows=$(grep -c '^[0-9]' /tmp/late.csv)
[ "$rows" -gt 200 ] || { echo "$rows rows"; exit 1; }
rmmod scsi_debug
