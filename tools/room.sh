#!/bin/sh
# Prints a folder in memory for what tests write, where there is one with room from which programs can be run, and nothing
# else: tests write many small files, and what they are about is not the disk.
set -eu
room=/dev/shm
free=$(df -Pk "$room" 2>/dev/null | awk 'NR == 2 { print $4 }')
[ -n "$free" ] && [ "$free" -gt 4000000 ] || exit 0
try=$(mktemp -d "$room/pravet-XXXXXX" 2>/dev/null) || exit 0
trap 'rm -rf "$try"' EXIT
printf '#!/bin/sh\n' >"$try/run" && chmod +x "$try/run" && "$try/run" 2>/dev/null && echo "$room"
exit 0
