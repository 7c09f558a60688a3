#!/bin/sh
# need.sh COMMAND:PACKAGE ... makes sure that commands (or files) are there, by
# Debian's packages where they are not.
set -eu
missing=
for pair in "$@"; do
	command=${pair%%:*} package=${pair##*:}
	case $command in
	/*) [ -e "$command" ] && continue ;;
	*) command -v "$command" >/dev/null && continue ;;
	esac
	missing="$missing $package"
done
[ -z "$missing" ] && exit 0
if ! command -v apt-get >/dev/null; then
	echo "These packages are needed, and apt-get is not here to install them:$missing" >&2
	exit 1
fi
if [ "$(id -u)" != 0 ]; then
	echo "These packages are needed; install them first: sudo apt-get install$missing" >&2
	exit 1
fi
echo "Installing$missing"
apt-get update -qq >/dev/null
# shellcheck disable=SC2086
DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
