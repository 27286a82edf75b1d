package otlp_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/learn"
	"ironweir/core/model"
)

// TestHoursPutTogetherAgreeWithTheWhole: traces summed up hour by hour, kept as text and put together again, show
// the same drift as all spans at once, and offer the same links but for the most concurrent runs, which are the most
// of any hour.
func TestHoursPutTogetherAgreeWithTheWhole(t *testing.T) {
	m, spans := traces(t, system, 5000)
	began := map[string]int64{}
	for _, s := range spans {
		if at, ok := began[s.Trace]; !ok || s.Start < at {
			began[s.Trace] = s.Start
		}
	}
	hours := map[int64][]learn.Span{}
	for _, s := range spans {
		hour := began[s.Trace] / int64(time.Hour)
		hours[hour] = append(hours[hour], s)
	}
	require.Greater(t, len(hours), 5)
	var kept []*learn.Summary
	for _, some := range hours {
		text, err := json.Marshal(learn.Observe(some).Summary())
		require.NoError(t, err)
		s := &learn.Summary{}
		require.NoError(t, json.Unmarshal(text, s))
		kept = append(kept, s)
	}
	whole, together := learn.Observe(spans), learn.Together(kept...)
	require.Equal(t, whole.Spans, together.Spans)
	require.Equal(t, whole.From, together.From)
	require.Equal(t, whole.Until, together.Until)
	require.Len(t, together.Links, len(whole.Links))
	for key, l := range whole.Links {
		have := together.Links[key]
		require.Equal(t, l.Messages, have.Messages, key)
		require.Equal(t, l.PerRun, have.PerRun, key)
		require.Equal(t, l.Tries, have.Tries, key)
	}
	for name, n := range whole.Nodes {
		have := together.Nodes[name]
		require.Equal(t, n.Kind, have.Kind, name)
		require.Equal(t, n.Runs, have.Runs, name)
		require.Equal(t, n.Failures, have.Failures, name)
		require.Equal(t, n.Timed.Count, have.Timed.Count, name)
		require.InDelta(t, n.Timed.Mean(), have.Timed.Mean(), 1e-9, name)
	}
	require.True(t, together.Drift(m).None(), "%+v", together.Drift(m))
	require.True(t, together.SureDrift(m).None())

	without, err := model.Parse("m.yaml", []byte("ironweir: topology/1\nname: system\nnodes:\n  drop: {kind: bucket}\n"),
		model.Options{})
	require.NoError(t, err)
	all, parts := whole.Drift(without), together.Drift(without)
	require.Equal(t, all, parts)
	patch, _ := whole.Update(without, all)
	again, _ := together.Update(without, parts)
	links := func(node *model.Value) any {
		if node.Get("links") == nil {
			return nil
		}
		out := node.Get("links").Plain().(map[string]any)
		for _, l := range out {
			delete(l.(map[string]any), "read")
		}
		return out
	}
	for _, f := range patch.Get("nodes").Fields {
		require.Equal(t, links(f.Value), links(again.Get("nodes").Get(f.Key)), f.Key)
	}
}
