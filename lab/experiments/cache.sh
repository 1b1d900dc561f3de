# A drive that is fast for 400 MiB and then slow for writes alone, until it is left alone; 5 MiB come back for each second
# in which nothing is written: what is folded away is folded slower than it was written.
paced_drive
dm_table 0 8388608 0 0
(
    fast=409600 had=0 state=fast last=$(kib_written)
    while sleep 0.2; do
        now=$(kib_written)
        if [ "$now" = "$last" ]; then had=$((had > 1024 ? had - 1024 : 0)); else had=$((had + now - last)); fi
        last=$now
        if [ $had -ge $fast ] && [ $state = fast ]; then state=slow; dm_table 0 8388608 0 12; fi
        if [ $had -lt $((fast - 20480)) ] && [ $state = slow ]; then state=fast; dm_table 0 8388608 0 0; fi
    done
) &
keeper=$!
find_out 450
kill $keeper
says cache-end
