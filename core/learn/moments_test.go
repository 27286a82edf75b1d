package learn

import (
	"fmt"
	"math/rand/v2"
	"sort"
	"testing"
	"time"

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

// What no distribution fits is described by as many equal values as were measured at most, with the same mean, and a
// 99th percentile that is not that of the few longest.
func TestWhatIsMeasuredKeepsItsMean(t *testing.T) {
	for _, n := range []int{100, 124, 1_000, 12_345} {
		values := make([]float64, n)
		sum := 0.0
		for k := range values {
			values[k] = 0.01 + float64(k%10)*0.001
			if k%n >= n-max(n/250, 1) { // the longest two in five hundred
				values[k] = 5
			}
			sum += values[k]
		}
		sort.Float64s(values)
		shares := quantiles(values).Get("values").Items
		require.Len(t, shares, min(mostShares, n))
		total := 0.0
		for _, s := range shares {
			d, err := model.ParseDuration(s.Scalar)
			require.NoError(t, err)
			total += d.Seconds()
		}
		require.InEpsilon(t, sum/float64(n), total/float64(len(shares)), 0.02, n)
		if n >= 1_000 {
			p99, err := model.ParseDuration(shares[len(shares)*99/100].Scalar)
			require.NoError(t, err)
			require.Less(t, p99.Seconds(), 0.02)
		}
	}
}

// The hand-over of a consumer that takes one message after the other is the time between its runs while messages wait:
// not while none does, not of what it put back itself.
func TestHandovers(t *testing.T) {
	const ms = int64(time.Millisecond)
	observed := func(between, delay int64, back bool) Handover {
		var spans []Span
		add := func(id, parent string, kind Kind, service, operation string, from, until int64) {
			spans = append(spans, Span{
				Trace: "t" + id, ID: id + operation, Parent: parent,
				Kind: kind, Service: service, Start: from, End: until,
				Name: "letters " + operation,
				Attributes: map[string]string{
					"messaging.system": "amqp", "messaging.destination.name": "letters",
					"messaging.operation.type": operation,
				},
			})
		}
		sender := "scribe"
		if back {
			sender = "reader"
		}
		for burst := range int64(10) { // five messages at once, then none for a second
			start := burst * 1000 * ms
			at := start + delay
			for k := range int64(5) {
				id := fmt.Sprintf("%d-%d", burst, k)
				add(id, "", Producer, sender, "send", start, start+1)
				at += between
				add(id, id+"send", Consumer, "reader", "process", at, at+30*ms)
				at += 30 * ms
			}
		}
		o := Observe(spans)
		require.Contains(t, o.Nodes, "reader")
		return o.Nodes["reader"].Handover
	}
	h := observed(2*ms, 0, false)
	require.InDelta(t, 0.002, h.Mean, 1e-9)
	require.Equal(t, 39, h.Count, "four of each five, less the longest")
	require.Equal(t, Handover{}, observed(20*ms, 0, false), "longer than half of a run: it is no hand-over")
	require.Equal(t, Handover{}, observed(2*ms, 0, true), "what was put back has waited elsewhere")
	require.Equal(t, h, observed(2*ms, 40*ms, false), "what is delayed waits, and is then handed over")
}
