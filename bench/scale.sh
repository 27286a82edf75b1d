#!/usr/bin/env sh
# What docs/scaling.md shows: a sweep with 1, 2 and 4 workers, the API under many
# clients while runs go on, the size of the database after many runs.
# bench/scale.sh [POINTS CLIENTS RUNS]
set -eu
cd "$(dirname "$0")/.."
dir=$(mktemp -d "${TMPDIR:-/tmp}/ironweir-scale-XXXXXX")
trap 'rm -rf "$dir"' EXIT
chmod 755 "$dir"
go build -o "$dir/ironweir" ./cmd/ironweir
go build -o "$dir/scale" ./bench/scale
"$dir/scale" -program "$dir/ironweir" -dir "$dir" -points "${1:-64}" -clients "${2:-200}" -runs "${3:-1000}"
