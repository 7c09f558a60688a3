#!/bin/sh
# Lets Pravet read and block the accounts of a text file, one a line: NAME STATE.
# Usage, in the application's file:  connect: {by: program, run: [sh, accounts.sh, accounts.txt]}
# It understands the few lines that it needs by their form; a real one reads JSON with jq.
set -eu
state=$1
field() { printf '%s\n' "$line" | sed -n "s/.*\"$1\":\"\([^\"]*\)\".*/\1/p"; }
while IFS= read -r line; do
	id=$(printf '%s\n' "$line" | sed 's/.*"id":\([0-9]*\).*/\1/')
	case $line in
	*'"ask":"accounts"'*)
		while read -r name is; do
			printf '{"id":%s,"record":{"account":"%s","state":"%s"}}\n' "$id" "$name" "$is"
		done <"$state"
		;;
	*'"verb":"suspend"'*) sed "s/^$(field account) .*/$(field account) blocked/" "$state" >"$state.new" && mv "$state.new" "$state" ;;
	*'"verb":"restore"'*) sed "s/^$(field account) .*/$(field account) open/" "$state" >"$state.new" && mv "$state.new" "$state" ;;
	*'"ask":"change"'*)
		printf '{"id":%s,"end":true,"refused":"accounts.sh blocks and opens accounts, and no more"}\n' "$id"
		continue
		;;
	esac
	printf '{"id":%s,"end":true}\n' "$id"
done
