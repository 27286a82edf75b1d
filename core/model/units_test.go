package model_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
)

// A share has two digits that say something, of itself or of what is left to all.
func TestSharesInWords(t *testing.T) {
	for x, want := range map[float64]string{
		0: "0%", 1: "100%", 0.5: "50%", 0.123: "12%", 0.012: "1.2%", 0.000_12: "0.012%", 1e-7: "under 0.0001%",
		0.985: "98%", 0.99: "99%", 0.994: "99.4%", 0.9951: "99.51%", 0.9999: "99.99%", 0.999_96: "99.996%",
		0.999_951: "99.9951%", 1 - 1e-7: "over 99.9999%",
	} {
		require.Equal(t, want, model.FormatShare(x), "%v", x)
	}
}

// What is exactly at a bound is within it.
func TestBounds(t *testing.T) {
	rate, err := model.ParseRate("10000000/s")
	require.NoError(t, err)
	require.InDelta(t, model.MaxRate, rate, 0)
	_, err = model.ParseRate("10000001/s")
	require.ErrorContains(t, err, "more than a run can simulate")

	parse := func(count string) error {
		text := "ironweir: topology/1\nnodes:\n  q: {kind: queue}\n" +
			"  f: {kind: function, links: {q: {count: " + count + "}}}\n"
		_, err := model.Parse("m.yaml", []byte(text), model.Options{})
		return err
	}
	require.NoError(t, parse("1000000"))
	require.ErrorContains(t, parse("1000001"), "must lie between 0 and 1000000")

	m, err := model.Parse("m.yaml", []byte("ironweir: topology/1\nnodes:\n  q: {kind: queue}\n"), model.Options{})
	require.NoError(t, err)
	of := func(replications string) error {
		_, err := model.ParseScenario("s.yaml", []byte("ironweir: scenario/1\nreplications: "+replications+"\n"), m)
		return err
	}
	require.NoError(t, of("10000"))
	require.ErrorContains(t, of("10001"), "at most 10000")
}

// The least and the most that a distribution gives; only what is always 0 is zero.
func TestEndsOfDistributions(t *testing.T) {
	for name, c := range map[string]struct {
		of          model.Distribution
		least, most float64
	}{
		"always":      {model.Distribution{Dist: "constant", Mean: 3}, 3, 3},
		"none":        {model.Distribution{Dist: "constant"}, 0, 0},
		"between":     {model.Distribution{Dist: "uniform", Min: 1, Max: 4}, 1, 4},
		"samples":     {model.Distribution{Dist: "samples", Values: []float64{2, 5, 9}}, 2, 9},
		"exponential": {model.Distribution{Dist: "exponential", Mean: 2}, 0, math.Inf(1)},
	} {
		require.InDelta(t, c.least, c.of.Smallest(), 0, name)
		require.Equal(t, c.most, c.of.Largest(), name)
		require.Equal(t, c.most == 0, c.of.IsZero(), name)
	}
}

// An error names what would do: several words with commas and one `or`.
func TestWordsOfAChoice(t *testing.T) {
	_, err := model.Parse("m.yaml", []byte("ironweir: topology/1\nnodes:\n"+
		"  f: {kind: function, links: {g: {mode: accept}}}\n  g: {kind: function}\n"), model.Options{})
	require.ErrorContains(t, err, "it is async or wait")
}
