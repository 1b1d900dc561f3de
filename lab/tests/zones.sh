# A drive of zones (NVMe ZNS): what it is and what its zones are at is told.
zns=$(for d in /sys/block/nvme*; do grep -q host-managed $d/queue/zoned && basename $d; done)
[ -n "$zns" ] || { echo "no zoned namespace"; exit 1; }
echo mq-deadline >/sys/block/$zns/queue/scheduler
hm yard --json
has /tmp/out '"model": "host-managed"'
# As a test before may have left it.
printf 'kind = "wipe"\nby = "reset-zones"\n' | route empty
hm haul /tmp/empty.toml --on /dev/$zns --erase KW-0810 --give-up data
code_is 0
hm vitals /dev/$zns
code_is 0
has /tmp/out '^8 zones of 16 MiB that hold 12 MiB, host-managed, 4 open at most'
has /tmp/out '^zones now: 8 empty'
# A write goes over them, so many at once as may be open, to what each holds.
printf 'kind = "write"\nblock = "128 KiB"\ndepth = 32\nuntil = { bytes = "100 %%" }\n' | route over
hm haul /tmp/over.toml --on /dev/$zns --erase KW-0810 --json
code_is 0
[ "$(number /tmp/out written_bytes)" = $((8 * 12 * 1048576)) ] || { echo "not what the zones hold"; exit 1; }
has /tmp/out '4 zones at once'
has_not /tmp/out '"errors": [1-9]'
hm vitals /dev/$zns
has /tmp/out '^zones now: 8 full'
# Read from end to end, only what zones hold counts.
printf 'kind = "read"\nblock = "256 KiB"\ndepth = 4\nuntil = { bytes = "100 %%" }\n\n[[leg]]\nkind = "scan"\npasses = 2\n' | route through
hm haul /tmp/through.toml --on /dev/$zns --json
code_is 0
[ "$(number /tmp/out read_bytes)" = $((3 * 8 * 12 * 1048576)) ] || { echo "not three times what the zones hold"; exit 1; }
has_not /tmp/out '"errors": [1-9]'
# With gaps between, what was stamped could not be read back as one piece.
printf 'kind = "write"\nstamped = true\nuntil = { bytes = "12 MiB" }\n' | route stamped
hm haul /tmp/stamped.toml --on /dev/$zns --erase KW-0810 --give-up data
code_is 2
has /tmp/err 'does not lie in one piece'
# What cannot be done is said before anything is written, with what can be.
printf 'kind = "write"\nblock = "4 KiB"\npattern = "random"\nuntil = { bytes = "1 MiB" }\n' | route random
hm haul /tmp/random.toml --on /dev/$zns --erase KW-0810 --give-up data
code_is 2
has /tmp/err 'host-managed and take writes in sequence only'
printf 'kind = "wipe"\n' | route discard
hm haul /tmp/discard.toml --on /dev/$zns --erase KW-0810 --give-up data
code_is 2
has /tmp/err 'emptied by a reset: by = "reset-zones"'
# Zones that lie partly outside of the region stay as they are.
printf 'kind = "wipe"\nby = "reset-zones"\nregion = { from = "8 MiB", to = "56 MiB" }\n' | route reset
hm haul /tmp/reset.toml --on /dev/$zns --erase KW-0810 --give-up data --json
code_is 0
has /tmp/out 'reset, zone by zone; [0-9]+ of [0-9]+ places read back hold no data'
hm vitals /dev/$zns
has /tmp/out '^zones now: 6 full, 2 empty'
# The drive can be read in any order.
printf 'kind = "read"\nblock = "4 KiB"\npattern = "random"\ndepth = 4\nuntil = { bytes = "2 MiB" }\n' | route anywhere
hm haul /tmp/anywhere.toml --on /dev/$zns --json
code_is 0
has_not /tmp/out '"errors": [1-9]'
# By SCSI, with zones that take any write before those in sequence.
modprobe scsi_debug dev_size_mb=64 zbc=managed zone_size_mb=8 zone_nr_conv=2
appeared
echo mq-deadline >/sys/block/$name/queue/scheduler
serial=$(hollow-mile yard --json | grep -A4 "/dev/$name\"" | sed -n 's/.*"serial": "\(.*\)",/\1/p')
hm vitals /dev/$name
has /tmp/out '^8 zones of 8 MiB, host-managed'
has /tmp/out '^zones now: 6 empty, 2 conventional'
printf 'kind = "write"\nblock = "256 KiB"\ndepth = 4\nuntil = { bytes = "128 MiB" }\n' | route twice
hm haul /tmp/twice.toml --on /dev/$name --erase "$serial" --json
code_is 0
[ "$(number /tmp/out written_bytes)" = $((128 * 1048576)) ] || { echo "not twice over"; exit 1; }
hm vitals /dev/$name
has /tmp/out '^zones now: 6 full, 2 conventional'
# Without gaps it is read back as it was stamped, to the last zone, one zone written at a time.
printf 'kind = "write"\nblock = "256 KiB"\ndepth = 4\nstamped = true\nuntil = { bytes = "100 %%" }\n\n[[leg]]\nkind = "verify"\nblock = "256 KiB"\ndepth = 4\n' | route stamped
hm haul /tmp/stamped.toml --on /dev/$name --erase "$serial" --give-up data --json
code_is 0
has /tmp/out '1 zone at once'
has_not /tmp/out '"mismatches": [1-9]'
rmmod scsi_debug
# And a pretended one, whose writes at random are refused as those of any other.
modprobe null_blk nr_devices=1 gb=1 zoned=1 zone_size=64 zone_nr_conv=2 zone_max_open=2
echo mq-deadline >/sys/block/nullb0/queue/scheduler
hm vitals /dev/nullb0
has /tmp/out '^16 zones of 64 MiB, host-managed, 2 open at most'
printf 'kind = "write"\nblock = "1 MiB"\ndepth = 8\nuntil = { bytes = "100 %%" }\n' | route pretended
hm haul /tmp/pretended.toml --on /dev/nullb0 --erase nullb0 --json
code_is 0
has /tmp/out '2 zones at once'
hm vitals /dev/nullb0
has /tmp/out '^zones now: 14 full, 2 conventional'
rmmod null_blk
