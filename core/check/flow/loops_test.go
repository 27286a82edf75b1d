package flow

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// drawLoop makes a random loop: a queue or bucket into which outsiders send, a
// few queues and functions in a row, back to the first, with a short cut and
// what does not come back beside it.
func drawLoop(t *rapid.T) (text string, gain float64) {
	n := rapid.IntRange(1, 3).Draw(t, "stages")
	var b strings.Builder
	b.WriteString("nodes:\n")
	gain = 1
	for i := range n {
		if i == 0 && rapid.Bool().Draw(t, "bucket") {
			fmt.Fprintf(
				&b,
				"  n0: {kind: bucket, keys: [\"in/{seq}.csv\"], notice: 3s, links: {f0: {match: {prefix: in/, suffix: .csv}}}}\n",
			)
		} else {
			fmt.Fprintf(&b, "  n%d: {kind: queue, delay: %ds, links: {f%d: {read: {parallel: 4000}}}}\n", i, rapid.IntRange(0, 10).Draw(t, "delay"), i)
		}
		takes := rapid.SampledFrom(
			[]string{
				"2s",
				"{dist: exponential, mean: 4s}",
				"{dist: uniform, min: 1s, max: 9s}",
				"{dist: gamma, mean: 5s, cv: 0.5}",
				"{dist: lognormal, p50: 2s, p95: 8s}",
			},
		).Draw(
			t,
			"takes",
		)
		chance := rapid.SampledFrom([]string{"50%", "80%", "100%"}).Draw(t, "chance")
		count := rapid.SampledFrom([]int{1, 1, 2}).Draw(t, "count")
		key := rapid.SampledFrom([]string{"in/{stem}.csv", "{key}"}).Draw(t, "key")
		fmt.Fprintf(
			&b,
			"  f%d: {kind: function, takes: %s, links: {on: {to: n%d, chance: %s, count: %d, key: \"%s\"}, log: {to: shelf, key: \"out/{stem}\"}}}\n",
			i,
			takes,
			(i+1)%n,
			chance,
			count,
			key,
		)
		share, err := model.ParseShare(chance)
		require.NoError(t, err)
		gain *= share * float64(count)
	}
	b.WriteString("  shelf: {kind: bucket}\n")
	return b.String(), gain
}

// sendInto runs a model with so many messages that all come into its first node
// within a second, and gives what came to that node.
func sendInto(t *rapid.T, g *graph.Graph, messages int64, length time.Duration) (came int64, stopped string) {
	s := model.DefaultScenario()
	s.Length, s.TrafficGiven = length, true
	s.Traffic = []*model.Traffic{
		{Name: "u", Into: "n0", Rate: float64(messages), Arrivals: "even", Max: messages, Key: "in/{seq}.csv"},
	}
	res, err := sim.Run(sim.Plan{Graph: g, Scenario: s, Limits: sim.Limits{Events: 3_000_000}})
	require.NoError(t, err)
	return res.Nodes[0].Copies, res.Stopped
}

// TestLoopsGoRoundAsPredicted simulates random loops: those that die out go round
// as often as their gain says, those that grow grow at the rate foretold, and what
// sustains itself goes on.
func TestLoopsGoRoundAsPredicted(t *testing.T) {
	trends := map[string]int{}
	rapid.Check(t, func(t *rapid.T) {
		text, gain := drawLoop(t)
		g := compiled(t, text)
		s := model.DefaultScenario()
		s.TrafficGiven = true
		s.Traffic = []*model.Traffic{{Name: "u", Into: "n0", Rate: 1, Arrivals: "even", Key: "in/{seq}.csv"}}
		a := Analyse(g, s)
		require.Len(t, a.Loops, 1, text)
		l := a.Loops[0]
		require.Equal(t, "certain", l.Verdict, text)
		require.NotNil(t, l.Gain[0], text)
		require.InDelta(t, gain, *l.Gain[0], 1e-9, text)
		require.InDelta(t, gain, *l.Gain[1], 1e-9, text)
		trends[l.Trend]++
		switch l.Trend {
		case "dies-out":
			const n = 2000
			came, stopped := sendInto(t, g, n, 24*time.Hour)
			require.Empty(t, stopped)
			// All that descend from one: mean 1/(1−R), variance σ²/(1−R)³, and σ² of
			// the return is at most 8R here (up to eight for one).
			spread := 5 * math.Sqrt(n*8*gain/math.Pow(1-gain, 3))
			require.InDelta(t, n/(1-gain), float64(came), spread, text)
		case "sustains":
			came, stopped := sendInto(t, g, 10, 10*time.Hour)
			require.Empty(t, stopped)
			if !strings.Contains(text, "50%") { // else each dies out by chance, and only the mean goes on
				require.Greater(t, came, int64(1000), text)
			}
		case "grows":
			// Between two instants far from the start it grows by e^(sΔ). Where all
			// delays are constant it comes in steps, so Δ is many doublings.
			double := *l.Doubling.Seconds
			from, to := time.Duration(3*double*1e9)+time.Second, time.Duration(9*double*1e9)+time.Second
			early, stopped := sendInto(t, g, 40, from)
			require.Empty(t, stopped)
			late, stopped := sendInto(t, g, 40, to)
			if stopped != "" {
				t.Skip("too much")
			}
			got := math.Log2(float64(late)/float64(early)) / 6
			require.InDelta(t, 1, got, 0.17, "%s\ndoubles every %g s: %d, then %d", text, double, early, late)
		}
	})
	require.Greater(t, trends["dies-out"], 20)
	require.Greater(t, trends["sustains"], 3)
	require.Greater(t, trends["grows"], 20)
}

