package guarantees

import (
	"fmt"
	"slices"
	"strings"

	"ironweir/core/check/flow"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// ordered says how far messages that come to a place are in order.
type ordered struct {
	Order
	link      int    // by which they come; graph.None: from outside, or by several
	rewritten string // the link that gives every message a key of its own
}

// followOrder finds, by place, whether messages of one key come there in the order in
// which they entered, with nothing broken: every hop on the one way there keeps it.
func (p *passage) followOrder() {
	q := p.q
	p.orders = make([]*ordered, len(p.way))
	for _, in := range q.a.Spread(p.entry) {
		p.comesInOrder(&ordered{Order: Order{Kept: true, By: []string{}}, link: graph.None}, p.at(in.State))
	}
	for k, s := range p.way {
		here := p.orders[k]
		if here == nil {
			continue
		}
		for _, next := range p.steps[p.first[k]:p.first[k+1]] {
			if had := p.orders[next.to]; normally(&q.g.Edges[next.edge]) && (had == nil || had.Kept) {
				p.comesInOrder(q.passOn(int(s), here, int(next.edge)), next.to)
			}
		}
	}
}

func (o *ordered) lose(link, why string, args ...any) {
	if o.Kept {
		o.Order = Order{Link: link, Why: fmt.Sprintf(why, args...), By: []string{}}
	}
}

// passOn gives the order of messages behind an edge.
func (q *guarantor) passOn(s int, here *ordered, edge int) *ordered {
	e := &q.g.Edges[edge]
	next := *here
	next.link = e.Link
	n := q.a.Node(q.g.All[s].Node)
	if e.Kind == flow.GaveUp || e.Kind == flow.Result {
		next.lose(q.linkName(e), "what `%s` gives up comes later by another way", n.Name)
	}
	if e.Link == graph.None || !next.Kept {
		return &next
	}
	l := q.a.Link(e.Link)
	if l.Key != nil && (strings.Contains(l.Link.Key, "{seq}") || strings.Contains(l.Link.Key, "{id}")) {
		next.rewritten = l.Link.ID()
	}
	if by := q.keyOf(l); by != "" && !slices.Contains(next.By, by) {
		next.By = append(slices.Clone(next.By), by)
		if next.rewritten != "" {
			next.lose(next.rewritten, "`%s` gives every message a new key", next.rewritten)
		}
	}
	if why := q.overtaking[edge]; why != "" {
		next.lose(l.Link.ID(), "%s", why)
	}
	return &next
}

// comesInOrder merges what comes to a state with what else comes there.
func (p *passage) comesInOrder(next *ordered, to int32) {
	q := p.q
	if had := p.orders[to]; had != nil {
		next = p.merge(had, next)
	}
	p.orders[to] = next
	if !q.cycles[0].on(p.way[to]) {
		return
	}
	again := *next
	again.lose("", "messages circulate through `%s`, and later ones overtake them", p.node(int(to)).Name)
	for _, u := range q.cycles[0].states(p.way[to]) {
		if k := p.at(u); k >= 0 && (p.orders[k] == nil || p.orders[k].Kept) {
			p.orders[k] = &again
		}
	}
}

// merge gives the order of messages that come in two states or by two links.
func (p *passage) merge(x, y *ordered) *ordered {
	out := *x
	switch {
	case !x.Kept:
		return &out
	case !y.Kept:
		out.Order = y.Order
	case x.link != y.link:
		out.lose("", "messages take different ways: %s and %s", p.linkOf(x.link), p.linkOf(y.link))
		out.link = graph.None
	case len(y.By) > len(x.By):
		out.Order = y.Order
	}
	return &out
}

func (p *passage) linkOf(link int) string {
	if link < 0 {
		return "another"
	}
	return "`" + p.q.a.Link(link).Link.ID() + "`"
}

// orderAt gives the order of effects in some states of a destination.
func (p *passage) orderAt(at []int, repeated bool) Order {
	var all *ordered
	for _, k := range at {
		if o := p.orders[k]; o != nil {
			if all == nil {
				all = o
			} else {
				all = p.merge(all, o)
			}
		}
	}
	if all == nil {
		all = &ordered{Order: Order{
			By: []string{}, Why: "messages come there only after others have failed", Unused: true,
		}}
	}
	out := *all
	if repeated {
		out.lose("", "a repeated effect comes after later ones")
	}
	return out.Order
}

// keyOf returns the expression by which the reader of a link keeps messages in order.
func (q *guarantor) keyOf(l *graph.Link) string {
	from := q.a.Node(l.From)
	switch {
	case !l.Relation.Polls():
		return ""
	case from.Kind.Leases() && from.Grouped:
		return from.Node.Group
	case from.Kind == model.Stream && from.Partitions != 1:
		return from.Node.By
	}
	return ""
}

// overtakesAtIntake says why later messages may overtake one at the intake of a node, of whose runs some may fail;
// empty: they do not.
func (q *guarantor) overtakesAtIntake(s int, n *graph.Node, fails bool) string {
	switch {
	case n.Concurrency != 1 || fails || n.Pool != "":
		return fmt.Sprintf("`%s` handles messages concurrently", n.Name)
	case q.a.Outcome(s, flow.Worst).Length.Tail(0) > 0: // [AI-03]
		return fmt.Sprintf("a message that finds `%s` busy is offered again behind later ones", n.Name)
	}
	return ""
}

// overtakes says how a message can overtake an earlier one of its key on a link, with
// nothing broken.
func (q *guarantor) overtakes(s int, l *graph.Link, to int) string {
	a := q.a
	at, next := q.g.All[s], q.g.All[to]
	from, target := a.Node(at.Node), a.Node(next.Node)
	fixed := func(d model.Distribution) bool { return d.Largest() == d.Expected() }
	full := !target.Kind.Runs() && (target.Capacity > 0 || target.PartitionRate > 0) // it may reject what has no room
	bad := target.Kind.Runs() && a.Outcome(to, flow.Worst).Bad() > 0 || target.Fails.EachTry > 0 ||
		target.Fails.ForGood > 0 || full
	eachFails := l.Read.UpTo > 1 && l.Read.Failed == "each" && bad
	late := func(what string) string {
		return fmt.Sprintf("a %s of a batch that fails is handled after those behind it, by `%s`", what, target.Name)
	}
	switch {
	case l.Relation.Polls():
		switch from.Kind {
		case model.Queue:
			readers := a.ReadersOf(from)
			switch {
			case eachFails:
				return late("message")
			case from.Grouped:
				return ""
			case readers > 1:
				return fmt.Sprintf("`%s` is not grouped and has %d readers", from.Name, readers)
			case bad:
				return fmt.Sprintf("`%s` is not grouped, and a message that fails comes back behind later ones", from.Name)
			case l.Read.Prefetch > 0:
				return fmt.Sprintf("`%s` is not grouped, and its readers prefetch", from.Name)
			case l.Read.Newest:
				return "the reader takes the newest first"
			}
		case model.Stream:
			switch {
			case from.Node.By == "" && from.Partitions != 1:
				return fmt.Sprintf("`%s` spreads records over partitions without a key", from.Name)
			case eachFails:
				return late("record")
			case from.Partitions == 0:
				return fmt.Sprintf("`%s` adds partitions, which moves keys", from.Name)
			}
		case model.Table:
			if from.Partitions != 1 {
				return fmt.Sprintf("the change feed of `%s` has several partitions", from.Name)
			}
			if eachFails {
				return late("change")
			}
		}
		if target.Kind == model.Function && target.Concurrency != 0 && from.Kind.Leases() {
			return fmt.Sprintf("a throttled message of `%s` comes back behind later ones", from.Name)
		}
		return ""
	case next.How == flow.AsIntake:
		if why := q.overtakesAtIntake(to, target, bad); why != "" {
			return why
		}
	case next.How == flow.AsCall && (at.How == flow.AsRequest || from.Kind.Answers()):
		return fmt.Sprintf("`%s` handles requests concurrently", from.Name)
	case target.Kind == model.Outside && !from.Kind.Runs():
		return fmt.Sprintf("pushes to `%s` are concurrent", target.Name)
	case l.Relation == model.Write || l.Relation == model.RunWrite && from.Kind.Answers():
		if !fixed(from.Notice) {
			return fmt.Sprintf("`%s` notifies after a random time", from.Name)
		}
		again := l.Relation == model.Write && l.Policy.Tries != 1 // what is rejected is written later
		if !fixed(target.Takes) ||
			again && (target.Fails.EachTry > 0 || full) {
			return fmt.Sprintf("`%s` takes some writes later than others", target.Name)
		}
	case l.Relation.Asynchronous():
		return fmt.Sprintf("nobody waits for `%s`", target.Name)
	case from.Kind == model.Workflow:
		return fmt.Sprintf("executions of `%s` run concurrently", from.Name)
	}
	if from.Kind.Runs() && at.How == flow.AsIntake && from.Concurrency != 1 {
		return fmt.Sprintf("`%s` handles messages concurrently", from.Name)
	}
	return ""
}
