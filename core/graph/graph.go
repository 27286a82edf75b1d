// Package graph is the compiled topology: dense ids, adjacency, resolved
// tries, compiled filters and expressions. The analysis and the engine both
// read it and neither changes it.
package graph

import (
	"fmt"
	"math"
	"regexp"
	"strings"
	"time"

	"ironweir/core/expr"
	"ironweir/core/model"
)

// None stands for no node or no link.
const None = -1

// Graph is a topology ready for analysis and simulation. Nodes and links have
// dense ids, in the order written.
type Graph struct {
	Topology     *model.Topology
	Nodes        []Node
	Links        []Link
	UsesData     bool // some expression, schema or template reads payloads
	UsesSize     bool // some expression reads sizes, or payloads are limited
	UsesSource   bool // some filter or expression reads sources
	UsesIdentity bool // something reads who made an event, and when: its source, id or time
	byName       map[string]int
	byLink       map[string]int
}

// Node is a compiled node.
type Node struct {
	*model.Node
	ID         int
	Out        []int // link ids, in the order written
	In         []int // link ids
	DeadFrom   []int // ids of the links whose dead-letter this is
	DeadLetter int   // node id or None, for deliveries that state none
	Cases      []Case
	Ignore     Filter
	Keys       []*expr.Template
	Group      *expr.Expression
	DedupeBy   *expr.Expression
	Idempotent *expr.Expression
	By         *expr.Expression
	Allowed    map[int]bool // nodes that may use it; nil: all
	Payload    *Payload     // of a schedule
	Tasks      []*Task      // of a workflow
	Intake     Policy       // for what comes by no link: traffic, dead letters
}

// Case is a compiled case of a function.
type Case struct {
	*model.Case
	If *expr.Expression
}

// Link is a compiled link.
type Link struct {
	*model.Link
	ID         int
	From, To   int
	DeadLetter int // node id or None; its target's own where the link states none
	Policy     Policy
	Filter     Filter
	If         *expr.Expression
	ForEach    *expr.Expression
	CountExpr  *expr.Expression
	Key        *expr.Template
	Payload    *Payload
	Refused    bool // the target's `callers` do not name the source
}

// Policy is how often and when a delivery or call is tried. Times in
// nanoseconds.
type Policy struct {
	Tries   int // 0: without end
	Wait    int64
	Factor  float64
	MaxWait int64
	Jitter  float64
	GiveUp  int64 // 0: never
	Except  []string
	WaitSet bool // a queue's link states `wait`, so the rest of the lease does not count
}

// Backoff is the wait before try k+1 (k from 1) without jitter:
// min(wait·factor^(k−1), max-wait), at least one millisecond.
func (p *Policy) Backoff(k int) int64 {
	w := float64(p.Wait)
	if p.Factor != 1 {
		w *= math.Pow(p.Factor, float64(k-1))
	}
	if p.MaxWait > 0 && w > float64(p.MaxWait) {
		w = float64(p.MaxWait)
	}
	if w > float64(model.MaxDuration) {
		w = float64(model.MaxDuration)
	}
	return max(int64(w), int64(time.Millisecond))
}

const second = int64(time.Second)

// Rows of the table of tries in docs/semantics.md.
var (
	intakePolicy = Policy{Tries: 4, Wait: 30 * second, Factor: 2, MaxWait: 300 * second, GiveUp: 4 * 3600 * second}
	pushPolicy   = Policy{Tries: 3, Wait: 10 * second, Factor: 2, GiveUp: 3600 * second}
	writePolicy  = Policy{Tries: 3, Wait: second, Factor: 2}
	queuePolicy  = Policy{Factor: 1}
	feedPolicy   = Policy{Wait: second, Factor: 2, MaxWait: 60 * second}
	oncePolicy   = Policy{Tries: 1, Factor: 1}
)

// WritePolicy is how a delivering write is tried where nothing is stated.
func WritePolicy() Policy { return writePolicy }

