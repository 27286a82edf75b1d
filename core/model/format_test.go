package model_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
)

// TestTheUsualForm formats every file of the project: nothing is lost, and what
// has been formatted stays as it is.
func TestTheUsualForm(t *testing.T) {
	var files []string
	for _, pattern := range []string{"../../demo/*.yaml", "../../gallery/*.yaml", "testdata/examples/*.yaml", "../../demo/variants/*.yaml"} {
		found, err := filepath.Glob(pattern)
		require.NoError(t, err)
		files = append(files, found...)
	}
	require.Greater(t, len(files), 8)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		once, err := model.Format(file, text)
		require.NoError(t, err, file)
		twice, err := model.Format(file, once)
		require.NoError(t, err, file)
		require.Equal(t, string(once), string(twice), file)
	}
}

func TestFormatKeepsComments(t *testing.T) {
	got, err := model.Format("m.yaml", []byte(`# Head of the file.
nodes: # all of them
  # about q
  q:
      links: {"f": { retry: {tries: 3,wait: 1s} }}   # the worker
      kind:   'queue'

  f:
    # why it takes so long
    takes: 1s
    kind: function
    about: |
      Two lines
      of text.
name: "letters"
ironweir: topology/1
# the end
`))
	require.NoError(t, err)
	require.Equal(t, `# Head of the file.
ironweir: topology/1
name: letters
nodes:  # all of them
  # about q
  q:
    kind: queue
    links: {f: {retry: {tries: 3, wait: 1s}}}  # the worker

  f:
    kind: function
    about: |
      Two lines
      of text.
    # why it takes so long
    takes: 1s
# the end
`, string(got))
	_, err = model.Format("m.yaml", []byte("a: &x {b: 1}\nc: *x\n"))
	require.ErrorContains(t, err, "m.yaml:1:4")
}

func FuzzFormat(f *testing.F) {
	f.Add("ironweir: topology/1\nnodes:\n  # c\n  q: {kind: queue} # d\n")
	f.Add("a:\n- b: |\n    x\n\n    y\n- {c: \"1\", ? d : [e, ~]}\n")
	f.Fuzz(func(t *testing.T, text string) {
		once, err := model.Format("f", []byte(text))
		if err != nil {
			return
		}
		if _, err := model.Format("f", once); err != nil {
			t.Fatalf("%q formats to %q, which does not: %v", text, once, err)
		}
	})
}
