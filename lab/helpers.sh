# What the tests of the lab share.
set -e

# Runs the program and keeps what it said: output in /tmp/out, errors in /tmp/err, exit code in $code.
hm() {
    code=0
    hollow-mile "$@" >/tmp/out 2>/tmp/err || code=$?
    echo "+ hollow-mile $* -> $code"
    head -c 3000 /tmp/out
    head -c 1500 /tmp/err
}

# The exit code is this.
code_is() {
    [ "$code" = "$1" ] || { echo "exit code $code, not $1"; exit 1; }
}

# A file holds this pattern.
has() {
    grep -qE -- "$2" "$1" || { echo "no \"$2\" in $1:"; head -c 6000 "$1"; exit 1; }
}

has_not() {
    if grep -qE -- "$2" "$1"; then echo "\"$2\" in $1:"; head -c 3000 "$1"; exit 1; fi
}

# A number of a JSON document: its own before that of something in it. - is standard input.
number() {
    awk -v key="\"$2\":" '$1 == key {
        v = $2
        sub(/,$/, "", v)
        if (v !~ /^[-0-9.]+$/) next
        if (first == "") first = v
        if (own == "" && $0 ~ /^  "/) own = v
    } END { if (own != "") print own; else if (first != "") print first }' "$1"
}

# Waits until the haul under way has that many samples on record, and prints how many: an emulated machine on a busy host takes
# its time, and a fixed wait is too short on one of them.
recorded() {
    for i in $(seq 200); do
        hollow-mile ledger --json >/tmp/rows 2>/dev/null || true
        have=$(awk '/"state": "running"/ { on = 1 } on && /"samples"/ { print $2 + 0; exit }' /tmp/rows)
        [ "${have:-0}" -ge "$1" ] && echo "$have samples on record" && return
        sleep 0.3
    done
    echo "no haul under way with $1 samples within a minute:"
    cat /tmp/rows
    return 1
}

# Waits until a drive that was added is there.
appeared() {
    for i in $(seq 100); do
        name=$(pretended)
        [ -b "/dev/$name" ] && [ -n "$name" ] && return
        sleep 0.1
    done
    echo "the pretended drive did not appear"
    return 1
}

# The haul that a JSON document tells of.
haul_id() {
    sed -n 's/^ *"haul": "\([0-9a-f]*\)".*/\1/p' "$1" | head -n 1
}

# Reads back what a haul wrote stamped; what is found is in /tmp/out.
read_back() {
    printf 'kind = "verify"\nof = "%s"\nblock = "64 KiB"\ndepth = 4\n' "$1" | route again
    hm haul /tmp/again.toml --on "$2" --json
    code_is 0
}

# Asks the host to say something to the emulator's monitor.
host() {
    echo "LAB-HOST $*" >/dev/console
}

# Asks the host to wake this machine so many seconds after it fell asleep.
wake_after() {
    echo "LAB-WAKE $1" >/dev/console
}

# The kernel's name of the drive that scsi_debug pretends to be.
pretended() {
    for d in /sys/block/sd*; do
        case $(readlink -f "$d") in */pseudo*) basename "$d" ;; esac
    done
}

# A route of one leg.
route() {
    {
        echo "name = \"$1\""
        echo '[[leg]]'
        cat
    } >/tmp/$1.toml
}

# A device with a stretch that answers late (dm-delay over null_blk), 128 MiB to 144 MiB of 272 MiB; its node in $node.
slow_stretch() {
    # A millisecond an operation, by timer: without it the fast part is only as steady as the emulation.
    modprobe null_blk nr_devices=1 gb=1 queue_mode=2 irqmode=2 completion_nsec=1000000
    modprobe dm-delay
    {
        echo "0 262144 linear /dev/nullb0 0"
        echo "262144 32768 delay /dev/nullb0 262144 40"
        echo "294912 262144 linear /dev/nullb0 294912"
    } | dmsetup create slow --noudevsync
    dmsetup mknodes --noudevsync 2>/dev/null || true
    node=/dev/dm-$(dmsetup info -c --noheadings -o minor slow)
}

# The machine loses power at once, with all that lies in memory and caches, and this test runs again with LAB_AFTER set.
power_cut() {
    echo "LAB-POWER-CUT $1 $LAB_COUNTS" >/dev/console
    sleep 600
}

# For the experiments: a drive of 4 GiB that takes 64 KiB in 4 ms, by timer, one at a time: 16 MB/s, which the emulation keeps up with.
paced_drive() {
    modprobe null_blk nr_devices=1 gb=4 queue_mode=2 irqmode=2 completion_nsec=4000000
    modprobe dm-delay
    echo "0 8388608 linear /dev/nullb0 0" | dmsetup create bench --noudevsync
    dmsetup mknodes --noudevsync 2>/dev/null || true
    name=dm-$(dmsetup info -c --noheadings -o minor bench)
    node=/dev/$name
}

