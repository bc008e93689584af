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
echo "installing:$missing"
if ! command -v apt-get >/dev/null 2>&1; then
	echo "setup.sh: please install these with this system's package manager" >&2
	exit 1
fi
root=
[ "$(id -u)" = 0 ] || root=sudo
$root apt-get -qq update
DEBIAN_FRONTEND=noninteractive $root apt-get -qq install -y $missing >/dev/null
