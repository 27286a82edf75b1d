package remedy_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/check/remedy"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// TestApply changes a copy, and says why it cannot.
func TestApply(t *testing.T) {
	m, err := model.Parse("m.yaml", []byte("ironweir: topology/1\nname: t\nnodes:\n"+
		"  q: {kind: queue, links: {f: {}}}\n  f: {kind: function}\n"), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)

	limited := remedy.Node("Limit `f`", "f", map[string]any{"concurrency": 3})
	after, err := limited.Apply(g)
	require.NoError(t, err)
	require.Equal(t, 3, after.Nodes[after.NodeID("f")].Concurrency)
	require.Zero(t, g.Nodes[g.NodeID("f")].Concurrency)

	tries := remedy.Link("Try twice", &g.Links[0], map[string]any{"retry": map[string]any{"tries": 2}})
	after, err = tries.Apply(g)
	require.NoError(t, err)
	require.Equal(t, 2, after.Links[0].Policy.Tries)

	wrong := remedy.Node("Do what cannot be", "f", map[string]any{"concurrency": -1})
	_, err = wrong.Apply(g)
	require.ErrorContains(t, err, "concurrency")
}