# From this sector on, for so many, reads and writes are so many milliseconds late; the rest as they are.
dm_table() {
    {
        [ "$1" = 0 ] || echo "0 $1 linear /dev/nullb0 0"
        if [ "$3$4" = 00 ]; then
            echo "$1 $2 linear /dev/nullb0 $1"
        else
            echo "$1 $2 delay /dev/nullb0 $1 $3 /dev/nullb0 $1 $4"
        fi
        [ $(($1 + $2)) = 8388608 ] || echo "$(($1 + $2)) $((8388608 - $1 - $2)) linear /dev/nullb0 $(($1 + $2))"
    } >/tmp/table
    dmsetup reload bench --noudevsync /tmp/table && dmsetup resume bench --noudevsync
}

kib_written() { awk '{ print int($7 / 2) }' /sys/block/nullb0/stat; }
kib_moved() { awk '{ print int(($3 + $7) / 2) }' /sys/block/nullb0/stat; }

# A write over the whole drive that may look into its falls, in the background.
begin_write() {
    printf 'kind = "write"\nblock = "64 KiB"\ndepth = 1\ndecide = true\ndecide_time = "%s"\ndecide_bytes = "2 GB"\nuntil = { bytes = "100 %%" }\n' "${budget:-4 min}" | route bench
    hollow-mile haul /tmp/bench.toml --on $node --erase $name --json >/tmp/told 2>/tmp/err &
    write=$!
}

wait_for_mb() {
    for i in $(seq 600); do
        hollow-mile ledger --json >/tmp/rows 2>/dev/null || true
        [ "$(awk '$1 == "\"written_bytes\":" { print int($2 / 1000000); exit }' /tmp/rows)" -ge "$1" ] 2>/dev/null && return
        sleep 1
    done
    echo "it did not write $1 MB"; cat /tmp/err; exit 1
}

# Asks why it fell, as soon as it has, and waits for the answer.
ask_and_wait() {
    haul=$(sed -n 's/.*"haul": "\([0-9a-f]*\)".*/\1/p' /tmp/rows | head -n 1)
    for i in $(seq 120); do hollow-mile tell "$haul" find-out >/dev/null 2>&1 && break; sleep 1; done
    for i in $(seq 400); do
        hollow-mile findings "$haul" --json >/tmp/found 2>/dev/null || true
        grep -q '"causes"' /tmp/found && grep -qE '"ended": "[a-z]' /tmp/found && break
        kill -0 $write 2>/dev/null || break
        sleep 1
    done
    hollow-mile tell "$haul" stop >/dev/null 2>&1 || true
    wait $write || true
    hollow-mile findings "$haul" >/tmp/words
}

# Writes until so many MB (or nothing) are written, then finds out why it fell.
find_out() {
    begin_write
    wait_for_mb "${1:-0}"
    if [ "$1" = 0 ]; then
        # What comes and goes is looked into by itself once it did so twice.
        for i in $(seq 200); do
            hollow-mile ledger --json >/tmp/rows 2>/dev/null || true
            haul=$(sed -n 's/.*"haul": "\([0-9a-f]*\)".*/\1/p' /tmp/rows | head -n 1)
            hollow-mile findings "$haul" --json >/tmp/found 2>/dev/null || true
            grep -qE '"ended": "decided' /tmp/found && break
            kill -0 $write 2>/dev/null || break
            sleep 2
        done
        hollow-mile tell "$haul" stop >/dev/null 2>&1 || true
        wait $write || true
        hollow-mile findings "$haul" >/tmp/words
    else
        ask_and_wait
    fi
}

# The experiments end with this cause; where they come to no end, it is the likeliest of those that remain. Never another.
says() {
    cat /tmp/words
    has /tmp/found '"ended": "[a-z]'
    cause=$(awk '/"causes": \[$/ { on = 1; next } on { gsub(/[ ",]/, ""); print; exit }' /tmp/found)
    said=$(sed -n 's/.*\(Tried out[:,] .*\)/\1/p' /tmp/words | head -n 1)
    if [ -z "$cause" ]; then
        cause=$(awk '/"shares": \[/ { on = 1 } on && /"kind":/ { gsub(/.*: "|",?$/, ""); print; exit }' /tmp/found)
        said="$said $(sed -n 's/.*\(What remains: .*\)/\1/p' /tmp/words | head -n 1)"
    fi
    [ "$cause" = "$1" ] || { echo "the experiments say $cause, not $1"; cat /tmp/found; exit 1; }
    echo "lab: experiments: $1. $said" >/dev/console
    dmsetup remove bench --noudevsync
    rmmod null_blk
}
