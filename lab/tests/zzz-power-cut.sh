# The machine loses power in a stamped write, its ledger on a file system: the record is there and says that it was cut short,
# and what was flushed is on the drive.
mount -t ext4 /dev/sda1 /mnt
export HOLLOW_MILE_HOME=/mnt/home
if [ -z "$LAB_AFTER" ]; then
    printf 'kind = "write"\nblock = "64 KiB"\ndepth = 4\nrate = "3 MB/s"\nstamped = true\nflush_every = "6 MiB"\nuntil = { bytes = "100 %%" }\n' | route flushed
    hollow-mile haul /tmp/flushed.toml --on /dev/nvme0n1 --erase KW-0417 --json >/tmp/out 2>/tmp/err &
    # Between the second flush and the third; the ledger's disk has had no reason to be forced for seconds then.
    for i in $(seq 100); do
        sleep 0.2
        hollow-mile ledger --json >/tmp/rows 2>/dev/null || true
        [ "$(number /tmp/rows written_bytes)" -gt 14000000 ] 2>/dev/null && break
    done
    power_cut zzz-power-cut
fi
hm ledger --json
code_is 0
has /tmp/out '"state": "cut-short"'
written=$(number /tmp/out written_bytes)
[ "$written" -ge 12582912 ]
hm findings last --json
code_is 0
haul=$(haul_id /tmp/out)
read_back "$haul" /dev/nvme0n1
[ "$(number /tmp/out wrong_bytes)" = 0 ]
[ "$(number /tmp/out checked_bytes)" -ge 12582912 ]
umount /mnt
