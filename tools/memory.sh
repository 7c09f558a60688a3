#!/bin/sh
# memory.sh BIN [PEOPLE ...] prints how much memory commands take at most, in MiB, at so many people, with three applications
# of CSV and one account in 23 differing.
set -eu
bin=$(realpath "$1")
shift
[ $# -gt 0 ] || set -- 100000 1000000
work=$(mktemp -d "${TMPDIR:-/tmp}/pravet-memory-XXXXXX")
trap 'rm -rf "$work"' EXIT
${GO:-go} build -o "$work/world" ./tools/world
for n; do
	"$work/world" -people "$n" -every 23 "$work/w"
	export HOME="$work/w"
	cd "$work/w"
	most() {
		/usr/bin/time -f %M -o "$work/most" "$bin" --by Farah "$@" >"$work/out" 2>"$work/err" || true
		printf '%9d people  %6d MiB  pravet %s\n' "$n" "$(($(tail -1 "$work/most") / 1024))" "$*"
	}
	most check
	most draft
	id=$(basename "$(ls plans/*.json | head -1)" .json)
	most show "$id"
	most show "$id" --full --no-pager
	most why 77
	most list accounts
	most seats
	most report access --format csv
	most ahead
	most amend set title=Mate --for 77 --write
	rm -rf plans
	most draft
	id=$(basename "$(ls plans/*.json | head -1)" .json)
	most accept "$id" --because 'all of it'
	most rehearse "$id"
	most apply "$id"
	most backout run-1
	most log verify
	cd - >/dev/null
	rm -rf "$work/w"
done
