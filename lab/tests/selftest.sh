# A self-test as a leg.
printf 'kind = "selftest"\n' | route st
hm haul /tmp/st.toml --on /dev/sda --json
code_is 0
has /tmp/out '"state": "done"'
has /tmp/out 'short self-test completed without error'
hm haul /tmp/st.toml --on /dev/nvme0n1 --json
code_is 4
has /tmp/err 'offers no self-test'
