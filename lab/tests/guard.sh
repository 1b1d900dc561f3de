# What is in use, holds something or was not named is not written.
printf 'kind = "write"\nblock = "64 KiB"\ndepth = 4\nuntil = { bytes = "8 MiB" }\n' | route w
before=$(md5sum </dev/sda)
mount -o ro /dev/sda1 /mnt
hm haul /tmp/w.toml --on /dev/sda --erase KW-0601 --give-up gpt,ext4
code_is 3
has /tmp/err 'sda1 is mounted on /mnt'
hm haul /tmp/w.toml --on /dev/sda1 --erase KW-0601 --give-up ext4
code_is 3
has /tmp/err 'mounted on /mnt'
umount /mnt
hm haul /tmp/w.toml --on /dev/sda --erase KW-0601
code_is 3
has /tmp/err 'it holds gpt and ext4: to lose that, add --give-up gpt,ext4'
has /tmp/err 'It would cost: gpt 1 partition'
hm haul /tmp/w.toml --on /dev/sda --give-up gpt --erase KW-0417
code_is 3
has /tmp/err 'the serial is KW-0601'
hm haul /tmp/w.toml --on /dev/sda --give-up gpt
code_is 3
has /tmp/err 'type its serial'
# Something built on it.
modprobe dm-mod
echo "0 100000 linear /dev/nvme0n1 0" | dmsetup create over --noudevsync
hm haul /tmp/w.toml --on /dev/nvme0n1 --erase KW-0417
code_is 3
has /tmp/err 'dm-0 is built on it'
dmsetup remove over --noudevsync
# Swap.
mkswap /dev/nvme0n1 >/dev/null
swapon /dev/nvme0n1
hm haul /tmp/w.toml --on /dev/nvme0n1 --erase KW-0417 --give-up swap
code_is 3
has /tmp/err 'swap in use'
swapoff /dev/nvme0n1
hm haul /tmp/w.toml --on /dev/nvme0n1 --erase KW-0417
code_is 3
has /tmp/err 'it holds swap'
hm haul /tmp/w.toml --on /dev/nvme0n1 --erase KW-0417 --give-up swap --json
code_is 0
[ "$(number /tmp/out written_bytes)" = 8388608 ]
# Reading needs no consent, and changes nothing.
printf 'kind = "read"\nblock = "64 KiB"\ndepth = 4\nuntil = { bytes = "8 MiB" }\n' | route r
hm haul /tmp/r.toml --on /dev/sda --json
code_is 0
[ "$(number /tmp/out read_bytes)" = 8388608 ]
[ "$before" = "$(md5sum </dev/sda)" ]
# Without permission: what is missing, and what works without.
cat >/tmp/as-nobody <<'S'
hollow-mile yard --json
hollow-mile haul /tmp/r.toml --on /dev/nvme1n1 2>&1
S
chmod 777 /tmp
echo 'nobody:x:65534:65534::/tmp:/bin/sh' >/etc/passwd
su nobody -s /bin/sh -c "HOLLOW_MILE_HOME=/tmp/nobody sh /tmp/as-nobody" >/tmp/out 2>&1 || true
has /tmp/out '"serial": "KW-0417"'
has /tmp/out 'CAP_'
has /tmp/out 'nvme1n1 cannot be read: no permission'
