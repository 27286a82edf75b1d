package document_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/document"
)

// Texts are told apart wherever one ends and the next begins.
func TestDigests(t *testing.T) {
	require.Len(t, document.Digest("model"), 64)
	require.Equal(t, document.Digest("a", "b"), document.Digest("a", "b"))
	for _, other := range [][]string{{"ab"}, {"b", "a"}, {"a", "b", ""}, {"", "ab"}, {}} {
		require.NotEqual(t, document.Digest("a", "b"), document.Digest(other...), strings.Join(other, "|"))
	}
}

// A head names the format, and which model it is of.
func TestHeads(t *testing.T) {
	head, err := json.Marshal(document.NewHead("check", "kittiwake", "trial", "d1"))
	require.NoError(t, err)
	require.JSONEq(t, `{"schema": "ironweir/check/1", "version": "`+document.Version+
		`", "model": "kittiwake", "environment": "trial", "digest": "d1"}`, string(head))
}

// A time is one number, or says why it is none.
func TestStates(t *testing.T) {
	for want, s := range map[string]document.State{
		`{"state": "at", "s": 0}`:   document.At(0),
		`{"state": "at", "s": 1.5}`: document.At(1.5),
		`{"state": "never"}`:        document.Never,
		`{"state": "unbounded"}`:    document.Unbounded,
		`{"state": "unknown"}`:      document.Unknown,
	} {
		text, err := json.Marshal(s)
		require.NoError(t, err)
		require.JSONEq(t, want, string(text))
	}
}

// Sums of times have no digits from rounding.
func TestTimesAreToTheNanosecond(t *testing.T) {
	for seconds, want := range map[float64]string{
		0.1 + 0.2: `{"state":"at","s":0.3}`, 213.00000000000003: `{"state":"at","s":213}`,
		7e-15: `{"state":"at","s":0}`, 1e15: `{"state":"at","s":1000000000000000}`,
	} {
		text, err := json.Marshal(document.At(seconds))
		require.NoError(t, err)
		require.Equal(t, want, string(text))
	}
}
