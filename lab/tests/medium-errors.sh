# Injected medium errors: sectors 4660 to 4669 cannot be read.
modprobe scsi_debug dev_size_mb=16 opts=2
appeared
printf 'kind = "read"\nblock = "4 KiB"\ndepth = 4\nuntil = { bytes = "100 %%" }\n' | route scan
hm haul /tmp/scan.toml --on /dev/$name --json
code_is 4
[ "$(number /tmp/out errors)" = 2 ] || exit 1
has /tmp/out '"position_bytes": 2383872'
has /tmp/out '"position_bytes": 2387968'
has /tmp/out 'read of 4 KiB failed: medium error'
# Neighbours that the kernel had merged with them are tried again alone, and told apart.
has /tmp/out 'failed, and a second try alone succeeded'
# Told to, it stops.
printf 'kind = "read"\nblock = "4 KiB"\ndepth = 1\nstop_after_errors = 1\nuntil = { bytes = "100 %%" }\n' | route stop
hm haul /tmp/stop.toml --on /dev/$name --json
code_is 4
has /tmp/err 'operations? failed in leg 1'
rmmod scsi_debug
