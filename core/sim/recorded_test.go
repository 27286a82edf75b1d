package sim

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/graph"
	"ironweir/core/model"
)

// TestRecordedRunsAreTakenBeforeAnyIsDrawn: runs do what is recorded, in the order of their starts, and are drawn once
// nothing is left.
func TestRecordedRunsAreTakenBeforeAnyIsDrawn(t *testing.T) {
	m, err := model.Parse("model.yaml", []byte(`ironweir: topology/1
name: case
nodes:
  q: {kind: queue, links: {f: {retry: {tries: 2, wait: 10s}, dead-letter: dead}}}
  f: {kind: function, takes: 1ms, fails: 0%, links: {out: {}}}
  out: {kind: table}
  dead: {kind: queue}
`), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	s, err := model.ParseScenario("scenario.yaml", []byte(`ironweir: scenario/1
length: 1h
traffic: {in: {into: q, rate: 1/m, arrivals: even, max: 4}}
`), m)
	require.NoError(t, err)
	run := func(recorded ...RecordedRun) *Result {
		r, err := Run(Plan{Graph: g, Scenario: s, Inputs: Inputs{Runs: map[string][]RecordedRun{"f": recorded}}})
		require.NoError(t, err)
		return r
	}
	f := func(r *Result) *NodeResult { return &r.Nodes[1] }
	drawn := run()
	require.EqualValues(t, 4, f(drawn).Runs)
	require.Zero(t, f(drawn).Failures)
	r := run(
		RecordedRun{Takes: 3 * time.Second},
		RecordedRun{Takes: 2 * time.Second, Fails: true}, // the second message,
		RecordedRun{Takes: -1, Fails: true},              // ten seconds later, for as long as is drawn: given up
	)
	require.EqualValues(t, 5, f(r).Runs)
	require.EqualValues(t, 2, f(r).Failures)
	require.InDelta(t, 3+2+0.001*3, f(r).RunSeconds, 1e-3)
}