// TestLimitsOfGrowingLoops compares when a loop meets its limit with when the
// engine first turns a run away.
func TestLimitsOfGrowingLoops(t *testing.T) {
	for _, c := range []struct{ takes, back, rate string }{
		{"2s", "count: 2", "1/s"},
		{"{dist: exponential, mean: 3s}", "count: 2, chance: 80%", "2/s"},
		{"{dist: lognormal, p50: 2s, p95: 5s}", "count: 3", "6/m"},
		{"4s", "count: 1", "1/s"}, // sustains itself: it fills up evenly
	} {
		text := fmt.Sprintf(
			"ironweir: topology/1\nname: limit\nprices: {currency: GBP, runs: 1}\nnodes:\n  b: {kind: bucket, notice: 3s, keys: [\"{seq}\"], rate: %s, links: {f: {}}}\n  f: {kind: function, takes: %s, concurrency: 400, links: {back: {to: b, %s, key: \"{key}\"}}}\n",
			c.rate,
			c.takes,
			c.back,
		)
		m, err := model.Parse("m", []byte(text), model.Options{})
		require.NoError(t, err)
		g, err := graph.Compile(m)
		require.NoError(t, err)
		limit := Analyse(g, nil).Loops[0].Limit
		require.NotNil(t, limit)
		require.Equal(t, "f", limit.Node)
		after := *limit.After.Seconds
		turnedAway := func(length float64) int64 {
			s := model.DefaultScenario()
			s.Length = time.Duration(length * 1e9)
			res, err := sim.Run(sim.Plan{Graph: g, Scenario: s})
			require.NoError(t, err)
			return res.Nodes[g.NodeID("f")].Throttled
		}
		const round = 9 // seconds, with room
		require.Zero(t, turnedAway(after*0.9-round), "%s: limit after %g s", c.takes, after)
		require.NotZero(t, turnedAway(after*1.1+round), "%s: limit after %g s", c.takes, after)
		require.InEpsilon(t, *limit.Runs*3600, *limit.Cost, 1e-9) // one pound a run
	}
}

// TestBrokenLoopsNeverGoRound simulates random cycles of which one filter declines
// what comes back: by prefix, by suffix, or since nothing of that type is sent.
func TestBrokenLoopsNeverGoRound(t *testing.T) {
	verdicts := map[string]int{}
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 3).Draw(t, "stages")
		match := rapid.SampledFrom(
			[]string{
				"{prefix: in/}",
				"{suffix: .csv}",
				"{prefix: in/, suffix: .csv}",
				"[{prefix: in/, suffix: .csv}, {prefix: by-hand/}]",
			},
		).Draw(
			t,
			"match",
		)
		key := rapid.SampledFrom([]string{"out/{stem}.pdf", "done/{seq}.txt", "x.in"}).Draw(t, "key")
		var b strings.Builder
		fmt.Fprintf(&b, "nodes:\n  n0: {kind: bucket, keys: [\"in/{seq}.csv\"], links: {f0: {match: %s}}}\n", match)
		for i := range n {
			back := fmt.Sprintf("on: {to: n%d, count: %d}", i+1, rapid.IntRange(1, 2).Draw(t, "count"))
			if i == n-1 {
				back = fmt.Sprintf("on: {to: n0, key: %q}", key)
			}
			fmt.Fprintf(&b, "  f%d: {kind: function, takes: 1s, links: {%s}}\n", i, back)
			if i > 0 {
				fmt.Fprintf(&b, "  n%d: {kind: queue, links: {f%d: {read: {parallel: 50}}}}\n", i, i)
			}
		}
		g := compiled(t, b.String())
		a := Analyse(g, nil)
		require.Len(t, a.Loops, 1, b.String())
		verdicts[a.Loops[0].Verdict]++
		require.Equal(t, "broken", a.Loops[0].Verdict, b.String())
		s := model.DefaultScenario()
		s.Length, s.TrafficGiven = time.Hour, true
		s.Traffic = []*model.Traffic{{Name: "u", Into: "n0", Rate: 1, Arrivals: "even", Max: 50, Key: "in/{seq}.csv"}}
		res, err := sim.Run(sim.Plan{Graph: g, Scenario: s, Limits: sim.Limits{Events: 100_000}})
		require.NoError(t, err)
		require.Equal(
			t,
			int64(50),
			res.Nodes[g.NodeID("f0")].Runs,
			"what comes back is not taken again\n%s",
			b.String(),
		)
	})
	require.Greater(t, verdicts["broken"], 50)
}
