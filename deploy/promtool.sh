#!/bin/sh
# promtool.sh DIR: puts Prometheus's promtool, which tests the alerts, into DIR. Debian's package
# is unpacked and not installed: installed, it would start a server.
set -eu
mkdir -p "$1"
to=$(cd "$1" && pwd)
dir=$(mktemp -d)
trap 'rm -rf "$dir"' EXIT
cd "$dir"
apt-get -q download prometheus 2> "$dir/error" || {
	$([ "$(id -u)" = 0 ] || echo sudo) apt-get -o DPkg::Lock::Timeout=300 update -q
	apt-get -q download prometheus
}
dpkg-deb --fsys-tarfile prometheus_*.deb | tar -x -O ./usr/bin/promtool > "$to/promtool.new"
chmod +x "$to/promtool.new"
mv "$to/promtool.new" "$to/promtool"
