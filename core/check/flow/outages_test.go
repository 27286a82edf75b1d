package flow

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// TestOutageBudgetsAgreeWithTheEngine: an outage 5% shorter than its budget parks
// (loses) nothing, one 5% longer does.
func TestOutageBudgetsAgreeWithTheEngine(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		tries := rapid.IntRange(2, 6).Draw(t, "tries")
		wait := rapid.IntRange(60, 600).Draw(t, "wait")
		factor := rapid.IntRange(1, 3).Draw(t, "factor")
		dead := rapid.SampledFrom([]string{", dead-letter: aside", ""}).Draw(t, "dead")
		retry := fmt.Sprintf("retry: {tries: %d, wait: %ds, factor: %d, max-wait: 20m}", tries, wait, factor)
		text := "  aside: {kind: queue, retention: 300d}\n" + rapid.SampledFrom([]string{
			fmt.Sprintf(
				"  in: {kind: queue, retention: 60d, lease: %ds, links: {f: {read: {parallel: 50}, retry: {tries: %d}%s}}}\n  f: {kind: function}\n",
				wait,
				tries,
				dead,
			),
			fmt.Sprintf(
				"  in: {kind: queue, retention: 60d, links: {f: {read: {parallel: 50}, %s%s}}}\n  f: {kind: function}\n",
				retry,
				dead,
			),
			fmt.Sprintf(
				"  in: {kind: queue, retention: %ds, lease: 20s, links: {f: {read: {parallel: 5}%s}}}\n  f: {kind: function}\n",
				wait*5,
				dead,
			),
			fmt.Sprintf("  in: {kind: topic, links: {f: {%s%s}}}\n  f: {kind: function}\n", retry, dead),
			fmt.Sprintf("  in: {kind: topic, links: {f: {%s%s}}}\n  f: {kind: outside}\n", retry, dead),
			fmt.Sprintf(
				"  in: {kind: topic, links: {g: {%s%s}}}\n  g: {kind: function, links: {f: {mode: wait}}}\n  f: {kind: outside}\n",
				retry,
				dead,
			),
			fmt.Sprintf(
				"  in: {kind: stream, retention: 30d, links: {f: {%s%s}}}\n  f: {kind: function}\n",
				retry,
				dead,
			),
			fmt.Sprintf(
				"  in: {kind: stream, retention: %ds, links: {f: {retry: {wait: 1s, factor: 1}%s}}}\n  f: {kind: function}\n",
				wait*5,
				dead,
			),
		}).Draw(t, "model")
		text = "ironweir: topology/1\nname: outage\nnodes:\n" + text
		m, err := model.Parse("m.yaml", []byte(text), model.Options{})
		require.NoError(t, err)
		g, err := graph.Compile(m)
		require.NoError(t, err)
		o := Analyse(g, nil).Outages["f"]
		budget := o.Loses.Seconds
		if o.Parks.Seconds != nil {
			require.Nil(t, budget, "it is the one or the other\n%s", text)
			budget = o.Parks.Seconds
		}
		require.NotNil(t, budget, text)
		for _, c := range []struct {
			share float64
			bad   bool
		}{{0.95, false}, {1.05, true}} {
			bad := badUnder(t, g, time.Duration(*budget*c.share*float64(time.Second)))
			require.Equal(t, c.bad, bad > 0, "%g of %gs (%s): %d\n%s", c.share, *budget, o.Limit, bad, text)
		}
	})
}

// badUnder counts what is parked or lost when f is down for so long.
func badUnder(t *rapid.T, g *graph.Graph, down time.Duration) int64 {
	s := model.DefaultScenario()
	s.Length, s.TrafficGiven = 2*down+12*time.Hour, true
	s.Traffic = []*model.Traffic{
		{Name: "u", Into: "in", Rate: 0.5, Arrivals: "even", Max: int64(down.Seconds()/2) + 400},
	}
	whole := 1.0
	s.Incidents = []*model.Incident{{Name: "down", Node: "f", Fails: &whole, At: 10 * time.Minute, For: down}}
	res, err := sim.Run(sim.Plan{Graph: g, Scenario: s})
	require.NoError(t, err)
	return res.Count(func(f sim.Fate) bool { return f.Loss() || f == sim.Parked })
}
