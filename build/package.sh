#!/bin/sh
# Makes a Debian package of bin/freshseal.
# usage: build/package.sh OUT-FOLDER
set -eu

out=$1
version=$(bin/freshseal --version | sed 's/^freshseal version \([^,]*\).*/\1/')
arch=$(dpkg --print-architecture)
root=$(mktemp -d)
trap 'rm -rf "$root"' EXIT
chmod 0755 "$root"

install -D -m 0755 bin/freshseal "$root/usr/bin/freshseal"
install -D -m 0644 build/debian/freshseal.service "$root/lib/systemd/system/freshseal.service"
install -D -m 0644 build/debian/serve.yaml "$root/etc/freshseal/serve.yaml"
for doc in docs/*.md; do
	install -D -m 0644 "$doc" "$root/usr/share/doc/freshseal/$(basename "$doc")"
done
go run ./build/manpages "$root"
mkdir "$root/DEBIAN"
echo /etc/freshseal/serve.yaml >"$root/DEBIAN/conffiles"
cat >"$root/DEBIAN/control" <<CONTROL
Package: freshseal
Version: $version
Architecture: $arch
Maintainer: Fresh Seal <maintainers@freshseal.invalid>
Section: net
Priority: optional
Installed-Size: $(du -sk "$root" | cut -f1)
Description: replaces the certificates of a fleet of devices
 A service with a console in the browser and a client for the terminal. It has
 each device make its key and request, has the request signed, puts the chain on
 the device and proves the result on the wire.
CONTROL
mkdir -p "$out"
dpkg-deb --root-owner-group --build "$root" "$out/freshseal_${version}_$arch.deb"
