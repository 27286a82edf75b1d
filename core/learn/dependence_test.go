package learn

import (
	"math"
	"math/rand/v2"
	"sort"
	"testing"

	"github.com/stretchr/testify/require"
)

const second = int64(1e9)

// TestIndependentArrivalsAreNoBursts: of many that come independently, at a rate that changes by the hour, few are
// taken for bursts; those that do come in bursts are.
func TestIndependentArrivalsAreNoBursts(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	found, index := 0, 0.0
	for range 2000 {
		var times []int64
		for hour, rate := range []float64{40, 300, 10} {
			for at := r.ExpFloat64() / rate; at < 1; at += r.ExpFloat64() / rate {
				times = append(times, int64((float64(hour)+at)*3600)*second)
			}
		}
		d, ok := dispersionOf(times, 0, 3*3600*second)
		require.True(t, ok)
		index += d.Index / 2000
		if d.Bursts {
			found++
		}
	}
	require.Less(t, found, 10, "of 2000; 2 are expected")
	require.InDelta(t, 1, index, 0.05)

	var bursts []int64
	for minute := range int64(180) {
		if minute%10 < 2 {
			for k := range int64(8) {
				bursts = append(bursts, (minute*60+k*7)*second)
			}
		}
	}
	d, ok := dispersionOf(bursts, 0, 3*3600*second)
	require.True(t, ok)
	require.True(t, d.Bursts, "%+v", d)
	require.Contains(t, d.String(), "They come in bursts: counted every")
	_, ok = dispersionOf(bursts[:50], 0, 3600*second)
	require.False(t, ok, "too few to say")
	_, ok = dispersionOf(make([]int64, 500), 0, 0)
	require.False(t, ok, "all at one instant")
}

// runsOf makes runs whose phases are slow, and fail more, with some chance of going on as before.
func runsOf(r *rand.Rand, n int, stays float64) []seenRun {
	out, slow := make([]seenRun, n), false
	for i := range out {
		if r.Float64() > stays {
			slow = r.Float64() < 0.3
		}
		pace, fails := 1.0, 0.05
		if slow {
			pace, fails = 4, 0.4
		}
		out[i] = seenRun{start: int64(i), took: pace * r.ExpFloat64(), failed: r.Float64() < fails}
	}
	return out
}

// TestDependenceIsFoundWhereItIs: runs in slow phases follow each other, those whose phase is drawn each time do not.
func TestDependenceIsFoundWhereItIs(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	slow, failing := 0, 0
	for range 2000 {
		runs := runsOf(r, 300, 0)
		if _, _, found := slowTogether(runs); found {
			slow++
		}
		if _, _, found := failTogether(runs); found {
			failing++
		}
	}
	require.Less(t, slow, 10, "of 2000; 2 are expected")
	require.Less(t, failing, 10, "of 2000; 2 are expected")

	n := &Node{seen: runsOf(r, 2000, 0.98)}
	says := n.dependence()
	require.Contains(t, says["takes"], "Slow runs follow slow ones: the rank correlation")
	require.Contains(t, says["fails"], "Failures come together: after a failed run")
	n.seen[0], n.seen[1999] = n.seen[1999], n.seen[0] // the order in which spans come does not matter
	require.Equal(t, says, n.dependence())
	require.Empty(t, (&Node{}).dependence())
	require.Empty(t, (&Node{seen: make([]seenRun, 500)}).dependence(), "all the same")
}

// TestParametersLieWithinTheirIntervals, in about 99% of many fits.
func TestParametersLieWithinTheirIntervals(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	const n, rounds = 300, 500
	for name, c := range map[string]struct {
		draw  func() float64
		truth map[string]float64
	}{
		"exponential": {func() float64 { return 2 * r.ExpFloat64() }, map[string]float64{"mean": 2}},
		"lognormal": {
			func() float64 { return math.Exp(0.5 + 0.8*r.NormFloat64()) },
			map[string]float64{"p50": math.Exp(0.5), "p95": math.Exp(0.5 + z95*0.8)},
		},
		"uniform": {func() float64 { return 1 + 2*r.Float64() }, map[string]float64{"min": 1, "max": 3}},
		"gamma": { // of shape 4: the sum of four exponential times
			func() float64 { return r.ExpFloat64() + r.ExpFloat64() + r.ExpFloat64() + r.ExpFloat64() },
			map[string]float64{"mean": 4, "cv": 0.5},
		},
	} {
		outside, compared := 0, 0
		for range rounds {
			values := make([]float64, n)
			for i := range values {
				values[i] = c.draw()
			}
			sort.Float64s(values)
			mean, squares := 0.0, 0.0
			for _, v := range values {
				mean += math.Log(v) / n
			}
			for _, v := range values {
				squares += (math.Log(v) - mean) * (math.Log(v) - mean) / (n - 1)
			}
			for _, p := range parameters(name, values, mean, math.Sqrt(squares)) {
				compared++
				if !p.Interval.holds(c.truth[p.Name]) {
					outside++
				}
			}
		}
		require.Equal(t, rounds*len(c.truth), compared, name)
		require.Less(t, outside, compared*3/100, "%s: of %d, 1%% is expected", name, compared)
	}
}
