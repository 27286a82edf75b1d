package sim_test

import (
	"math"
	"os"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// compile reads and compiles a topology.
func compile(tb testing.TB, topology string) *graph.Graph {
	tb.Helper()
	t, err := model.Parse("model.yaml", []byte("ironweir: topology/1\nname: test\n"+topology), model.Options{})
	require.NoError(tb, err)
	g, err := graph.Compile(t)
	require.NoError(tb, err)
	return g
}

// simulate runs replication r of a scenario.
func simulate(tb testing.TB, g *graph.Graph, scenario string, r int, audit bool) *sim.Result {
	tb.Helper()
	s, err := model.ParseScenario("scenario.yaml", []byte("ironweir: scenario/1\n"+scenario), g.Topology)
	require.NoError(tb, err)
	res, err := sim.Run(sim.Plan{Graph: g, Scenario: s, Replication: r, Audit: audit})
	require.NoError(tb, err)
	return res
}

const tandem = `
nodes:
  first: {kind: queue, lease: 30d, retention: 300d, links: {cut: {retry: {tries: 3, wait: 5s}, dead-letter: aside}}}
  cut: {kind: function, takes: {dist: exponential, mean: 1s}, timeout: 30d, fails: 10%, concurrency: 1, links: {second: {}}}
  second: {kind: queue, lease: 30d, retention: 300d, links: {polish: {read: {parallel: 2}}}}
  polish: {kind: function, takes: {dist: exponential, mean: 2s}, timeout: 30d, concurrency: 2}
  aside: {kind: queue, retention: 300d}
`

const fan = `
nodes:
  news: {kind: topic, links: {q1: {}, q2: {}, q3: {}, q4: {}}}
  q1: {kind: queue, lease: 10s, retention: 300d, links: {work1: {read: {up-to: 10, parallel: 4}, retry: {tries: 3}, dead-letter: aside}}}
  work1: {kind: function, takes: {dist: exponential, mean: 1s}, timeout: 1d, fails: {each-try: 5%, per: message}, concurrency: 4}
  q2: {kind: queue, lease: 10s, retention: 300d, links: {work2: {read: {up-to: 10, parallel: 4}, retry: {tries: 3}, dead-letter: aside}}}
  work2: {kind: function, takes: {dist: exponential, mean: 1s}, timeout: 1d, fails: {each-try: 5%, per: message}, concurrency: 4}
  q3: {kind: queue, lease: 10s, retention: 300d, links: {work3: {read: {up-to: 10, parallel: 4}, retry: {tries: 3}, dead-letter: aside}}}
  work3: {kind: function, takes: {dist: exponential, mean: 1s}, timeout: 1d, fails: {each-try: 5%, per: message}, concurrency: 4}
  q4: {kind: queue, lease: 10s, retention: 300d, links: {work4: {read: {up-to: 10, parallel: 4}, retry: {tries: 3}, dead-letter: aside}}}
  work4: {kind: function, takes: {dist: exponential, mean: 1s}, timeout: 1d, fails: {each-try: 5%, per: message}, concurrency: 4}
  aside: {kind: queue, retention: 300d}
`

// measure runs one plan again and again and reports events a second, and
// allocations per event (those of setting up, some hundreds a run, included).
func measure(b *testing.B, g *graph.Graph, s *model.Scenario) {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	events := int64(0)
	for b.Loop() {
		res, err := sim.Run(sim.Plan{Graph: g, Scenario: s})
		require.NoError(b, err)
		events += res.Events
	}
	runtime.ReadMemStats(&after)
	b.ReportMetric(float64(events)/b.Elapsed().Seconds(), "events/s")
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(events), "ns/event")
	b.ReportMetric(math.Round(float64(after.Mallocs-before.Mallocs)/float64(events)*1000)/1000, "allocs/event")
}

func benchmark(b *testing.B, topology, scenario string) {
	g := compile(b, topology)
	s, err := model.ParseScenario("scenario.yaml", []byte("ironweir: scenario/1\n"+scenario), g.Topology)
	require.NoError(b, err)
	measure(b, g, s)
}

func BenchmarkTandem(b *testing.B) {
	benchmark(b, tandem, "length: 280d\ntraffic: {in: {into: first, rate: 0.8/s, max: 1000000}}\n")
}

func BenchmarkFan(b *testing.B) {
	benchmark(b, fan, "length: 12h\ntraffic: {in: {into: news, rate: 24/s, max: 500000}}\n")
}

func BenchmarkFridayEvening(b *testing.B) {
	topology, err := os.ReadFile("../../demo/kittiwake.yaml")
	require.NoError(b, err)
	scenario, err := os.ReadFile("../../demo/friday-evening.yaml")
	require.NoError(b, err)
	t, err := model.Parse("kittiwake.yaml", topology, model.Options{})
	require.NoError(b, err)
	g, err := graph.Compile(t)
	require.NoError(b, err)
	s, err := model.ParseScenario("friday-evening.yaml", scenario, t)
	require.NoError(b, err)
	s.Length *= 20 // long enough for setting up not to count
	measure(b, g, s)
}
