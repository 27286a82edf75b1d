package sensitivity

import (
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/study"
)

func options(t *testing.T, nodes, expect string) Options {
	t.Helper()
	m, err := model.Parse("lane", []byte("ironweir: topology/1\nname: lane\nnodes:\n"+nodes), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	s, err := model.ParseScenario("s", []byte("ironweir: scenario/1\nname: hour\nlength: 1h\n"+expect), m)
	require.NoError(t, err)
	return Options{Graph: g, Plan: study.Plan{Scenario: s}, Points: 16, Workers: 2}
}

const lane = `
  lane: {kind: topic, rate: 6/m, links: {weigh: {}, stamp: {}}}
  weigh: {kind: function, takes: {guess: 1s, range: [500ms, 2s]}}
  stamp: {kind: function, takes: {guess: 300ms}, retry: {tries: {guess: 3, range: [1, 5]}}}
`

// TestAGuessThatCannotMatter has no effect and no share; the one that is the result has
// all of it, and the expectation turns where it says.
func TestAGuessThatCannotMatter(t *testing.T) {
	doc, err := Find(options(t, lane, `expect: {quick: "run.nodes['weigh'].run_time_s.mean < 1.4"}`))
	require.NoError(t, err)
	require.InDelta(t, 1, doc.Value, 0.01)
	require.True(t, *doc.Holds)
	require.Len(t, doc.Inputs, 3)
	first := doc.Inputs[0]
	require.Equal(t, "nodes.weigh.takes", first.Path)
	require.Equal(t, [2]string{"500ms", "2s"}, first.Range)
	require.InDelta(t, 1, first.Share.Total, 0.01)
	require.InDelta(t, 0.5, first.Values[0], 0.01)
	require.InDelta(t, 2, first.Values[1], 0.01)
	turns, err := model.ParseDuration(*first.TurnsAt)
	require.NoError(t, err)
	require.InDelta(t, 1.4, turns.Seconds(), 0.02)
	for _, in := range doc.Inputs[1:] {
		require.Zero(t, in.Effect.Size, in.Path)
		require.Nil(t, in.Share, "screened out")
		require.Nil(t, in.TurnsAt)
	}
	require.Equal(t, [2]string{"150ms", "600ms"}, doc.Inputs[1].Range, "half to double, where no range is stated")
}

// TestTheSameTwice gives the same numbers, however many runs go on at once.
func TestTheSameTwice(t *testing.T) {
	o := options(t, lane, "")
	o.Of = []string{"run.nodes['stamp'].run_time_s.mean", "run.nodes['weigh'].run_time_s.max"}
	one, err := Find(o)
	require.NoError(t, err)
	o.Workers = 1
	two, err := Find(o)
	require.NoError(t, err)
	require.Equal(t, one, two)
	require.Len(t, one.Others, 1)
	require.Equal(t, "nodes.stamp.takes", one.Inputs[0].Path)
	require.Equal(t, "nodes.weigh.takes", one.Others[0].Inputs[0].Path)
	require.Nil(t, one.Holds)
}

// TestNothingToLookAt says what is missing.
func TestNothingToLookAt(t *testing.T) {
	_, err := Find(options(t, "\n  lane: {kind: topic, rate: 1/s, links: {weigh: {}}}\n  weigh: {kind: function}\n", ""))
	require.ErrorContains(t, err, "marks no number as a guess")
	_, err = Find(options(t, lane, ""))
	require.ErrorContains(t, err, "nothing to look at")
	o := options(t, lane, "")
	o.Of = []string{"run.ledger.copies"}
	o.Stop = func() bool { return true }
	doc, err := Find(o)
	require.NoError(t, err)
	require.True(t, doc.Partial)
}
