# SMART and logs of the emulated NVMe and ATA drives, in their own protocols.
hm vitals /dev/nvme0n1 --json
code_is 0
has /tmp/out '"protocol": "NVMe"'
has /tmp/out '"temperature_c": [0-9.]+'
has /tmp/out '"available_spare_percent": [0-9]+'
has /tmp/out '"critical_warning": 0'
before=$(number /tmp/out host_written_bytes)
dd if=/dev/nvme0n1 of=/dev/null bs=1M count=8 2>/dev/null
hm vitals /dev/nvme0n1 --json
[ "$(number /tmp/out host_read_bytes)" -ge 8000000 ]
[ "$(number /tmp/out host_written_bytes)" -ge "$before" ]
hm vitals /dev/sda --json
code_is 0
has /tmp/out '"protocol": "ATA"'
has /tmp/out '"attributes": \['
has /tmp/out '"id": [0-9]+'
has /tmp/out '"threshold": [0-9]+'
hm vitals /dev/sda
has /tmp/out 'ATTRIBUTE +VALUE +WORST +THRESHOLD +RAW'
# The emulated ATA drive runs its short self-test at once, and keeps it in its log.
hm vitals /dev/sda --self-test short --json
code_is 0
has /tmp/err 'self-test has begun'
has /tmp/out '"kind": "short"'
# The emulated NVMe drive offers none, and says so.
hm vitals /dev/nvme0n1 --self-test short
code_is 2
has /tmp/err 'offers no self-test'
