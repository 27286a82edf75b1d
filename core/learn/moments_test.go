package learn

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
)

// TestMomentsAddUp: those of parts, put together, are those of the whole.
func TestMomentsAddUp(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	values := make([]float64, 1000)
	for i := range values {
		values[i] = 1e6 + r.ExpFloat64() // far from 0, where a sum of squares would lose its digits
	}
	var together Moments
	for from := 0; from < len(values); from += 77 {
		together.add(momentsOf(values[from:min(from+77, len(values))]))
	}
	whole := momentsOf(values)
	require.Equal(t, whole.Count, together.Count)
	require.InEpsilon(t, whole.Sum, together.Sum, 1e-12)
	require.InEpsilon(t, whole.Squares, together.Squares, 1e-6)
	require.Equal(t, Moments{}, momentsOf(nil))
}

// hoursOf makes hours of runs of a node, each hour slower or faster than the others by a factor of up to spread.
func hoursOf(r *rand.Rand, hours, runs int, spread float64) *Observed {
	var all []*Summary
	for range hours {
		o := newObserved()
		n := &Node{Name: "sort-letters", Kind: model.Function, Why: "it says so", Runs: runs}
		pace := 1 + spread*(2*r.Float64()-1)
		for range runs {
			n.Times = append(n.Times, pace*r.ExpFloat64())
			if r.Float64() < 0.05*pace {
				n.Failures++
			}
		}
		n.Timed = momentsOf(n.Times)
		o.Nodes[n.Name], o.Spans, o.From = n, runs, 1
		all = append(all, o.Summary())
	}
	return Together(all...)
}

// TestIntervalsHold: over many systems that are just as modelled, the model's numbers lie outside the 99% intervals
// about as seldom as that says, even where whole hours are slow together; a sure drift is found in none. Where the
// system differs, it is found.
func TestIntervalsHold(t *testing.T) {
	topology, err := model.Parse("m.yaml", []byte(`ironweir: topology/1
name: post
nodes:
  sort-letters: {kind: function, takes: {dist: exponential, mean: 1s}, fails: 5%}
`), model.Options{})
	require.NoError(t, err)
	for _, spread := range []float64{0, 0.5} {
		r := rand.New(rand.NewPCG(3, 4))
		outside, compared := 0, 0
		for range 1000 {
			o := hoursOf(r, 24, 200, spread)
			for _, n := range o.Numbers(topology) {
				compared++
				if !n.Interval.holds(n.Model) {
					outside++
				}
			}
			require.Empty(t, o.SureDrift(topology).Different)
		}
		require.Equal(t, 2000, compared)
		require.Less(t, outside, 60, "of 2000, with hours that differ by %g", spread) // 20 are expected
	}
	changed, err := model.Parse("m.yaml", []byte(`ironweir: topology/1
name: post
nodes:
  sort-letters: {kind: function, takes: {dist: exponential, mean: 2s}, fails: 10%}
`), model.Options{})
	require.NoError(t, err)
	require.Len(t, hoursOf(rand.New(rand.NewPCG(5, 6)), 24, 200, 0.1).SureDrift(changed).Different, 2)
}

// TestSummariesStaySmall, however much there was, and keep counts exact.
func TestSummariesStaySmall(t *testing.T) {
	o := newObserved()
	n := &Node{Name: "drop", Kind: model.Bucket, Runs: 5000, Types: map[string]bool{"made": true}}
	l := &Link{Messages: 5000, PerRun: map[int]int{1: 5000}}
	for i := range 5000 {
		n.Times = append(n.Times, float64(5000-i))
		n.Keys = append(n.Keys, fmt.Sprintf("in/%d.csv", i))
		l.Keys = append(l.Keys, n.Keys[i])
	}
	n.Timed = momentsOf(n.Times)
	o.Nodes["drop"], o.Links[LinkKey{"drop", "sort-letters", ""}] = n, l
	o.Entries["drop"] = &Entry{Times: make([]int64, 5000), Keys: n.Keys}
	back := Together(o.Summary(), o.Summary())
	require.Len(t, back.Nodes["drop"].Times, 2*keptTimes)
	require.Len(t, back.Nodes["drop"].Keys, 2*keptKeys)
	require.Equal(t, 10_000, back.Nodes["drop"].Timed.Count)
	require.InEpsilon(t, 2500.5, back.Nodes["drop"].Timed.Mean(), 1e-12)
	require.InDelta(t, 2500, momentsOf(back.Nodes["drop"].Times).Mean(), 5, "the sample is spread evenly")
	require.Equal(t, 10_000, back.Links[LinkKey{"drop", "sort-letters", ""}].PerRun[1])
	require.Equal(t, 10_000, back.Entries["drop"].Count)
	require.Less(t, len(o.Nodes["drop"].Times), 5001, "what was observed stays as it was")
}

// TestAFitVariesAsTheValuesDo: times of which a constant part is no chance are near to a lognormal distribution, whose
// tail is too long.
func TestAFitVariesAsTheValuesDo(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 5))
	values := make([]float64, 900)
	for i := range values {
		values[i] = 0.003 + 0.02*random.ExpFloat64()
	}
	f := fit(values)
	require.Contains(t, []string{"samples", "gamma"}, f.Name)
	for i := range values {
		values[i] = 0.02 * random.ExpFloat64()
	}
	require.Equal(t, "exponential", fit(values).Name)
}
