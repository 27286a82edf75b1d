#!/bin/sh
# Makes docs/screenshots from the demo data: pages by the browser tests, terminal
# output as it prints at 100 columns.
set -eu
cd "$(dirname "$0")/.."
out=$PWD/docs/screenshots
IRONWEIR_SHOTS=$out go test -count=1 ./service -run 'Newcomer|Dark|Tried|FromAStarter|BehindTheNumbers|FromNothing|RehearsalOnTheBoard|BelowTheBoard' > /dev/null
tmp=$(mktemp -d)
trap 'rm -rf "$tmp"' EXIT

terminal() { # name, lines to show, command
	name=$1 lines=$2
	shift 2
	{
		printf '<!doctype html><meta charset="utf-8"><style>body{margin:0;background:#16181d;color:#e6e6e6;font:14px/1.35 "DejaVu Sans Mono",monospace;padding:16px 20px}b{color:#7fd4c1}</style><pre><b>$ ironweir %s</b>\n' "$*"
		{ ./bin/ironweir "$@" 2>&1 || true; } | head -n "$lines" | sed 's/&/\&amp;/g;s/</\&lt;/g'
	} > "$tmp/$name.html"
	chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --disable-background-networking --user-data-dir="$tmp/profile" --window-size=1280,800 --screenshot="$out/$name.png" "file://$tmp/$name.html" > /dev/null 2>&1
}
./bin/ironweir follow demo/kittiwake-draft.yaml -node tide-times -fail tide-office -format json |
	go run ./bench/looping demo/kittiwake-draft.yaml > docs/lost.svg
./bin/ironweir sensitivity demo/kittiwake.yaml -variant demo/variants/guesses.yaml -scenario demo/friday-evening.yaml -replications 1 \
	-of "run.latency['manifest-drop:departures'].p50_s" -format svg > docs/guesses.svg
terminal check 38 check demo/kittiwake-draft.yaml
terminal run 40 run demo/kittiwake-draft.yaml -scenario demo/friday-evening.yaml
terminal follow 38 follow demo/kittiwake.yaml -node consignments -fail goods-registry
terminal guarantees 40 guarantees demo/kittiwake.yaml
./bin/ironweir draw demo/kittiwake-draft.yaml -findings -format png -out "$out/draw.png"
./bin/ironweir report demo/kittiwake-draft.yaml -scenario demo/friday-evening.yaml -out "$tmp/report.html" || true # the draft falls short
chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --disable-background-networking --user-data-dir="$tmp/profile" --window-size=1280,800 --screenshot="$out/report.png" "file://$tmp/report.html" > /dev/null 2>&1
rm -f "$out/runs.png" "$out/sign-in.png" "$out/result-draft-chart.png" "$out/workbench-broken.png" "$out/rehearsal-sent.png" "$out/rehearsal-observed.png" "$out/failed.png" "$out/guarantees-console.png" "$out/witness.png" "$out/result-mended.png" "$out/workbench-dark.png" "$out/witness-order.png" # fewer than twenty are kept
