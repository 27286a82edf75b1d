#!/usr/bin/env bash
# Runs the hand-written C of a baseline folder and the engine on the same work,
# turn by turn, and prints the ratio of their process times (medians).
# usage: bench/against-c.sh BASELINE [ROUNDS]
set -eu
base=$(cd "${1:?name the folder with w1.c, w2.c and their models}" && pwd)
rounds=${2:-5}
here=$(cd "$(dirname "$0")/.." && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
for w in w1 w2; do gcc -O3 -march=native -o "$work/$w" "$base/$w.c" -lm; done
(cd "$here" && go build -o "$work/ironweir" ./cmd/ironweir)
median() { sort -n | awk '{v[NR]=$1} END {print v[int((NR+1)/2)]}'; }
cpu() { # process time of a command, in seconds
  local TIMEFORMAT='%U %S'
  { time "$@" > "$work/out" 2>&1; } 2>&1 | awk '{print $1+$2}'
}
field() { grep -o "$1=[^ ]*" "$work/c-$w" | cut -d= -f2; }
for pair in "w1 tandem 3000000" "w2 fan 1000000"; do
  set -- $pair; w=$1; model=$2; n=$3
  : > "$work/c"; : > "$work/go"
  for _ in $(seq "$rounds"); do
    cpu "$work/$w" "$n" 1 >> "$work/c"; cp "$work/out" "$work/c-$w"
    cpu "$work/ironweir" run "$base/$model.yaml" -scenario "$base/$model.scenario.yaml" -workers 1 -format json >> "$work/go"; cp "$work/out" "$work/go-$model"
  done
  c=$(median < "$work/c"); go=$(median < "$work/go")
  awk -v m="$model" -v c="$c" -v g="$go" -v n="$n" 'BEGIN {printf "%-7s C %.0f ns/message, engine %.0f ns/message: %.2f times\n", m, c/n*1e9, g/n*1e9, g/c}'
done
# The statistics, side by side.
w=w1
echo "tandem: C mean $(field W1) + $(field W2), dead $(field dead), e2e p99 $(field p99)"
python3 - "$work/go-tandem" "$work/go-fan" <<'P' 2>/dev/null || grep -E '"(mean|p99|parked)"' "$work/go-tandem" | head -20
import json, sys
t, f = (json.load(open(p)) for p in sys.argv[1:3])
print("tandem: engine mean time in first %.4f, second %.4f, dead %d, e2e p99 %.3f" % (t["nodes"]["first"]["time_s"]["mean"], t["nodes"]["second"]["time_s"]["mean"], t["nodes"]["aside"]["copies"], t["latency"]["first:polish"]["p99_s"]))
print("fan: engine mean time in q1 %.4f, p99 %.3f, dead %d" % (f["nodes"]["q1"]["time_s"]["mean"], f["nodes"]["q1"]["time_s"]["p99"], f["nodes"]["aside"]["copies"]))
P
w=w2
echo "fan: C mean $(field mean), p99 $(field p99), dead $(field dead)"