func basePolicy(from model.Kind, r model.Relation) Policy {
	switch {
	case r == model.Intake || r == model.RunIntake:
		return intakePolicy
	case r == model.Push || r == model.RunPush:
		return pushPolicy
	case r == model.Write:
		return writePolicy
	case r.Polls() && from.Leases():
		return queuePolicy
	case r.Polls():
		return feedPolicy
	}
	return oncePolicy
}

// with gives the policy with the stated fields of r.
func (p Policy) with(r *model.Retry) Policy {
	if r == nil {
		return p
	}
	if r.Tries != nil {
		p.Tries = *r.Tries
	}
	if r.Wait != nil {
		p.Wait, p.WaitSet = int64(*r.Wait), true
	}
	if r.Factor != nil {
		p.Factor = *r.Factor
	}
	if r.MaxWait != nil {
		p.MaxWait = int64(*r.MaxWait)
	}
	if r.Jitter != nil {
		p.Jitter = *r.Jitter
	}
	if r.GiveUp != nil {
		p.GiveUp = int64(*r.GiveUp)
	}
	if r.Except != nil {
		p.Except = r.Except
	}
	return p
}

// Compile makes the graph of a topology that has been read without problems.
func Compile(t *model.Topology) (*Graph, error) {
	g := &Graph{
		Topology: t,
		UsesSize: t.Limits.Payload > 0,
		byName:   make(map[string]int, len(t.Nodes)),
		byLink:   map[string]int{},
	}
	g.Nodes = make([]Node, len(t.Nodes))
	for i, n := range t.Nodes {
		g.byName[n.Name] = i
		g.Nodes[i] = Node{Node: n, ID: i, DeadLetter: None}
	}
	for i := range g.Nodes {
		if err := g.compileNode(&g.Nodes[i]); err != nil {
			return nil, err
		}
	}
	for i := range g.Nodes {
		for _, l := range g.Nodes[i].Node.Links {
			if err := g.compileLink(i, l); err != nil {
				return nil, err
			}
		}
	}
	for i := range g.Nodes {
		n := &g.Nodes[i]
		var err error
		if n.Tasks, err = g.compileTasks(n, n.Do); err != nil {
			return nil, err
		}
	}
	for i := range g.Links {
		l := &g.Links[i]
		whole := l.Wrap == "event" || l.When != model.OfRun // the whole event becomes data
		g.UsesIdentity = g.UsesIdentity || g.UsesData && whole
		if l.DeadLetter != None {
			to := &g.Nodes[l.DeadLetter]
			to.DeadFrom = append(to.DeadFrom, i)
		}
	}
	return g, nil
}

// Asks reports whether the runs of a node may take longer than their own work, since they
// call, or write where that takes time.
func (g *Graph) Asks(n *Node) bool {
	if n.Tasks != nil {
		return true
	}
	for _, id := range n.Out {
		switch l := &g.Links[id]; {
		case l.When != model.OfRun:
		case l.ByTask, l.Relation == model.WaitingCall:
			return true
		case l.Relation.Asynchronous():
		case !g.Nodes[l.To].Takes.IsZero(), l.Relation == model.RunWrite && l.Policy.Tries > 1:
			return true
		}
	}
	return false
}

// NodeID gives the id of a node by name, or None.
func (g *Graph) NodeID(name string) int {
	if id, ok := g.byName[name]; ok {
		return id
	}
	return None
}

// NoNode says that there is no node of a name, and which may have been meant.
func (g *Graph) NoNode(name string) error {
	return fmt.Errorf("no node %q%s", name, model.DidYouMean(name, g.Topology.NodeNames()))
}

// LinkID gives the id of a link by its FROM:NAME, or None.
func (g *Graph) LinkID(name string) int {
	if id, ok := g.byLink[name]; ok {
		return id
	}
	return None
}

