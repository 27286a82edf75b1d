package model_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
)

// TestNothingBehindAName empties each field of many files in turn: what comes is
// an error that names a place, or a file that can be read; never a panic.
func TestNothingBehindAName(t *testing.T) {
	var files []string
	for _, pattern := range []string{"testdata/examples/*.yaml", "../../gallery/*.yaml", "../../demo/*.yaml", "../../gallery/scenarios/*.yaml"} {
		found, err := filepath.Glob(pattern)
		require.NoError(t, err)
		files = append(files, found...)
	}
	const tasks = `ironweir: topology/1
name: tasks
nodes:
  w:
    kind: workflow
    do:
      - a: {for: {in: event.data.list}, do: [{b: {call: f}}]}
      - c: {fork: {branches: [{d: {wait: 5s}}, {e: {set: {x: 1}}}], compete: true}}
      - g: {switch: [{h: {when: "event.data.x == 1", then: end}}]}
      - i: {try: [{j: {call: f}}], catch: {errors: {with: {type: broken}}, retry: {delay: {seconds: 1}, limit: {attempt: {count: 2}, duration: {minutes: 1}}, jitter: {from: {seconds: 1}, to: {seconds: 2}}, backoff: {exponential: {}}}, do: [{k: {raise: {error: {type: worse}}}}]}}
  f: {kind: function}
`
	const arrivals = `ironweir: scenario/1
traffic:
  a: {into: f, rate: 1/s, arrivals: {burst: {on: 5m, off: 25m, rate: 400/h}}, events: [{data: {x: 1}, weight: 2}]}
  b: {into: f, arrivals: {curve: [[0h, 10/h], [8h, 90/h]]}}
  c: {into: f, arrivals: {replay: [{at: 1s, key: k, type: t, size: 1KB, data: {x: 1}}]}}
  d: {into: f, arrivals: {replay: events.jsonl}}
incidents: {x: {at: 1m, send-back: {from: f, to: f, rate: 1/s}}, y: {at: 1m, rewind: {link: "f:f", by: 1m}}}
`
	texts := []string{tasks, arrivals}
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		texts = append(texts, string(text))
	}
	m, err := model.Parse("tasks.yaml", []byte(tasks), model.Options{})
	require.NoError(t, err)
	tried := 0
	for _, text := range texts {
		root, err := model.ReadDocument("f.yaml", []byte(text))
		require.NoError(t, err)
		emptied(root, func() {
			tried++
			written := model.WriteDocument(root, nil)
			_, topology := model.Parse("f.yaml", written, model.Options{})
			_, scenario := model.ParseScenario("f.yaml", written, m)
			require.False(t, topology == nil && scenario == nil, "it is one or the other")
		})
	}
	require.Greater(t, tried, 1500)
}

// emptied calls try with each value below v emptied, one at a time.
func emptied(v *model.Value, try func()) {
	for _, in := range children(v) {
		was := *in
		*in = model.Value{Shape: model.Null, Pos: was.Pos}
		try()
		*in = was
		emptied(in, try)
	}
}

func children(v *model.Value) []*model.Value {
	out := append([]*model.Value(nil), v.Items...)
	for _, f := range v.Fields {
		out = append(out, f.Value)
	}
	return out
}
