# A stretch that is slow (dm-delay over null_blk) is seen where it is.
slow_stretch
printf 'kind = "read"\nblock = "256 KiB"\ndepth = 2\nrate = "24 MB/s"\nuntil = { bytes = "100 %%" }\n' | route scan
hm haul /tmp/scan.toml --on $node --json
code_is 0
hm export last --as csv -o /tmp/scan.csv
# Rate within the stretch and before it, by position.
awk -F, '/^[0-9]/ && last { r = ($3 - was) / ($1 - last); p = $4 / 512
    if (p > 30000 && p < 250000) { before += r; nb++ }
    if (p > 268000 && p < 292000) { inside += r; ni++ } }
    /^[0-9]/ { last = $1; was = $3 }
    END { printf "%f %f\n", before / nb / 1e6, inside / ni / 1e6; exit !(inside / ni < 0.7 * before / nb) }' /tmp/scan.csv
dmsetup remove slow --noudevsync
rmmod null_blk
