#!/bin/sh
# Makes a Debian package of a built program: deploy/debian.sh PROGRAM ARCHITECTURE VERSION FOLDER. The manual page and
# the completions come from the program HOST_PROGRAM, where PROGRAM is of another architecture.
set -eu
program=$1 architecture=$2 version=$3 folder=$4
host=${HOST_PROGRAM:-$program}
here=$(cd "$(dirname "$0")" && pwd)
root=$(mktemp -d)
trap 'rm -rf "$root"' EXIT
chmod 755 "$root"

install -D -m 755 "$program" "$root/usr/bin/ironweir"
for unit in ironweir.service ironweir-worker@.service; do
	mkdir -p "$root/usr/lib/systemd/system"
	sed 's|/usr/local/bin/|/usr/bin/|' "$here/$unit" > "$root/usr/lib/systemd/system/$unit"
done
shared=$root/usr/share
mkdir -p "$shared/man/man1" "$shared/bash-completion/completions" "$shared/zsh/vendor-completions" \
	"$shared/doc/ironweir" "$root/DEBIAN"
"$host" help -man | gzip -9n > "$shared/man/man1/ironweir.1.gz"
"$host" completion bash > "$shared/bash-completion/completions/ironweir"
"$host" completion zsh > "$shared/zsh/vendor-completions/_ironweir"
cp "$here/../LICENSE" "$shared/doc/ironweir/copyright"
gzip -9nc "$here/../CHANGELOG.md" > "$shared/doc/ironweir/changelog.gz"
cp "$here/alerts.yaml" "$shared/doc/ironweir/"
cp "$here/README.Debian" "$shared/doc/ironweir/README.Debian"
cat > "$root/DEBIAN/control" <<CONTROL
Package: ironweir
Version: $version
Architecture: $architecture
Maintainer: Iron Weir <ironweir@localhost>
Installed-Size: $(du -sk "$root/usr" | cut -f1)
Recommends: postgresql, graphviz
Section: devel
Priority: optional
Description: event topologies modelled, checked and simulated before they are built
 Iron Weir models how events travel between buckets, queues, topics, streams,
 schedules, endpoints, tables, workflows and functions. It finds where messages
 loop and where they are lost, and simulates the flow under load and faults with
 every message accounted for. The console is part of the program.
CONTROL
find "$root" -type d -exec chmod 755 {} +
find "$root/usr/share" "$root/usr/lib" "$root/DEBIAN" -type f -exec chmod 644 {} +
dpkg-deb --root-owner-group ${DEB_OPTIONS:-} --build "$root" "$folder/ironweir_${version}_$architecture.deb" > /dev/null
