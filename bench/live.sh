#!/usr/bin/env sh
# What docs/scaling.md shows of rehearsals: events posted at a rate while people
# watch, and the memory of a rehearsal that goes on.
# bench/live.sh [RATE LENGTH WATCHERS HOLD]
set -eu
cd "$(dirname "$0")/.."
dir=$(mktemp -d "${TMPDIR:-/tmp}/ironweir-live-XXXXXX")
trap 'rm -rf "$dir"' EXIT
chmod 755 "$dir"
go build -o "$dir/ironweir" ./cmd/ironweir
go build -o "$dir/live" ./bench/live
"$dir/live" -program "$dir/ironweir" -dir "$dir" -rate "${1:-2000}" -length "${2:-30s}" -watchers "${3:-10}" -hold "${4:-0}"
