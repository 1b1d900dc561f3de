# No root: a member of the group disk hauls, and reads health with two capabilities on the program.
chgrp disk /dev/nvme0n1 /dev/nvme0 /dev/sda
chmod 660 /dev/nvme0n1 /dev/nvme0 /dev/sda
cp /bin/hollow-mile /tmp/plain
cp /bin/hollow-mile /tmp/able
setcap cap_sys_admin,cap_sys_rawio+ep /tmp/able
mkdir -p /tmp/bench-home
chown bench /tmp/bench-home
as_bench() {
    code=0
    su bench -c "HOLLOW_MILE_HOME=/tmp/bench-home $*" >/tmp/out 2>/tmp/err || code=$?
    echo "+ $* -> $code"
    head -c 2500 /tmp/out
    head -c 1500 /tmp/err
}
as_bench id
has /tmp/out 'uid=1000.*disk'
for drive in /dev/nvme0n1 /dev/sda; do
    as_bench /tmp/plain vitals $drive --json
    # What is missing is named.
    cat /tmp/out /tmp/err >/tmp/both
    has /tmp/both 'CAP_SYS_(ADMIN|RAWIO)'
    as_bench /tmp/able vitals $drive --json
    code_is 0
    has /tmp/out '"(power_on_hours|host_written_bytes|temperature_c)": [0-9]+'
    has /tmp/out '"protocol": "(NVMe|ATA)'
done
printf 'kind = "write"\nblock = "64 KiB"\ndepth = 4\nuntil = { bytes = "4 MiB" }\n' | route w
chmod 644 /tmp/w.toml
as_bench /tmp/able haul /tmp/w.toml --on /dev/nvme0n1 --erase KW-0417 --json
code_is 0
has /tmp/out '"state": "done"'
# Without the group not even a read.
chgrp root /dev/nvme0n1
as_bench /tmp/able haul cache-edge --on /dev/nvme0n1 --erase KW-0417
[ "$code" = 2 ] || [ "$code" = 3 ]
has /tmp/err 'ermission'
