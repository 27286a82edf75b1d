package check

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
	sum := surely(0)
	for k := range 12 {
		one := lawOf(d)
		if k%2 == 1 {
			one = one.times(1e-9).or(surely(1).times(1 - 1e-9))
		}
		sum = sum.plus(one)
		require.LessOrEqual(t, len(sum.atoms), 4*maxAtoms, "after %d", k)
	}
	require.InEpsilon(t, 1, sum.mass, 1e-9)
	require.InEpsilon(t, 6*d.Expected()+6, sum.mean(), 0.02)
	require.Less(t, math.Abs(sum.tail(0)-1), 1e-6)
}
