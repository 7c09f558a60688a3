#!/bin/sh
# fuzz.sh TIME runs every fuzz target for that long, two at a time.
set -eu
time=${1:-5m}
cd "$(dirname "$0")/.."
grep -rl --include='*_test.go' '^func Fuzz' . | while read -r file; do
	grep -ho '^func Fuzz[A-Za-z]*' "$file" | while read -r _ name; do
		echo "$name $(dirname "$file")"
	done
done | xargs -P 2 -L 1 sh -c 'go test -run "^$" -fuzz "^$0\$" -fuzztime '"$time"' -parallel 1 -fuzzminimizetime 20x "$1" 2>&1 | tail -3 | sed "s|^|$0: |"'
