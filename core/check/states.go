package check

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// context is how a message comes to a node that runs. What becomes of it depends on
// that: how often it is tried, and where it goes when it is given up.
type context struct {
	how    deliveryContext
	policy int32 // of an intake or push: an interned policy; else None
	dead   int32 // of an intake or push: its dead-letter node, or None
	link   int32 // of a poll: the link that reads; else None
}

type deliveryContext uint8

const (
	atChannel deliveryContext = iota // it does not run there
	asIntake                         // no caller waits: an intake or a push
	asPoll                           // a reader waits
	asCall                           // a run or an endpoint waits
	asRequest                        // a client waits, at an endpoint
)

// state is an abstract message at a node, come there in some context.
type state struct {
	node int
	message
	context
}

// edge is one entry of the mean-offspring matrix: for one message at from, the mean
// number that reaches to, and how long it takes.
type edge struct {
	from, to int
	link     int // the link, or the one whose dead-letter this is; None: a node's own
	kind     edgeKind
	ways     int // edges of one link and kind, of which a message takes one
	verdict  reach
	mean     span    // surely between
	expected float64 // what the traffic equations use
	taken    float64 // of expected, before what the target rejects
	delay    float64 // seconds, mean
}

type edgeKind uint8

const (
	delivers  edgeKind = iota // a channel, schedule or endpoint passes it on
	polls                     // a reader takes it to a run, or moves it
	calls                     // a run or an endpoint waits for it; it makes no copy
	sends                     // a run sends it, having succeeded
	startSend                 // a run sends it as it starts
	result                    // a result link sends it
	gaveUp                    // it goes to a dead-letter node
	lifeEnds                  // an object is deleted by itself
)

// copies reports whether a message moves over the edge as a copy.
func (e *edge) copies() bool { return e.kind != calls }

// stateGraph is the graph of what can be where.
type stateGraph struct {
	all   []state
	index map[state]int
	first []int32 // the edges of state i are edges[first[i]:first[i+1]]
	edges []edge
	of    [][]int32 // states by node

	outcomes  [3][]*runOutcome // by mode and state; nil: not yet
	batches   []float64        // by link: the messages of a batch, once rates are known
	order     []int32          // states so that each comes behind those that lead to it, components together
	component []int32          // by state
}

// leaving returns the edges of a state.
func (g *stateGraph) leaving(i int) []edge { return g.edges[g.first[i]:g.first[i+1]] }

// policyID interns a policy.
func (a *Analysis) policyID(p *graph.Policy) int32 {
	key := fmt.Sprint(p.Tries, p.Wait, p.Factor, p.MaxWait, p.Jitter, p.GiveUp, p.Except)
	if id, ok := a.policyIDs[key]; ok {
		return id
	}
	id := int32(len(a.policies))
	a.policies, a.policyIDs[key] = append(a.policies, *p), id
	return id
}

// ownContext is the context of messages that reach a node by no link, or as a dead
// letter.
func (a *Analysis) ownContext(i int) context {
	n := a.node(i)
	none := context{policy: graph.None, dead: graph.None, link: graph.None}
	switch {
	case n.Kind == model.Endpoint:
		none.how = asRequest
	case n.Kind.Runs():
		return context{asIntake, a.ownPolicy[i], int32(n.DeadLetter), graph.None}
	}
	return none
}

// contextOf is the context of messages of a link.
func (a *Analysis) contextOf(l *graph.Link) context {
	none := context{policy: graph.None, dead: graph.None, link: graph.None}
	switch {
	case !a.node(l.To).Kind.Runs():
	case l.Relation == model.WaitingCall:
		none.how = asCall
	case l.Relation.Polls():
		none.how, none.link = asPoll, int32(l.ID)
	default:
		return context{asIntake, a.linkPolicy[l.ID], int32(l.DeadLetter), graph.None}
	}
	return none
}

// findStates follows everything that outsiders send in, state by state.
func (a *Analysis) findStates() {
	g := &stateGraph{index: map[state]int{}}
	a.states = g
	var found []state
	see := func(s state) int {
		k, seen := g.index[s]
		if !seen {
			k = len(found)
			g.index[s] = k
			found = append(found, s)
		}
		return k
	}
	for _, i := range a.entries {
		for _, in := range a.brings(i) {
			if m, ok := a.At[i].cover(in.message); ok {
				see(state{i, m, a.ownContext(i)})
			}
		}
	}
	var edges []edge
	firsts := []int{0}
	for k := 0; k < len(found); k++ {
		at := found[k]
		from := len(edges)
		add := func(to int, m message, c context, link int, kind edgeKind, verdict reach) {
			cover, ok := a.At[to].cover(m)
			if !ok {
				return
			}
			t := see(state{to, cover, c})
			for i := from; i < len(edges) && len(edges)-from < 64; i++ {
				if e := &edges[i]; e.to == t && e.link == link && e.kind == kind {
					e.verdict = max(e.verdict, verdict)
					return
				}
			}
			edges = append(edges, edge{from: k, to: t, link: link, kind: kind, verdict: verdict})
		}
		a.stateEdges(at, add)
		firsts = append(firsts, len(edges))
	}
	a.settle(found, firsts, edges)
}

