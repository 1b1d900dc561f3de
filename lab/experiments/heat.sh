# A drive whose temperature is reckoned from what it moves: both ways are slow from 60 °C on until it is at 50 °C. It comes and goes.
paced_drive
dm_table 0 8388608 0 0
(
    # Thousandths of a kelvin: 0.16 mK for a KiB moved, and a twentieth of what it is over 25 °C goes in a second.
    heat=25000 state=fast last=$(kib_moved)
    while sleep 0.2; do
        now=$(kib_moved)
        heat=$((heat + (now - last) * 160 / 1000 - (heat - 25000) / 100))
        last=$now
        if [ $heat -ge 60000 ] && [ $state = fast ]; then state=slow; dm_table 0 8388608 12 12; fi
        if [ $heat -lt 50000 ] && [ $state = slow ]; then state=fast; dm_table 0 8388608 0 0; fi
    done
) &
keeper=$!
find_out 0
kill $keeper
says throttle
