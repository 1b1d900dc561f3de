# A machine whose processors are busy with something else from a moment on: the drive is as it was.
paced_drive
dm_table 0 8388608 0 0
begin_write
wait_for_mb 320
for i in 1 2 3 4 5 6; do (while :; do :; done) & hogs="$hogs $!"; done
ask_and_wait
kill $hogs
says host-limit
