# A wipe is confirmed by reading. What other tests left on the drive is none of this one's.
blkdiscard /dev/nvme0n1
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
# Zeroes are written to a region, and no further.
printf 'kind = "write"\nuntil = { bytes = "64 MiB" }\n\n[[leg]]\nkind = "wipe"\nby = "write-zeroes"\nregion = { to = "32 MiB" }\n' | route zeroes
hm haul /tmp/zeroes.toml --on /dev/nvme0n1 --erase KW-0417 --json
code_is 0
has /tmp/out '33.55 MB written with zeroes; 512 of 512 places read back hold no data'
dd if=/dev/nvme0n1 of=/tmp/beyond bs=1M skip=40 count=1 2>/dev/null
has /tmp/beyond 'HM'
# What nothing stops is agreed to by its word; then the drive formats itself, and what lay there is gone.
printf 'kind = "write"\nuntil = { bytes = "100 %%" }\n\n[[leg]]\nkind = "wipe"\nby = "format"\n' | route format
hm haul /tmp/format.toml --on /dev/nvme0n1 --erase KW-0417 --give-up data
code_is 3
has /tmp/err 'nothing stops it once it has begun: to agree, add --give-up format'
hm haul /tmp/format.toml --on /dev/nvme0n1 --erase KW-0417 --give-up data,format --json
code_is 0
has /tmp/out '1.074 GB formatted with user data erase; none of 512 places that held data reads back as before'
# What the drive does not offer is said before anything is written.
printf 'kind = "write"\nuntil = { bytes = "1 MiB" }\n\n[[leg]]\nkind = "wipe"\nby = "sanitize-crypto"\n' | route sanitize
hm haul /tmp/sanitize.toml --on /dev/nvme0n1 --erase KW-0417 --give-up data,sanitize-crypto
code_is 3
has /tmp/err 'the drive does not offer sanitize-crypto; it offers discard, write-zeroes, format'
# A drive without discard says what would do instead.
modprobe scsi_debug dev_size_mb=16
appeared
hm haul /tmp/wipe.toml --on /dev/$name --erase "$(hollow-mile yard --json | grep -A4 "/dev/$name\"" | sed -n 's/.*"serial": "\(.*\)",/\1/p')" --json
code_is 4
has /tmp/err 'knows no discard'
hm haul /tmp/format.toml --on /dev/$name --erase x --give-up data,format
code_is 3
has /tmp/err 'takes none of these commands'
rmmod scsi_debug
