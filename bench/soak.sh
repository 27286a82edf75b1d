#!/usr/bin/env sh
# Mixed load and attacks, with random kills, a database that hangs and a full disk: bench/soak.sh [MINUTES].
# It ends with 0 when every revision and run that the service accepted is there and right.
set -eu
cd "$(dirname "$0")/.."
dir=$(mktemp -d "${TMPDIR:-/tmp}/ironweir-soak-XXXXXX")
trap 'rm -rf "$dir"' EXIT
chmod 755 "$dir"
go build -o "$dir/ironweir" ./cmd/ironweir
go build -o "$dir/soak" ./bench/soak
"$dir/soak" -minutes "${1:-30}" -program "$dir/ironweir" -dir "$dir"
