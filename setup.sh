#!/bin/sh
# setup.sh PROGRAM[:PACKAGE]... installs, with Debian's package manager, what
# has programs that are not here. It does nothing when all are.
set -e
PATH=$PATH:/usr/sbin
missing=
for want do
	program=${want%%:*} package=${want#*:}
	command -v "$program" >/dev/null 2>&1 || missing="$missing $package"
done
[ -n "$missing" ] || exit 0
if ! command -v apt-get >/dev/null 2>&1; then
	echo "setup.sh: please install these with this system's package manager:$missing" >&2
	exit 1
fi
root=
[ "$(id -u)" = 0 ] || root=sudo
export DEBIAN_FRONTEND=noninteractive
tell=$(dirname "$0")/tell.sh
"$tell" "Reading the lists of packages" $root apt-get update
"$tell" "Installing:$missing" $root apt-get install -y $missing
