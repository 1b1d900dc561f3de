# Every drive is told with who it is and whether it may be written.
hm yard --json
code_is 0
has /tmp/out '"drive": "/dev/nvme0n1"'
has /tmp/out '"serial": "KW-0417"'
has /tmp/out '"serial": "KW 0550"'
has /tmp/out '"serial": "KW-0601"'
has /tmp/out '"model": "SKERRY LAB 512M"'
has /tmp/out '"transport": "nvme"'
has /tmp/out '"transport": "ata"'
has /tmp/out '"capacity_bytes": 1073741824'
has /tmp/out '"block_bytes": 4096'
has /tmp/out 'holds gpt, ext4; may be written once that is given up'
has /tmp/out 'gpt 1 partition: ."soundings." 67'
has /tmp/out 'sda1 .* ext4 label ."archive."'
has /tmp/out '"utilization_bytes": [0-9]+'
# A namespace of 520-byte blocks has none that the kernel can address.
hm haul cache-edge --on /dev/nvme2n1 --erase KW-0520
code_is 2
has /tmp/err '520'
hm vitals /dev/null
code_is 2
has /tmp/err 'no block device'
hm vitals /dev/nvme9n1
code_is 2
has /tmp/err 'does not exist'