// stateEdges lists where a message at a state can go.
func (a *Analysis) stateEdges(
	at state,
	add func(to int, m message, c context, link int, kind edgeKind, verdict reach),
) {
	n := a.node(at.node)
	dead := func(to int, link int) {
		if to != graph.None {
			m := a.arriving(a.node(to), nil, at.message)
			if a.node(to).Kind.Runs() {
				m.event = "message"
			}
			add(to, m, a.ownContext(to), link, gaveUp, expr.Possible)
		}
	}
	for _, id := range n.Out {
		l := a.link(id)
		kind := delivers
		switch {
		case l.When != model.OfRun:
			if at.how != asIntake && !n.ResultsAll {
				continue
			}
			kind = result
		case l.Relation.Polls():
			kind = polls
		case l.Relation == model.WaitingCall:
			kind = calls
		case n.Kind.Runs() && l.AtStart:
			kind = startSend
		case n.Kind.Runs():
			kind = sends
		}
		if l.Refused {
			if kind == delivers || kind == polls || kind == result || l.Relation.Asynchronous() {
				dead(l.DeadLetter, id)
			}
			continue
		}
		taken := false
		for _, next := range a.transfer(l, at.message) {
			add(l.To, next.message, a.contextOf(l), id, kind, next.verdict)
			taken = true
		}
		if taken && (kind == polls || (kind == delivers || kind == result) && a.node(l.To).Kind.Channel()) {
			dead(l.DeadLetter, id)
		}
	}
	if at.how == asIntake {
		dead(int(at.dead), graph.None)
	}
	if n.ObjectLife > 0 && at.change == written {
		m := at.message
		m.change, m.gone = deleted, m.row != graph.None
		add(at.node, m, at.context, graph.None, lifeEnds, expr.Possible)
	}
}

// settle numbers the states by node, then in an order that depends on nothing else,
// and puts the edges in that order.
func (a *Analysis) settle(found []state, firsts []int, edges []edge) {
	g := a.states
	order := make([]int, len(found))
	for k := range order {
		order[k] = k
	}
	slices.SortFunc(order, func(x, y int) int {
		s, t := &found[x], &found[y]
		c := cmp.Or(cmp.Compare(s.node, t.node), compareMessages(s.message, t.message))
		return cmp.Or(
			c,
			cmp.Compare(s.how, t.how),
			cmp.Compare(s.policy, t.policy),
			cmp.Compare(s.dead, t.dead),
			cmp.Compare(s.link, t.link),
		)
	})
	number := make([]int, len(found))
	for k, old := range order {
		number[old] = k
	}
	g.of = make([][]int32, len(a.Graph.Nodes))
	g.edges = make([]edge, 0, len(edges))
	g.all = make([]state, 0, len(found))
	for k, old := range order {
		g.all = append(g.all, found[old])
		g.index[found[old]] = k
		g.of[found[old].node] = append(g.of[found[old].node], int32(k))
		g.first = append(g.first, int32(len(g.edges)))
		for _, e := range edges[firsts[old]:firsts[old+1]] {
			e.from, e.to = k, number[e.to]
			g.edges = append(g.edges, e)
		}
	}
	g.first = append(g.first, int32(len(g.edges)))
	for m := range g.outcomes {
		g.outcomes[m] = make([]*runOutcome, len(g.all))
	}
	g.sort()
}

func compareMessages(m, o message) int {
	switch {
	case m.keyless() != o.keyless():
		if m.less(o) {
			return -1
		}
		return 1
	case m.key == o.key:
		return 0
	}
	return m.key.Compare(o.key)
}

// sort finds the components of the graph and an order of the states in which each
// component comes behind those that lead to it (Tarjan's algorithm, without
// recursion, gives them in reverse).
func (g *stateGraph) sort() {
	list := make([]graph.Edge, len(g.edges))
	for k := range g.edges {
		list[k] = graph.Edge{From: g.edges[k].from, To: g.edges[k].to}
	}
	all := graph.Strong(len(g.all), list)
	g.component = make([]int32, len(g.all))
	for c := len(all) - 1; c >= 0; c-- {
		for _, s := range all[c] {
			g.component[s] = int32(len(all) - 1 - c)
			g.order = append(g.order, int32(s))
		}
	}
}

// span is a number known only to lie between two others.
type span struct{ low, high float64 }

func exactly(x float64) span { return span{x, x} }

func (s span) times(o span) span { return span{product(s.low, o.low), product(s.high, o.high)} }

// product is a·b with 0·∞ = 0: nothing times anything is nothing.
func product(a, b float64) float64 {
	if a == 0 || b == 0 {
		return 0
	}
	return a * b
}

// countOf returns how many messages a link makes for one message in hand, and
// whether that had to be guessed.
func (a *Analysis) countOf(l *graph.Link, at state) (count span, expected float64, guessed bool) {
	expected = l.Count.Dist.Expected()
	count = exactly(expected)
	e, has := a.seen(at.message, a.defaultType(a.node(at.node), at.message))
	if l.CountExpr != nil {
		number, known := l.CountExpr.NumberOf(e, has)
		count, expected = exactly(min(max(math.Trunc(number), 0), 1e6)), min(max(math.Trunc(number), 0), 1e6)
		if !known {
			count, expected, guessed = span{0, math.Inf(1)}, 1, true
		}
	}
	if l.ForEach != nil {
		length, known := l.ForEach.ListLength(e, has)
		if known {
			count, expected = count.times(exactly(float64(length))), expected*float64(length)
		} else {
			count, guessed = span{0, math.Inf(1)}, true
		}
	}
	return count, expected, guessed
}
