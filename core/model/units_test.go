package model_test

import (
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
