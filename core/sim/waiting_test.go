package sim

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim/internal/engine"
)

// TestAMessageThatWaits takes less than 100 bytes, and the handling that it had while
// it was tried is used again.
func TestAMessageThatWaits(t *testing.T) {
	const waiting = 20_000
	m, err := model.Parse("model.yaml", []byte(`ironweir: topology/1
name: waiting
nodes:
  q: {kind: queue, lease: 5s, links: {f: {read: {up-to: 10}}}}
  f: {kind: function, takes: 1s, timeout: 3s, fails: 100%}
`), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	s, err := model.ParseScenario(
		"scenario.yaml",
		[]byte("ironweir: scenario/1\nlength: 1h\ntraffic: {in: {into: q, rate: 10/s, arrivals: even, max: 20000}}\n"),
		m,
	)
	require.NoError(t, err)
	e, err := newReplication(&Plan{Graph: g, Scenario: s})
	require.NoError(t, err)
	defer e.Close()
	require.NoError(t, e.Proceed(int64(50*time.Minute), 1<<40))
	require.EqualValues(t, waiting, e.Nodes[g.NodeID("q")].Depth.Count)
	require.Greater(t, e.Nodes[g.NodeID("f")].Runs, int64(2_000))
	bytes := e.Copies.Bytes() + e.Journeys.Bytes() + e.InFlights.Bytes()
	require.Less(t, float64(bytes)/waiting, 100.0, "%d handlings", e.InFlights.Count)
}

// TestManyTimers: each run ends when its time is up, and each message when its retention
// has, however many wait at once.
func TestManyTimers(t *testing.T) {
	m, err := model.Parse("model.yaml", []byte(`ironweir: topology/1
name: timers
nodes:
  arrivals: {kind: topic, links: {f: {retry: {tries: 1}}, archive: {}}}
  f: {kind: function, takes: 10ms, timeout: 1m, links: {g: {mode: wait}}}
  g: {kind: function, takes: 1h, timeout: 2h}
  archive: {kind: queue, retention: 2m}
  aside: {kind: topic}
`), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	s, err := model.ParseScenario("scenario.yaml", []byte("ironweir: scenario/1\nlength: 10m\n"+
		"traffic: {in: {into: arrivals, rate: 2000/s, max: 30000}, on: {into: aside, rate: 1/s}}\n"), m)
	require.NoError(t, err)
	e, err := newReplication(&Plan{Graph: g, Scenario: s})
	require.NoError(t, err)
	defer e.Close()
	require.NoError(t, e.Loop())
	r, err := e.result()
	require.NoError(t, err)
	f, archive := &r.Nodes[g.NodeID("f")], &r.Nodes[g.NodeID("archive")]
	require.EqualValues(t, 30_000, f.Timeouts)
	require.Greater(t, f.ActiveMax, int64(10_000), "so many timers at once")
	require.Equal(t, int64(time.Minute), f.RunTime.Max)
	require.InDelta(t, float64(time.Minute)*30_000, f.RunTime.Sum, 1)
	require.EqualValues(t, 30_000, archive.Fates[engine.Expired])
}
