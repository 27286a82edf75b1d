package model_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
)

const slip = `ironweir: topology/1
name: slip
nodes:
  # where manifests come in
  manifest-drop: {kind: bucket, links: {stamp: {}}}
  stamp:
    kind: function
    timeout: 45s
  clerk-desk: {kind: queue}
`

func TestMergeThreeWay(t *testing.T) {
	const head = "ironweir: topology/1\nname: slip\nnodes:\n"
	for _, c := range []struct {
		says, base, mine, theirs, together string
		clashes                            []model.Clash
	}{
		{
			says:     "changes of different nodes come together, and comments of theirs stay",
			base:     head + "  a: {kind: queue}\n  b: {kind: queue}\n",
			mine:     head + "  a: {kind: queue, lease: 90s}\n  b: {kind: queue}\n  c: {kind: topic}\n",
			theirs:   head + "  a: {kind: queue}\n  b: {kind: queue, retention: 2d} # longer\n",
			together: head + "  a: {kind: queue, lease: 90s}\n  b: {kind: queue, retention: 2d} # longer\n  c: {kind: topic}\n",
		},
		{
			says:     "so do two fields of one node, and what each of them added to it",
			base:     head + "  a: {kind: queue}\n",
			mine:     head + "  a: {kind: queue, lease: 90s, links: {x: {}}}\n",
			theirs:   head + "  a: {kind: queue, retention: 2d, links: {y: {}}}\n",
			together: head + "  a: {kind: queue, retention: 2d, links: {y: {}, x: {}}, lease: 90s}\n",
		},
		{
			says:     "of a value that both changed mine stands, and is listed",
			base:     head + "  a: {kind: queue, lease: 60s}\n",
			mine:     head + "  a: {kind: queue, lease: 90s}\n",
			theirs:   head + "  a: {kind: queue, lease: 30s}\n",
			together: head + "  a: {kind: queue, lease: 90s}\n",
			clashes:  []model.Clash{{Path: "nodes.a.lease", Mine: "90s", Theirs: "30s"}},
		},
		{
			says:     "a node that I removed and they edited is removed, and listed",
			base:     head + "  a: {kind: queue}\n  b: {kind: queue}\n",
			mine:     head + "  a: {kind: queue}\n",
			theirs:   head + "  a: {kind: queue}\n  b: {kind: queue, lease: 30s}\n",
			together: head + "  a: {kind: queue}\n",
			clashes:  []model.Clash{{Path: "nodes.b", Theirs: "{kind: queue, lease: 30s}"}},
		},
		{
			says:     "a node that they removed and I edited is there, and listed",
			base:     head + "  a: {kind: queue}\n  b: {kind: queue}\n",
			mine:     head + "  a: {kind: queue}\n  b: {kind: queue, lease: 30s}\n",
			theirs:   head + "  a: {kind: queue}\n",
			together: head + "  a: {kind: queue}\n  b: {kind: queue, lease: 30s}\n",
			clashes:  []model.Clash{{Path: "nodes.b", Mine: "{kind: queue, lease: 30s}"}},
		},
		{
			says:     "what both changed alike is no clash, nor is what only they changed",
			base:     head + "  a: {kind: queue, lease: 60s}\n  b: {kind: queue}\n",
			mine:     head + "  a: {kind: queue, lease: 90s}\n  b: {kind: queue}\n",
			theirs:   head + "  a: {kind: queue, lease: 90s}\n",
			together: head + "  a: {kind: queue, lease: 90s}\n",
		},
		{
			says:     "a list is one value",
			base:     head + "  a: {kind: bucket, keys: [x]}\n",
			mine:     head + "  a: {kind: bucket, keys: [x, late]}\n",
			theirs:   head + "  a: {kind: bucket, keys: [x], owner: quay}\n",
			together: head + "  a: {kind: bucket, keys: [x, late], owner: quay}\n",
		},
		{
			says:     "a map that I wrote in place of a text is mine through and through",
			base:     head + "  a: {kind: function, takes: 1s}\n",
			mine:     head + "  a: {kind: function, takes: {dist: uniform, more: {p: 1}}}\n",
			theirs:   head + "  a: {kind: function, takes: {dist: other, more: {p: 1, q: 2}, mean: 3s}}\n",
			together: head + "  a: {kind: function, takes: {dist: uniform, more: {p: 1}}}\n",
			clashes: []model.Clash{{
				Path: "nodes.a.takes", Mine: "{dist: uniform, more: {p: 1}}",
				Theirs: "{dist: other, more: {p: 1, q: 2}, mean: 3s}",
			}},
		},
		{
			says:     "a link without a value stays one",
			base:     head + "  a: {kind: queue}\n",
			mine:     head + "  a: {kind: queue, links: {x: }}\n",
			theirs:   head + "  a: {kind: queue, links: {y: {}}}\n",
			together: head + "  a: {kind: queue, links: {y: {}, x: null}}\n",
		},
	} {
		t.Run(c.says, func(t *testing.T) {
			text, clashes, err := model.MergeThreeWay([]byte(c.base), []byte(c.mine), []byte(c.theirs))
			require.NoError(t, err)
			require.Equal(t, c.together, string(text))
			require.ElementsMatch(t, c.clashes, clashes)
		})
	}
}

// TestMergeThreeWayOfOneSide: where only one side changed, the other's text is theirs, or says the same as mine.
func TestMergeThreeWayOfOneSide(t *testing.T) {
	text, clashes, err := model.MergeThreeWay([]byte(slip), []byte(slip), []byte(slip+"  lines: {kind: table}\n"))
	require.NoError(t, err)
	require.Empty(t, clashes)
	require.Equal(t, slip+"  lines: {kind: table}\n", string(text))

	mine := "ironweir: topology/1\nname: slip\nnodes: {manifest-drop: {kind: bucket}}\n"
	text, clashes, err = model.MergeThreeWay([]byte(slip), []byte(mine), []byte(slip))
	require.NoError(t, err)
	require.Empty(t, clashes)
	want, err := model.ReadDocument("mine", []byte(mine))
	require.NoError(t, err)
	got, err := model.ReadDocument("together", text)
	require.NoError(t, err)
	require.True(t, model.Compare(want, got).Same(), string(text))

	_, _, err = model.MergeThreeWay([]byte(slip), []byte("nodes: ["), []byte(slip))
	require.ErrorContains(t, err, "mine")
}
