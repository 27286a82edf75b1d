package sim

import (
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/graph"
	"ironweir/core/model"
)

// TestRecordsAreFoundAgain, whether they lie in reserved address space or in a slice
// that grows.
func TestRecordsAreFoundAgain(t *testing.T) {
	var s space
	defer s.free()
	reserved := newRecords[journey](&s)
	grown := recordsIn[journey](nil)
	for name, r := range map[string]*records[journey]{"reserved": &reserved, "grown": &grown} {
		for range 5000 {
			i := r.add()
			r.at(i).born = int64(i)
		}
		require.EqualValues(t, 5001, r.count, name)
		for i := range r.count {
			require.EqualValues(t, i, r.at(i).born, name)
		}
		require.GreaterOrEqual(t, r.bytes(), int64(5001*32), name)
	}
	if runtime.GOOS == "linux" {
		require.Len(t, s.regions, 1)
		require.Less(t, reserved.bytes(), int64(5100*32))
	}
}

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
	e, err := newEngine(&Plan{Graph: g, Scenario: s})
	require.NoError(t, err)
	defer e.close()
	require.NoError(t, e.proceed(int64(50*time.Minute), 1<<40))
	require.EqualValues(t, waiting, e.nodes[g.NodeID("q")].depth.count)
	require.Greater(t, e.nodes[g.NodeID("f")].runs, int64(2_000))
	bytes := e.copies.bytes() + e.journeys.bytes() + e.inFlights.bytes()
	require.Less(t, float64(bytes)/waiting, 100.0, "%d handlings", e.inFlights.count)
}
