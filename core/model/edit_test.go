package model_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
)

// TestEditKeepsCommentsAndLayout runs testdata/edits.txt: a case is a line
// `== what it shows`, a document, `--`, a patch, `--`, and the document as it
// must come out.
func TestEditKeepsCommentsAndLayout(t *testing.T) {
	text, err := os.ReadFile("testdata/edits.txt")
	require.NoError(t, err)
	for _, c := range strings.Split("\n"+string(text), "\n== ")[1:] {
		says, rest, _ := strings.Cut(c, "\n")
		t.Run(says, func(t *testing.T) {
			parts := strings.Split(rest, "\n--\n")
			require.Len(t, parts, 3)
			patch, err := model.ReadDocument("patch", []byte(parts[1]))
			require.NoError(t, err)
			out, err := model.Edit([]byte(parts[0]+"\n"), patch)
			require.NoError(t, err)
			require.Equal(t, strings.TrimSpace(parts[2]), strings.TrimSpace(string(out)))
		})
	}
}

func TestAnEditThatWouldDoSomethingElseIsRefused(t *testing.T) {
	for _, text := range []string{"base: &b {x: 1}\na: *b\n", "a: |\n  long\n  text\n", "a: one\n  two\n"} {
		patch, err := model.ReadDocument("patch", []byte("{a: {x: 2}}"))
		require.NoError(t, err)
		_, err = model.Edit([]byte(text), patch)
		require.ErrorContains(t, err, "by hand", text)
	}
}
