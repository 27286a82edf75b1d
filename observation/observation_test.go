package observation

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/learn"
)

func TestLongAttributesAreLeftOut(t *testing.T) {
	x := learn.Span{Trace: "ab", Name: "weigh", Attributes: map[string]string{
		learn.Destination: "weighings", "statement": strings.Repeat("x", longestValue),
	}}
	size := shorten(&x)
	require.Equal(t, map[string]string{learn.Destination: "weighings"}, x.Attributes)
	require.Equal(t, len("ab")+len("weigh")+len(learn.Destination)+len("weighings"), size)
}

func TestSumsAreOfNothingThatIsBroken(t *testing.T) {
	_, err := SumUp(&Unsummed{Traces: [][]byte{[]byte("no gzip")}})
	require.ErrorContains(t, err, "kept spans")
	_, err = SumUp(&Unsummed{Summary: []byte("no gzip")})
	require.ErrorContains(t, err, "the summary of an hour")
	_, err = Drifts(&Past{Text: "nodes: ["})
	require.ErrorIs(t, err, ErrUnread)
}
