package dist

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
)

// TestSumsStaySmall adds many random times up, some of them hardly ever taken: the
// sum stays small, and keeps its mean and mass.
func TestSumsStaySmall(t *testing.T) {
	d := model.Distribution{Dist: "lognormal", P50: 1, Sigma: 0.84}
	sum := Constant(0)
	for k := range 12 {
		one := Of(d)
		if k%2 == 1 {
			one = one.Times(1e-9).Or(Constant(1).Times(1 - 1e-9))
		}
		sum = sum.Plus(one)
		require.LessOrEqual(t, len(sum.Atoms), 4*maxAtoms, "after %d", k)
	}
	require.InEpsilon(t, 1, sum.Mass, 1e-9)
	require.InEpsilon(t, 6*d.Expected()+6, sum.Mean(), 0.02)
	require.Less(t, math.Abs(sum.Tail(0)-1), 1e-6)
}
