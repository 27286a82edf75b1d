package graph

import (
	"slices"

	"ironweir/core/model"
)

// Edge is a way on which a message can move: a link, or a dead-letter.
type Edge struct {
	From, To int
	Link     int  // the link, or the one whose dead-letter this is; None for a node's own
	Dead     bool // by dead-letter
}

// Edges lists every way on which messages move, in link order. Waiting calls
// are among them where calls is set: they carry no copy.
func (g *Graph) Edges(calls bool) []Edge {
	var out []Edge
	seen := map[[2]int]bool{}
	for i := range g.Links {
		l := &g.Links[i]
		if l.MovesCopies() || calls {
			out = append(out, Edge{From: l.From, To: l.To, Link: i})
		}
		if l.DeadLetter == None {
			continue
		}
		holder := l.To // an intake's dead letters leave the function that held them
		if l.Relation.Polls() {
			holder = l.From
		}
		if key := [2]int{holder, l.DeadLetter}; !seen[key] {
			seen[key] = true
			out = append(out, Edge{From: holder, To: l.DeadLetter, Link: i, Dead: true})
		}
	}
	return out
}

// MovesCopies reports whether the link makes copies at its target: not a waiting
// call, not a read.
func (l *Link) MovesCopies() bool {
	return l.Op != "read" && l.Relation != model.WaitingCall
}

// Components returns the strongly connected components that loop (more than one
// node, or an edge to itself) over some edges. Nodes are in ascending order; so
// are components, by their first.
func (g *Graph) Components(edges []Edge) [][]int { return Loops(len(g.Nodes), edges) }

// Loops returns the strongly connected components that loop (more than one node,
// or an edge to itself) of a graph that is only edges. Nodes are in ascending
// order; so are components, by their first.
func Loops(nodes int, edges []Edge) [][]int {
	self := make([]bool, nodes)
	for _, e := range edges {
		self[e.From] = self[e.From] || e.From == e.To
	}
	var out [][]int
	for _, members := range Strong(nodes, edges) {
		if len(members) > 1 || self[members[0]] {
			out = append(out, members)
		}
	}
	slices.SortFunc(out, func(a, b []int) int { return a[0] - b[0] })
	return out
}

// Strong returns the strongly connected components of a graph that is only edges,
// each before those that lead to it, by Tarjan's algorithm without recursion.
// Nodes are in ascending order.
func Strong(n int, edges []Edge) [][]int {
	start := make([]int, n+1)
	for _, e := range edges {
		start[e.From+1]++
	}
	for i := 0; i < n; i++ {
		start[i+1] += start[i]
	}
	targets := make([]int, len(edges))
	fill := append([]int(nil), start[:n]...)
	for _, e := range edges {
		targets[fill[e.From]] = e.To
		fill[e.From]++
	}
	var (
		index   = make([]int, n) // 0: not seen
		low     = make([]int, n)
		onStack = make([]bool, n)
		stack   []int
		out     [][]int
		next    = 1
	)
	type frame struct{ node, edge int }
	for root := 0; root < n; root++ {
		if index[root] != 0 {
			continue
		}
		work := []frame{{root, start[root]}}
		index[root], low[root] = next, next
		next++
		stack, onStack[root] = append(stack, root), true
		for len(work) > 0 {
			f := &work[len(work)-1]
			if f.edge < start[f.node+1] {
				to := targets[f.edge]
				f.edge++
				if index[to] == 0 {
					index[to], low[to] = next, next
					next++
					stack, onStack[to] = append(stack, to), true
					work = append(work, frame{to, start[to]})
				} else if onStack[to] {
					low[f.node] = min(low[f.node], index[to])
				}
				continue
			}
			v := f.node
			work = work[:len(work)-1]
			if len(work) > 0 {
				p := work[len(work)-1].node
				low[p] = min(low[p], low[v])
			}
			if low[v] != index[v] {
				continue
			}
			var members []int
			for {
				w := stack[len(stack)-1]
				stack = stack[:len(stack)-1]
				onStack[w] = false
				members = append(members, w)
				if w == v {
					break
				}
			}
			slices.Sort(members)
			out = append(out, members)
		}
	}
	return out
}
