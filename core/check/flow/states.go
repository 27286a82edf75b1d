package flow

import (
	"cmp"
	"fmt"
	"iter"
	"math"
	"slices"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Context is how a message comes to a node that runs. What becomes of it depends on
// that: how often it is tried, and where it goes when it is given up.
type Context struct {
	How    DeliveryContext
	policy int32 // of an intake or push: an interned policy; else None
	dead   int32 // of an intake or push: its dead-letter node, or None
	Link   int32 // of a poll: the link that reads; else None
}

// DeliveryContext is how a message comes to a node: who waits for it, if anybody does.
type DeliveryContext uint8

const (
	AtChannel DeliveryContext = iota // it does not run there
	AsIntake                         // no caller waits: an intake or a push
	AsPoll                           // a reader waits
	AsCall                           // a run or an endpoint waits
	AsRequest                        // a client waits, at an endpoint
)

// State is an abstract message at a node, come there in some context.
type State struct {
	Node int
	Message
	Context
}

// Unhopped returns a state as it is however many functions its message has passed through, and whether that is counted.
func (s State) Unhopped() (State, bool) {
	counted := s.hops > 0
	s.hops = 0
	return s, counted
}

// Edge is one entry of the mean-offspring matrix: for one message at from, the mean
// number that reaches to, and how long it takes.
type Edge struct {
	From, To int
	Link     int // the link, or the one whose dead-letter this is; None: a node's own
	Kind     EdgeKind
	ways     int // edges of one link and kind, of which a message takes one
	Verdict  reach
	Mean     Span    // surely between
	expected float64 // what the traffic equations use
	taken    float64 // of expected, before what the target rejects
	Delay    float64 // seconds, mean
}

// EdgeKind is how a message gets from one state to another.
type EdgeKind uint8

const (
	Delivers  EdgeKind = iota // a channel, schedule or endpoint passes it on
	Polls                     // a reader takes it to a run, or moves it
	Calls                     // a run or an endpoint waits for it; it makes no copy
	Sends                     // a run sends it, having succeeded
	StartSend                 // a run sends it as it starts
	Result                    // a result link sends it
	GaveUp                    // it goes to a dead-letter node
	LifeEnds                  // an object is deleted by itself
)

// copies reports whether a message moves over the edge as a copy.
func (e *Edge) copies() bool { return e.Kind != Calls }

// StateGraph is the graph of what can be where.
type StateGraph struct {
	All   []State
	index map[State]int
	First []int32 // the edges of state i are edges[first[i]:first[i+1]]
	Edges []Edge
	Of    [][]int32 // states by node

	outcomes  [3][]*RunOutcome // by mode and state; nil: not yet
	batches   []float64        // by link: the messages of a batch, once rates are known
	others    []float64        // by link: the messages that one is read with
	Order     []int32          // states so that each comes behind those that lead to it, components together
	Component []int32          // by state
}

// Leaving returns the edges of a state.
func (g *StateGraph) Leaving(i int) []Edge { return g.Edges[g.First[i]:g.First[i+1]] }

// edgesInto gives the edges that lead to a state, each with the state that it leaves.
func (a *Analysis) edgesInto(s int) iter.Seq2[int, *Edge] {
	return func(yield func(int, *Edge) bool) {
		for k, from := range a.Into[s] {
			if k > 0 && from == a.Into[s][k-1] { // it has several, which stand together
				continue
			}
			edges := a.States.Leaving(int(from))
			for i := range edges {
				if edges[i].To == s && !yield(int(from), &edges[i]) {
					return
				}
			}
		}
	}
}

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
func (a *Analysis) ownContext(i int) Context {
	n := a.Node(i)
	none := Context{policy: graph.None, dead: graph.None, Link: graph.None}
	switch {
	case n.Kind.Answers():
		none.How = AsRequest
	case n.Kind.Runs():
		return Context{AsIntake, a.ownPolicy[i], int32(n.DeadLetter), graph.None}
	}
	return none
}

// contextOf is the context of messages of a link.
func (a *Analysis) contextOf(l *graph.Link) Context {
	none := Context{policy: graph.None, dead: graph.None, Link: graph.None}
	switch {
	case !a.Node(l.To).Kind.Runs():
	case l.Relation == model.WaitingCall:
		none.How = AsCall
	case l.Relation.Polls():
		none.How, none.Link = AsPoll, int32(l.ID)
	default:
		return Context{AsIntake, a.linkPolicy[l.ID], int32(l.DeadLetter), graph.None}
	}
	return none
}

// findStates follows everything that outsiders send in, state by state.
func (a *Analysis) findStates() {
	g := &StateGraph{index: map[State]int{}}
	a.States = g
	var found []State
	see := func(s State) int {
		k, seen := g.index[s]
		if !seen {
			k = len(found)
			g.index[s] = k
			found = append(found, s)
		}
		return k
	}
	for _, i := range a.EntryNodes {
		for _, in := range a.brings(i) {
			if m, ok := a.At[i].cover(in.Message); ok {
				see(State{i, m, a.ownContext(i)})
			}
		}
	}
	var edges []Edge
	firsts := []int{0}
	for k := 0; k < len(found); k++ {
		at := found[k]
		from := len(edges)
		add := func(to int, m Message, c Context, link int, kind EdgeKind, verdict reach) {
			cover, ok := a.At[to].cover(m)
			if !ok {
				return
			}
			t := see(State{to, cover, c})
			for i := from; i < len(edges) && len(edges)-from < 64; i++ {
				if e := &edges[i]; e.To == t && e.Link == link && e.Kind == kind {
					e.Verdict = max(e.Verdict, verdict)
					return
				}
			}
			edges = append(edges, Edge{From: k, To: t, Link: link, Kind: kind, Verdict: verdict})
		}
		a.stateEdges(at, add)
		firsts = append(firsts, len(edges))
	}
	a.settle(found, firsts, edges)
}

// stateEdges lists where a message at a state can go.
func (a *Analysis) stateEdges(
	at State,
	add func(to int, m Message, c Context, link int, kind EdgeKind, verdict reach),
) {
	n := a.Node(at.Node)
	dead := func(to int, link int) {
		if to != graph.None {
			m := a.Arriving(a.Node(to), nil, at.Message)
			if a.Node(to).Kind.Runs() {
				m.event = "message"
			}
			add(to, m, a.ownContext(to), link, GaveUp, expr.Possible)
		}
	}
	for _, id := range n.Out {
		l := a.Link(id)
		kind, used := edgeKind(at, n, l)
		if !used {
			continue
		}
		if l.Refused {
			if kind == Delivers || kind == Polls || kind == Result || l.Relation.Asynchronous() {
				dead(l.DeadLetter, id)
			}
			continue
		}
		taken := false
		for _, next := range a.transfer(l, at.Message) {
			add(l.To, next.Message, a.contextOf(l), id, kind, next.verdict)
			taken = true
		}
		if taken && (kind == Polls || (kind == Delivers || kind == Result) && a.Node(l.To).Kind.Channel()) {
			dead(l.DeadLetter, id)
		}
	}
	if at.How == AsIntake {
		dead(int(at.dead), graph.None)
	}
	if n.ObjectLife > 0 && at.Change == Written {
		m := at.Message
		m.Change, m.gone = Deleted, m.Row != graph.None
		add(at.Node, m, at.Context, graph.None, LifeEnds, expr.Possible)
	}
}

// edgeKind returns how messages at a state take a link of its node, and whether they use it.
func edgeKind(at State, n *graph.Node, l *graph.Link) (kind EdgeKind, used bool) {
	switch {
	case l.When != model.OfRun:
		return Result, at.How == AsIntake || n.ResultsAll
	case l.Relation.Polls():
		return Polls, true
	case l.Relation == model.WaitingCall:
		return Calls, true
	case n.Kind.Runs() && l.AtStart:
		return StartSend, true
	case n.Kind.Runs():
		return Sends, true
	}
	return Delivers, true
}

// settle numbers the states by node, then in an order that depends on nothing else,
// and puts the edges in that order.
func (a *Analysis) settle(found []State, firsts []int, edges []Edge) {
	g := a.States
	order := make([]int, len(found))
	for k := range order {
		order[k] = k
	}
	slices.SortFunc(order, func(x, y int) int {
		s, t := &found[x], &found[y]
		c := cmp.Or(cmp.Compare(s.Node, t.Node), compareMessages(s.Message, t.Message))
		return cmp.Or(
			c,
			cmp.Compare(s.How, t.How),
			cmp.Compare(s.policy, t.policy),
			cmp.Compare(s.dead, t.dead),
			cmp.Compare(s.Link, t.Link),
		)
	})
	number := make([]int, len(found))
	for k, old := range order {
		number[old] = k
	}
	g.Of = make([][]int32, len(a.Graph.Nodes))
	g.Edges = make([]Edge, 0, len(edges))
	g.All = make([]State, 0, len(found))
	for k, old := range order {
		g.All = append(g.All, found[old])
		g.index[found[old]] = k
		g.Of[found[old].Node] = append(g.Of[found[old].Node], int32(k))
		g.First = append(g.First, int32(len(g.Edges)))
		for _, e := range edges[firsts[old]:firsts[old+1]] {
			e.From, e.To = k, number[e.To]
			g.Edges = append(g.Edges, e)
		}
	}
	g.First = append(g.First, int32(len(g.Edges)))
	for m := range g.outcomes {
		g.outcomes[m] = make([]*RunOutcome, len(g.All))
	}
	g.sort()
}

func compareMessages(m, o Message) int {
	switch {
	case m.keyless() != o.keyless():
		if m.less(o) {
			return -1
		}
		return 1
	case m.Key == o.Key:
		return 0
	}
	return m.Key.Compare(o.Key)
}

// sort finds the components of the graph and an order of the states in which each
// component comes behind those that lead to it (Tarjan's algorithm, without
// recursion, gives them in reverse).
func (g *StateGraph) sort() {
	list := make([]graph.Edge, len(g.Edges))
	for k := range g.Edges {
		list[k] = graph.Edge{From: g.Edges[k].From, To: g.Edges[k].To}
	}
	all := graph.Strong(len(g.All), list)
	g.Component = make([]int32, len(g.All))
	for c := len(all) - 1; c >= 0; c-- {
		for _, s := range all[c] {
			g.Component[s] = int32(len(all) - 1 - c)
			g.Order = append(g.Order, int32(s))
		}
	}
}

// Span is a number known only to lie between two others.
type Span struct{ Low, High float64 }

func exactly(x float64) Span { return Span{x, x} }

func (s Span) times(o Span) Span { return Span{product(s.Low, o.Low), product(s.High, o.High)} }

// product is a·b with 0·∞ = 0: nothing times anything is nothing.
func product(a, b float64) float64 {
	if a == 0 || b == 0 {
		return 0
	}
	return a * b
}

// CountOf returns how many messages a link makes for one message in hand, and
// whether that had to be guessed.
func (a *Analysis) CountOf(l *graph.Link, at State) (count Span, expected float64, guessed bool) {
	expected = l.Count.Dist.Expected()
	count = exactly(expected)
	e, has := a.Seen(at.Message, a.defaultType(a.Node(at.Node), at.Message))
	if l.CountExpr != nil {
		number, known := l.CountExpr.NumberOf(e, has)
		count, expected = exactly(min(max(math.Trunc(number), 0), 1e6)), min(max(math.Trunc(number), 0), 1e6)
		if !known {
			count, expected, guessed = Span{0, math.Inf(1)}, 1, true
		}
	}
	if l.ForEach != nil {
		length, known := l.ForEach.ListLength(e, has)
		if known {
			count, expected = count.times(exactly(float64(length))), expected*float64(length)
		} else {
			count, guessed = Span{0, math.Inf(1)}, true
		}
	}
	return count, expected, guessed
}
