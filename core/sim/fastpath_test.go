package sim_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
)

// bothWays runs a model by the general way alone and with what shortens it: the
// results must be the same, but for the events that are saved.
func bothWays(t *rapid.T, topology, scenario string) (fast int64) {
	text := "ironweir: topology/1\nname: random\n" + topology
	m, err := model.Parse("random.yaml", []byte(text), model.Options{})
	if err != nil {
		t.Skip(err.Error()) // two kinds that cannot be joined
	}
	g, err := graph.Compile(m)
	require.NoError(t, err)
	s, err := model.ParseScenario("s.yaml", []byte("ironweir: scenario/1\n"+scenario), m)
	require.NoError(t, err, scenario)
	var results []string
	for _, general := range []bool{true, false} {
		res, err := sim.Run(
			sim.Plan{Graph: g, Scenario: s, DisableFastPath: general, Limits: sim.Limits{Events: 60_000}},
		)
		require.NoError(t, err, text)
		if res.Stopped != "" {
			t.Skip("it grows")
		}
		fast += res.FastPathRuns
		require.False(t, general && res.FastPathRuns > 0)
		res.Events = 0
		doc, err := study.Merge(g, s, []*sim.Result{res}, document.Head{})
		require.NoError(t, err)
		lines, err := json.MarshalIndent(doc, "", " ")
		require.NoError(t, err)
		results = append(results, string(lines))
	}
	require.Equal(t, results[0], results[1], text+scenario)
	return fast
}

// TestFastPathChangesNothing in random topologies of every kind.
func TestFastPathChangesNothing(t *testing.T) {
	fast := int64(0)
	rapid.Check(t, func(t *rapid.T) { fast += bothWays(t, drawTopology(t), drawScenario(t)) })
	require.Greater(t, fast, int64(1000), "runs on the fast path")
}

// drawPlain makes a topology of what is shortened most: topics that hand on to
// queues, queues that one link empties by messages or batches, functions that only
// work and send on; with ties, and here and there something out of the ordinary.
func drawPlain(t *rapid.T) string {
	pick := func(label string, options ...string) string { return rapid.SampledFrom(options).Draw(t, label) }
	var b strings.Builder
	b.WriteString("nodes:\n  desk: {kind: queue, retention: 1m}\n  rows: {kind: table}\n")
	queues := rapid.IntRange(1, 4).Draw(t, "queues")
	fmt.Fprintf(&b, "  news: {kind: topic, duplicates: %s, links: {", pick("twice", "0%", "0%", "0%", "20%"))
	for i := range queues {
		fmt.Fprintf(&b, "q%d: {%s}, ", i, pick("filter", "", "", "", "", "match: {suffix: .b}"))
	}
	b.WriteString("}}\n")
	for i := range queues {
		fmt.Fprintf(
			&b,
			"  q%d: {kind: queue, lease: %s, retention: %s%s, links: {w%d: {read: {up-to: %s, parallel: %s%s}, retry: %s%s}}}\n",
			i,
			pick(
				"lease",
				"3s",
				"10s",
				"1h",
			),
			pick("kept", "15s", "1h"),
			pick("more", "", "", "", ", delay: 1s", ", capacity: 4"),
			i,
			pick(
				"up-to",
				"1",
				"1",
				"3",
				"10",
			),
			pick("parallel", "1", "2", "70"),
			pick("within", "", "", ", within: 2s", ", failed: all"),
			pick(
				"again",
				"{}",
				"{tries: 2}",
				"{tries: 3, wait: 1s}",
				"{tries: 4, give-up: 8s}",
			),
			pick("dead", "", ", dead-letter: desk"),
		)
		next := pick(
			"next",
			"",
			"rows: {}",
			fmt.Sprintf("q%d: {}", (i+1)%queues),
			"news: {chance: 30%}",
			"rows: {}, desk: {}",
		)
		fmt.Fprintf(
			&b,
			"  w%d: {kind: function, takes: %s, fails: %s, timeout: %s, concurrency: %s, links: {%s}}\n",
			i,
			pick("takes", "0s", "1s", "500ms", "{dist: exponential, mean: 1s}", "{dist: exponential, mean: 4s}"),
			pick(
				"fails",
				"0%",
				"10%",
				"{each-try: 20%, per: message}",
				"{each-try: 5%, for-good: 5%}",
			),
			pick("timeout", "5s", "45s"),
			pick("concurrency", "1", "2", "50"),
			next,
		)
	}
	return b.String()
}

// TestPlainQueuesAndTopicsGoTheSameWay by the general way and the shortened.
func TestPlainQueuesAndTopicsGoTheSameWay(t *testing.T) {
	fast := int64(0)
	rapid.Check(t, func(t *rapid.T) {
		arrivals := func() string { return rapid.SampledFrom([]string{"poisson", "even"}).Draw(t, "arrivals") }
		fast += bothWays(t, drawPlain(t), fmt.Sprintf(`length: 2m
warm-up: %s
seed: %d
traffic:
  a: {into: news, rate: 1/s, arrivals: %s}
  b: {into: q0, rate: 0.5/s, arrivals: %s}
  c: {into: news, rate: 0.5/s, arrivals: even, key: "x/{seq}.b"}
incidents:
  down: {at: 20s, for: 10s, node: q0, fails: 100%%}
  out: {at: 35s, for: 10s, node: w0, fails: 100%%}
  slow: {at: 50s, for: 10s, node: w0, slow: 5}
  stuck: {at: 65s, for: 10s, link: "news:q0", paused: true}
  idle: {at: 80s, for: 10s, link: "q0:w0", paused: true}
  back: {at: 100s, send-back: {from: desk, to: news, rate: 1/s}}
`, rapid.SampledFrom([]string{"0s", "30s"}).Draw(t, "warm-up"), rapid.Uint64Range(1, 1000).Draw(t, "seed"), arrivals(), arrivals()))
	})
	require.Greater(t, fast, int64(1000), "runs on the fast path")
}
