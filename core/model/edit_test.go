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

// FuzzEdit: whatever the text and the patch, an edit is refused or gives a text
// that says what the patch says, and it never panics.
func FuzzEdit(f *testing.F) {
	text, err := os.ReadFile("testdata/edits.txt")
	require.NoError(f, err)
	for _, c := range strings.Split("\n"+string(text), "\n== ")[1:] {
		_, rest, _ := strings.Cut(c, "\n")
		parts := strings.Split(rest, "\n--\n")
		f.Add(parts[0], parts[1])
	}
	f.Fuzz(func(t *testing.T, text, patch string) {
		p, err := model.ReadDocument("patch", []byte(patch))
		if err != nil {
			return
		}
		out, err := model.Edit([]byte(text), p)
		if err != nil {
			return
		}
		_, err = model.ReadDocument("out", out)
		require.NoError(t, err)
	})
}
