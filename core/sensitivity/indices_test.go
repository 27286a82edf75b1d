package sensitivity

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

func each(f func(x []float64) float64) Function {
	return func(points [][]float64) ([]float64, error) {
		out := make([]float64, len(points))
		for k, p := range points {
			out[k] = f(p)
		}
		return out, nil
	}
}

// TestSharesOfKnownFunctions holds the estimates against the exact variance shares of
// Ishigami's function (Ishigami and Homma 1990) and of Sobol's g-function.
func TestSharesOfKnownFunctions(t *testing.T) {
	ishigami := func(x []float64) float64 {
		a, b, c := math.Pi*(2*x[0]-1), math.Pi*(2*x[1]-1), math.Pi*(2*x[2]-1)
		return math.Sin(a) + 7*math.Sin(b)*math.Sin(b) + 0.1*c*c*c*c*math.Sin(a)
	}
	got, err := shares(each(ishigami), 3, 20_000, rand.New(rand.NewPCG(1, 2)))
	require.NoError(t, err)
	for i, want := range []Share{{First: 0.3139, Total: 0.5576}, {First: 0.4424, Total: 0.4424}, {Total: 0.2437}} {
		require.InDelta(t, want.First, got[i].First, 0.02, "first of %d", i)
		require.InDelta(t, want.Total, got[i].Total, 0.02, "total of %d", i)
	}
	weights := []float64{0, 1, 9, 99}
	g := func(x []float64) float64 {
		y := 1.0
		for i, a := range weights {
			y *= (math.Abs(4*x[i]-2) + a) / (1 + a)
		}
		return y
	}
	all := 1.0
	for _, a := range weights {
		all *= 1 + 1/(3*(1+a)*(1+a))
	}
	got, err = shares(each(g), 4, 20_000, rand.New(rand.NewPCG(3, 4)))
	require.NoError(t, err)
	for i, a := range weights {
		part := 1 / (3 * (1 + a) * (1 + a))
		require.InDelta(t, part/(all-1), got[i].First, 0.02, "first of %d", i)
		require.InDelta(t, part*all/(1+part)/(all-1), got[i].Total, 0.02, "total of %d", i)
	}
	flat, err := shares(each(func([]float64) float64 { return 4 }), 2, 50, rand.New(rand.NewPCG(1, 1)))
	require.NoError(t, err)
	require.Equal(t, []Share{{}, {}}, flat)
}

// TestIntervalsOfShares hold the true share in about 95 of 100 estimates from few points.
func TestIntervalsOfShares(t *testing.T) {
	sum := func(x []float64) float64 { return 2*x[0] + x[1] } // shares 4/5 and 1/5
	within, widest := 0, 0.0
	for seed := range uint64(200) {
		got, err := shares(each(sum), 2, 32, rand.New(rand.NewPCG(seed, 9)))
		require.NoError(t, err)
		for i, want := range []float64{0.8, 0.2} {
			if ci := got[i].TotalCI; ci[0] <= want && want <= ci[1] {
				within++
			}
			widest = max(widest, got[i].TotalCI[1]-got[i].TotalCI[0])
		}
	}
	require.Greater(t, within, 340, "of 400")
	require.Less(t, widest, 1.0)
}

// TestEffectsOfALinearFunction are its coefficients, exactly and without a spread; of a
// product they have one.
func TestEffectsOfALinearFunction(t *testing.T) {
	got, err := screen(each(func(x []float64) float64 { return 3*x[0] - 5*x[1] }), 3, 6, rand.New(rand.NewPCG(5, 6)))
	require.NoError(t, err)
	for i, want := range []float64{3, -5, 0} {
		require.InDelta(t, want, got[i].Mean, 1e-9)
		require.InDelta(t, math.Abs(want), got[i].Size, 1e-9)
		require.InDelta(t, want, got[i].CI[0], 1e-6)
		require.InDelta(t, want, got[i].CI[1], 1e-6)
	}
	got, err = screen(each(func(x []float64) float64 { return x[0] * x[1] }), 2, 40, rand.New(rand.NewPCG(7, 8)))
	require.NoError(t, err)
	require.InDelta(t, 0.5, got[0].Mean, 0.2)
	require.Greater(t, got[0].CI[1]-got[0].CI[0], 0.1)
}
