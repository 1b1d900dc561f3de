# A stretch of the drive that answers late (dm-delay): the experiments say that it is the place.
paced_drive
# From 512 MiB on, for 512 MiB, 12 ms later each way.
dm_table 1048576 1048576 12 12
find_out 580
says slow-zone
