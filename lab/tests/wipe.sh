# A wipe is confirmed by reading.
cat >/tmp/wipe.toml <<'R'
name = "wipe"
[[leg]]
kind = "write"
until = { bytes = "16 MiB" }
[[leg]]
kind = "wipe"
R
hm haul /tmp/wipe.toml --on /dev/nvme0n1 --erase KW-0417 --json
code_is 0
has /tmp/out '1.074 GB discarded; 512 of 512 places read back hold no data'
# A drive without discard says what would do instead.
modprobe scsi_debug dev_size_mb=16
appeared
hm haul /tmp/wipe.toml --on /dev/$name --erase "$(hollow-mile yard --json | grep -A4 "/dev/$name\"" | sed -n 's/.*"serial": "\(.*\)",/\1/p')" --json
code_is 4
has /tmp/err 'knows no discard'
rmmod scsi_debug
