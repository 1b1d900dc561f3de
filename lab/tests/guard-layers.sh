# Volumes, arrays and encryption over drives: neither what carries one nor what shares its bytes is written, whatever is given up.
printf 'kind = "write"\nblock = "64 KiB"\ndepth = 4\nuntil = { bytes = "1 MiB" }\n' | route w
all=gpt,ext2,ext4,swap,lvm2,md-raid,luks,data,partitions,readers
cases=0
wrong=0
# All that is built here lies in the first 20 MiB of each.
bytes() { for d in nvme0n1 nvme1n1; do dd if=/dev/$d bs=1M count=20 2>/dev/null | md5sum; done; }
# A device that must not be written, and the reason that is given.
refused() {
    cases=$((cases + 1))
    before=$(bytes)
    hm haul /tmp/w.toml --on /dev/$1 --erase "$2" --give-up $all
    code_is 3
    has /tmp/err "$3"
    if [ "$(bytes)" != "$before" ]; then
        wrong=$((wrong + 1))
        echo "$1 was written"
        exit 1
    fi
}
# One that may be.
written() {
    cases=$((cases + 1))
    hm haul /tmp/w.toml --on /dev/$1 --erase "$2" --give-up $all --json
    code_is 0
    [ "$(number /tmp/out written_bytes)" = 1048576 ]
}
node() { echo dm-$(dmsetup info -c --noheadings -o minor $1); }
A=KW-0417
B='KW 0550'

modprobe dm-mod
[ -e /dev/md0 ] && mdadm --stop /dev/md0
dmsetup remove_all --noudevsync
for d in nvme0n1 nvme1n1; do dd if=/dev/zero of=/dev/$d bs=1M count=20 2>/dev/null; done
# Two volumes side by side on one drive, and one over another's bytes.
echo "0 8192 linear /dev/nvme0n1 0" | dmsetup create left --noudevsync
echo "0 8192 linear /dev/nvme0n1 8192" | dmsetup create right --noudevsync
dmsetup mknodes --noudevsync 2>/dev/null || true
left=$(node left)
right=$(node right)
refused nvme0n1 $A 'is built on it'
written $left $left
written $right $right
mke2fs /dev/$right
mount -o ro -t ext4 /dev/$right /mnt
written $left $left
refused $right $right 'mounted on /mnt'
refused nvme0n1 $A 'mounted on /mnt|is built on it'
umount /mnt
echo "0 4096 linear /dev/nvme0n1 4096" | dmsetup create over --noudevsync
dmsetup mknodes --noudevsync 2>/dev/null || true
over=$(node over)
refused $left $left "$over is built on it"
refused $over $over "$left is built on it"
written $right $right
losetup /dev/loop0 /dev/$right
refused $right $right 'loop0 lies over the same bytes'
written loop0 loop0
losetup -d /dev/loop0
mkswap /dev/$right >/dev/null
swapon /dev/$right
refused $right $right 'swap in use'
swapoff /dev/$right
dmsetup remove over --noudevsync
dmsetup remove left --noudevsync
dmsetup remove right --noudevsync

# Encryption over a volume: the key is nobody's.
for m in dm-crypt aes_generic ecb xts; do modprobe $m; done
key=000102030405060708090a0b0c0d0e0f101112131415161718191a1b1c1d1e1f
echo "0 16384 crypt aes-xts-plain64 $key 0 /dev/nvme0n1 0" | dmsetup create secret --noudevsync
dmsetup mknodes --noudevsync 2>/dev/null || true
secret=$(node secret)
refused nvme0n1 $A 'is built on it'
written $secret $secret
echo "0 8192 linear /dev/$secret 0" | dmsetup create inner --noudevsync
dmsetup mknodes --noudevsync 2>/dev/null || true
inner=$(node inner)
refused $secret $secret 'is built on it'
refused nvme0n1 $A 'is built on it'
written $inner $inner
dmsetup remove inner --noudevsync
dmsetup remove secret --noudevsync

# An array over both drives.
modprobe raid1
modprobe raid0
dd if=/dev/zero of=/dev/nvme0n1 bs=1M count=8 2>/dev/null
dd if=/dev/zero of=/dev/nvme1n1 bs=1M count=8 2>/dev/null
mdadm --create /dev/md0 --run --force --level=1 --metadata=1.2 --raid-devices=2 --size=8192 --assume-clean /dev/nvme0n1 /dev/nvme1n1 </dev/null
refused nvme0n1 $A 'md0 is built on it'
refused nvme1n1 "$B" 'md0 is built on it'
written md0 md0
mkswap /dev/md0
swapon /dev/md0
refused md0 md0 'swap in use'
refused nvme0n1 $A 'swap in use|is built on it'
refused nvme1n1 "$B" 'swap in use|is built on it'
swapoff /dev/md0
echo "0 8192 linear /dev/md0 0" | dmsetup create upper --noudevsync
dmsetup mknodes --noudevsync 2>/dev/null || true
refused md0 md0 'is built on it'
refused nvme1n1 "$B" 'is built on it'
written $(node upper) $(node upper)
dmsetup remove upper --noudevsync
mdadm --stop /dev/md0
# Stopped, it is held by its marks alone.
hm haul /tmp/w.toml --on /dev/nvme0n1 --erase $A
code_is 3
has /tmp/err 'give-up md-raid'
cases=$((cases + 1))

# LVM: a volume may be written beside a mounted one, its drive not.
dd if=/dev/zero of=/dev/nvme0n1 bs=1M count=8 2>/dev/null
lvm pvcreate -ff -y /dev/nvme0n1
lvm vgcreate bay /dev/nvme0n1
lvm lvcreate -y -Wn -Zn -L 8M -n one bay
lvm lvcreate -y -Wn -Zn -L 8M -n two bay
lvm vgchange -ay bay || true
dmsetup mknodes --noudevsync 2>/dev/null || true
one=$(node bay-one)
two=$(node bay-two)
mkswap /dev/$one
swapon /dev/$one
refused nvme0n1 $A 'is built on it'
refused $one $one 'swap in use'
written $two $two
swapoff /dev/$one
refused nvme0n1 $A 'is built on it'
written $one $one
lvm vgchange -an bay || dmsetup remove_all --noudevsync
hm haul /tmp/w.toml --on /dev/nvme0n1 --erase $A
code_is 3
has /tmp/err 'give-up lvm2'
cases=$((cases + 1))
echo "lab: guard, in the lab on dm, md, LVM and dm-crypt: $cases cases, $wrong wrong writes" >/dev/console
# The next test finds both drives as they were.
for d in nvme0n1 nvme1n1; do dd if=/dev/zero of=/dev/$d bs=1M count=20 conv=notrunc 2>/dev/null; done
