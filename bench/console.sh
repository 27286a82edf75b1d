#!/usr/bin/env sh
# What docs/performance.md shows of the console, in headless Chromium.
# bench/console.sh [ROUNDS]
set -eu
cd "$(dirname "$0")/.."
dir=$(mktemp -d "${TMPDIR:-/tmp}/ironweir-console-XXXXXX")
trap 'rm -rf "$dir"' EXIT
chmod 755 "$dir"
make -s build
go build -o "$dir/console" ./bench/console
"$dir/console" -program bin/ironweir -dir "$dir" -rounds "${1:-5}"
