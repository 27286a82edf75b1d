package graph_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/graph"
)

// Nodes are in one component if each can be reached from the other, as a search of all ways says; a component comes
// before those that lead to it.
func TestComponents(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 12).Draw(t, "nodes")
		edges := make([]graph.Edge, rapid.IntRange(0, 20).Draw(t, "edges"))
		reaches := make([][]bool, n)
		for i := range reaches {
			reaches[i] = make([]bool, n)
		}
		for k := range edges {
			edges[k].From, edges[k].To = rapid.IntRange(0, n-1).Draw(t, "from"), rapid.IntRange(0, n-1).Draw(t, "to")
			reaches[edges[k].From][edges[k].To] = true
		}
		for via := range n {
			for i := range n {
				for j := range n {
					reaches[i][j] = reaches[i][j] || reaches[i][via] && reaches[via][j]
				}
			}
		}
		place := make([]int, n)
		all := graph.Strong(n, edges)
		count := 0
		for k, members := range all {
			require.True(t, slices.IsSorted(members))
			count += len(members)
			for _, i := range members {
				place[i] = k
			}
		}
		require.Equal(t, n, count, "each node is in one")
		var loops [][]int
		for i := range n {
			for j := range n {
				require.Equal(t, i == j || reaches[i][j] && reaches[j][i], place[i] == place[j])
			}
			if first := all[place[i]][0]; reaches[i][i] && first == i {
				loops = append(loops, all[place[i]])
			}
		}
		for _, e := range edges {
			require.GreaterOrEqual(t, place[e.From], place[e.To])
		}
		require.Equal(t, loops, graph.Loops(n, edges))
	})
}

// Messages move on links and by dead letters; a waiting call and a read move none.
func TestEdges(t *testing.T) {
	g := compiled(t, `
  q: {kind: queue, links: {f: {dead-letter: desk}}}
  b: {kind: bucket, links: {f: {dead-letter: desk}}}
  c: {kind: bucket, links: {f: {dead-letter: desk}}}
  f: {kind: function, links: {g: {mode: wait}, d: {op: read}, e: {to: d}}}
  g: {kind: function}
  d: {kind: table}
  desk: {kind: queue}`)
	ways := func(calls bool) (out []string) {
		for _, e := range g.Edges(calls) {
			way := g.Nodes[e.From].Name + " " + g.Nodes[e.To].Name
			if e.Dead {
				way += " dead"
			}
			out = append(out, way)
		}
		return out
	}
	moves := []string{"q f", "q desk dead", "b f", "f desk dead", "c f", "f d"}
	require.Equal(t, moves, ways(false), "what a function holds leaves it, once")
	require.Equal(t, []string{"q f", "q desk dead", "b f", "f desk dead", "c f", "f g", "f d", "f d"}, ways(true))
	loop := compiled(t, "  q: {kind: queue, links: {f: {}}}\n  f: {kind: function, links: {q: {}, g: {mode: wait}}}\n"+
		"  g: {kind: function, links: {f: {mode: wait}}}")
	require.Equal(t, [][]int{{0, 1}}, loop.Components(loop.Edges(false)))
	require.Equal(t, [][]int{{0, 1, 2}}, loop.Components(loop.Edges(true)))
}
