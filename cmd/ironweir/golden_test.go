package main

import (
	"bytes"
	"context"
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the golden files anew")

// golden lists what is printed on the demo, by the name of the file that keeps it.
var golden = map[string]string{
	"check":      "check demo/kittiwake-draft.yaml",
	"mended":     "check demo/kittiwake.yaml",
	"markdown":   "check demo/kittiwake-draft.yaml -format markdown",
	"run":        "run demo/kittiwake.yaml -scenario demo/friday-evening.yaml -replications 2",
	"follow":     "follow demo/kittiwake.yaml -node consignments -fail goods-registry",
	"diff":       "diff demo/kittiwake-draft.yaml demo/kittiwake.yaml",
	"fires":      "fires demo/kittiwake.yaml -from 2026-03-28T00:00:00Z -count 3",
	"list":       "list demo/kittiwake.yaml",
	"guarantees": "guarantees demo/kittiwake.yaml",
	"paths":      "paths demo/kittiwake.yaml manifest-drop mail-relay",
	"drift":      "learn demo/import/quay-traces.jsonl -drift demo/kittiwake.yaml",
	"learn":      "learn demo/import/quay-traces.jsonl",
	"sample":     "sample demo/kittiwake.yaml book-a-lane",
	"mermaid":    "draw demo/kittiwake.yaml -format mermaid",
	"new":        "new",
}

// perSecond is what differs from machine to machine.
var perSecond = regexp.MustCompile(`events in .* \(.* a second\)`)

// TestGolden compares whole outputs with those that were looked at.
func TestGolden(t *testing.T) {
	for name, line := range golden {
		t.Run(name, func(t *testing.T) {
			args := strings.Fields(line)
			for i := range args {
				if strings.HasPrefix(args[i], "demo/") {
					args[i] = "../../" + args[i]
				}
			}
			var out, errs bytes.Buffer
			require.Less(t, Main(context.Background(), args, nil, &out, &errs), exitUsage, errs.String())
			got := perSecond.ReplaceAllString(strings.ReplaceAll(out.String(), "../../demo/", "demo/"), "events")
			file := filepath.Join("testdata", "golden", name+".txt")
			if *update {
				require.NoError(t, os.WriteFile(file, []byte(got), 0o644))
			}
			want, err := os.ReadFile(file)
			require.NoError(t, err, "run go test ./cmd/ironweir -update")
			require.Equal(t, string(want), got)
		})
	}
}