func (g *Graph) compileNode(n *Node) (err error) {
	if n.Node.DeadLetter != "" {
		n.DeadLetter = g.NodeID(n.Node.DeadLetter)
	}
	if len(n.Callers) > 0 || g.Topology.Explicit {
		n.Allowed = map[int]bool{}
		for _, c := range n.Callers {
			n.Allowed[g.NodeID(c)] = true
		}
	}
	switch {
	case n.Kind == model.Outside:
		n.Intake = pushPolicy
	case n.Kind.Channel():
		n.Intake = writePolicy
	default:
		n.Intake = intakePolicy.with(n.Retry)
	}
	for i := range n.Node.Cases {
		c := Case{Case: &n.Node.Cases[i]}
		if c.If, err = g.expression(c.Case.If, "bool"); err != nil {
			return err
		}
		n.Cases = append(n.Cases, c)
	}
	for _, k := range n.Node.Keys {
		t, err := expr.ParseTemplate(k, true)
		if err != nil {
			return err
		}
		n.Keys = append(n.Keys, t)
	}
	if n.Ignore, err = g.filter(n.Node.Ignore); err != nil {
		return err
	}
	n.Ignore.Everything = false
	for _, e := range []struct {
		source string
		into   **expr.Expression
	}{{n.Node.Group, &n.Group}, {n.Node.By, &n.By}, {n.Node.Idempotent, &n.Idempotent}} {
		if *e.into, err = g.expression(e.source, "any"); err != nil {
			return err
		}
	}
	if n.Dedupe != nil {
		if n.DedupeBy, err = g.expression(n.Dedupe.By, "any"); err != nil {
			return err
		}
	}
	if n.Accepts != nil {
		g.UsesData = true
	}
	n.Payload, err = g.payload(n.Data)
	return err
}

func (g *Graph) compileLink(from int, m *model.Link) (err error) {
	id := len(g.Links)
	to := g.NodeID(m.To)
	if to == None {
		return fmt.Errorf("link %s leads to no node", m.ID())
	}
	l := Link{Link: m, ID: id, From: from, To: to, DeadLetter: None}
	source, target := &g.Nodes[from], &g.Nodes[to]
	l.Refused = target.Allowed != nil && !target.Allowed[from]
	l.Policy = basePolicy(source.Kind, m.Relation)
	switch {
	case m.Retry != nil:
		l.Policy = l.Policy.with(m.Retry)
	case m.Relation == model.Intake || m.Relation == model.RunIntake:
		l.Policy = l.Policy.with(target.Retry)
	}
	switch {
	case m.DeadLetter != "":
		l.DeadLetter = g.NodeID(m.DeadLetter)
	case m.Relation == model.Intake || m.Relation == model.RunIntake:
		l.DeadLetter = target.DeadLetter
	}
	if l.Filter, err = g.filter(m.Match); err != nil {
		return err
	}
	for _, e := range []struct {
		source, want string
		into         **expr.Expression
	}{{m.If, "bool", &l.If}, {m.ForEach, "list", &l.ForEach}, {m.Count.Expr, "number", &l.CountExpr}} {
		if *e.into, err = g.expression(e.source, e.want); err != nil {
			return err
		}
	}
	if m.Key != "" {
		if l.Key, err = expr.ParseTemplate(m.Key, false); err != nil {
			return err
		}
		g.UsesData = g.UsesData || l.Key.ReadsData
	}
	if l.Payload, err = g.payload(m.Data); err != nil {
		return err
	}
	source.Out = append(source.Out, id)
	target.In = append(target.In, id)
	g.byLink[m.ID()] = id
	g.Links = append(g.Links, l)
	return nil
}

// readsIdentity finds what distinguishes one event from another in an expression; the
// event as a whole does too.
var readsIdentity = regexp.MustCompile(`\bevent\s*(\.\s*(id|time)\b|\[|$|[^.\s])`)

func (g *Graph) expression(source, want string) (*expr.Expression, error) {
	if source == "" {
		return nil, nil
	}
	x, err := expr.Compile(source, want)
	if err == nil && x.ReadsData {
		g.UsesData = true
	}
	g.UsesSize = g.UsesSize || strings.Contains(source, "size")
	g.UsesSource = g.UsesSource || strings.Contains(source, "source")
	g.UsesIdentity = g.UsesIdentity || g.UsesSource || readsIdentity.MatchString(source)
	return x, err
}
