#!/bin/sh
# Installs the Debian packages that are named, where they are missing.
# usage: build/packages.sh PACKAGE…
set -eu

missing=
for package in "$@"; do
	dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing="$missing $package"
done
[ -n "$missing" ] || exit 0

if ! command -v apt-get >/dev/null; then
	echo "make: needed and not here:$missing. This is no Debian system: install them by its own means, then run make again." >&2
	exit 1
fi
as=
if [ "$(id -u)" -ne 0 ]; then
	if ! sudo -n true 2>/dev/null; then
		echo "make: needed and not here:$missing. Run as root: apt-get install$missing" >&2
		exit 1
	fi
	as="sudo -n"
fi
echo "make: installing$missing" >&2
export DEBIAN_FRONTEND=noninteractive
$as apt-get -q -o DPkg::Lock::Timeout=300 update >/dev/null
# shellcheck disable=SC2086
$as apt-get -q -y -o DPkg::Lock::Timeout=300 --no-install-recommends install $missing >/dev/null
