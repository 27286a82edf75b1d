#!/bin/sh
# Builds what is given out: deploy/dist.sh FOLDER [OS/ARCHITECTURE…]. One static program with the console inside for
# each system, packed with the licence, Debian packages of those for Linux, and the checksums of all of them. The
# console must have been built (make console).
set -eu
folder=$1
shift
[ $# -gt 0 ] || set -- linux/amd64 linux/arm64 darwin/amd64 darwin/arm64 windows/amd64 windows/arm64
here=$(cd "$(dirname "$0")/.." && pwd)
cd "$here"
[ -f service/site/dist/index.html ] || { echo "the console has not been built: make console" >&2; exit 1; }
mkdir -p "$folder"
folder=$(cd "$folder" && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
commit=$(git rev-parse --short HEAD 2> /dev/null || echo unknown)
changed=$(git log -1 --format=%ct 2> /dev/null || echo 0)
build() { # OS ARCHITECTURE PROGRAM
	CGO_ENABLED=0 GOOS=$1 GOARCH=$2 go build -trimpath -ldflags "-s -w -X main.commit=$commit" -o "$3" ./cmd/ironweir
}
host=$work/host/ironweir
build "$(go env GOHOSTOS)" "$(go env GOHOSTARCH)" "$host"
version=$("$host" version | sed -n '1s/^[^0-9]*\([0-9][0-9.]*\).*/\1/p')
for target in "$@"; do
	os=${target%/*} architecture=${target#*/}
	name=ironweir-$version-$os-$architecture
	program=$work/$name/ironweir
	[ "$os" = windows ] && program=$program.exe
	build "$os" "$architecture" "$program"
	cp LICENSE README.md CHANGELOG.md "$work/$name/"
	# The same sources make the same bytes: times are those of the last change, owners and order are settled.
	tar -C "$work" --sort=name --owner=0 --group=0 --numeric-owner --mtime="@$changed" -cf - "$name" |
		gzip -9n > "$folder/$name.tar.gz"
	if [ "$os" = linux ] && command -v dpkg-deb > /dev/null; then
		SOURCE_DATE_EPOCH=$changed HOST_PROGRAM=$host sh deploy/debian.sh "$program" "$architecture" "$version" "$folder"
	fi
	rm -rf "${work:?}/$name"
done
cd "$folder"
sha256sum ironweir* > SHA256SUMS
