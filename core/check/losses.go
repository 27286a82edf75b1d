package check

import (
	"fmt"
	"time"

	"ironweir/core/document"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Entry is what is known of the messages that come in at a node.
type Entry struct {
	Survives        int           `json:"survives"`         // faults at once without a loss, as far as searched
	Searched        int           `json:"searched"`         // faults at once of which every set was looked at
	LossSets        []LossSet     `json:"loss_sets"`        // smallest first
	LossProbability *float64      `json:"loss_probability"` // of a message, from the failure shares alone; null: it sets off ever more
	Amplification   Amplification `json:"amplification"`
}

// LossSet is a set of faults that loses a message.
type LossSet struct {
	Faults []string       `json:"faults"` // nodes or groups that fail persistently; none: lost by design
	Cause  string         `json:"cause"`
	Node   string         `json:"node"`           // where it is lost
	After  document.State `json:"after"`          // how long the fault must last before the first loss
	Some   bool           `json:"some,omitempty"` // only some messages

	link int // through which it goes, or None
}

// loss is one way to lose a message under a set of faults.
type loss struct {
	cause string
	node  int
	link  int
	after time.Duration
	some  bool
}

// faults is a set of failing nodes.
type faults map[int]bool

// explorer follows what can happen to a message under faults.
type explorer struct {
	a      *Analysis
	failed faults
	seen   map[arrival]bool
	sent   map[sender]bool
	at     map[int][]arrival // what has been seen, by node
	// What happens without the faults, and the nodes for which they make a
	// difference: elsewhere nothing new happens, and nobody looks again.
	base   *explorer
	dirty  map[int]bool
	losses []loss
	spare  *explorer // that under used last
}

// arrival is a message that comes to a node by a link (or by none).
type arrival struct {
	node, link int
	dead       bool
}

// sender is a node whose runs succeed, and whether nobody waits for them.
type sender struct {
	node         int
	asynchronous bool
}

func (a *Analysis) lossSet(names []string, l loss) LossSet {
	if names == nil {
		names = []string{}
	}
	return LossSet{Faults: names, Cause: l.cause, Node: a.node(l.node).Name, After: document.At(l.after.Seconds()), Some: l.some, link: l.link}
}

// explore follows a message from an entry with nothing broken.
func (a *Analysis) explore(entry int) *explorer {
	x := &explorer{a: a, seen: map[arrival]bool{}, sent: map[sender]bool{}, at: map[int][]arrival{}}
	x.come(arrival{entry, graph.None, false}, 0)
	return x
}

// under looks at what changes when some nodes fail. It looks again only where
// they, or what waits for them or writes to them, take part. What it gives holds
// until it is asked again.
func (x *explorer) under(nodes []int, waiters map[int][]int) *explorer {
	y := x.spare
	if y == nil {
		y = &explorer{a: x.a, failed: faults{}, seen: map[arrival]bool{}, sent: map[sender]bool{}, at: map[int][]arrival{}, base: x, dirty: map[int]bool{}}
		x.spare = y
	} else {
		clear(y.failed)
		clear(y.seen)
		clear(y.sent)
		clear(y.at)
		clear(y.dirty)
		y.losses = y.losses[:0]
	}
	var work []int
	touch := func(i int) {
		if !y.dirty[i] {
			y.dirty[i] = true
			work = append(work, i)
		}
	}
	for _, n := range nodes {
		y.failed[n] = true
		touch(n)
	}
	for k := 0; k < len(work); k++ {
		i := work[k]
		if !y.failed[i] && x.a.node(i).Kind.Channel() {
			continue // a queue that hands out to what fails still takes writes
		}
		for _, w := range waiters[i] {
			touch(w)
		}
	}
	for _, i := range work {
		for _, at := range x.at[i] {
			if at.link == graph.None || !y.dirty[x.a.holder(at)] {
				y.come(at, 0) // what brings it there is not touched by the faults
			}
		}
	}
	return y
}

// holder gives the node from which an arrival comes.
func (a *Analysis) holder(at arrival) int {
	l := a.link(at.link)
	if at.dead && !l.Relation.Polls() {
		return l.To
	}
	return l.From
}

// waiters gives, for each node, those whose outcome depends on it directly:
// callers that wait, runs that write to it, queues whose readers run it.
func (a *Analysis) waiters() map[int][]int {
	out := map[int][]int{}
	for i := range a.Graph.Links {
		if l := a.link(i); l.Relation == model.WaitingCall || l.Relation == model.RunWrite || l.Relation.Polls() {
			out[l.To] = append(out[l.To], l.From)
		}
	}
	return out
}

// reachable gives the nodes that something which comes in at an entry can
// reach, as a copy or by a call.
func (a *Analysis) reachable(entry int, out map[int][]int) map[int]bool {
	reached := map[int]bool{entry: true}
	work := []int{entry}
	for len(work) > 0 {
		i := work[len(work)-1]
		work = work[:len(work)-1]
		for _, to := range out[i] {
			if !reached[to] {
				reached[to] = true
				work = append(work, to)
			}
		}
	}
	return reached
}

func (x *explorer) lose(l loss) { x.losses = append(x.losses, l) }

// come lets a message arrive at a node; after is how long the faults have
// lasted by then.
func (x *explorer) come(at arrival, after time.Duration) {
	if x.seen[at] || x.base != nil && x.base.seen[at] && !x.dirty[at.node] {
		return
	}
	x.seen[at] = true
	x.at[at.node] = append(x.at[at.node], at)
	n := x.a.node(at.node)
	if at.link != graph.None && x.a.link(at.link).Refused && !at.dead {
		x.given(at, x.a.link(at.link), "refused", 0, false)
		return
	}
	if n.Kind.Channel() {
		x.write(at, n, after)
		return
	}
	x.intake(at, n, after)
}

// given ends a delivery: to the link's dead-letter, or lost.
func (x *explorer) given(at arrival, l *graph.Link, cause string, after time.Duration, some bool) {
	dead := graph.None
	switch {
	case l != nil && !at.dead:
		dead = l.DeadLetter
	case l == nil || at.dead:
		dead = x.a.node(at.node).DeadLetter
	}
	if dead != graph.None {
		x.come(arrival{dead, at.link, true}, after)
		return
	}
	x.lose(loss{cause, at.node, at.link, after, some})
}

// write lets a delivered message stand in a channel, unless that fails.
func (x *explorer) write(at arrival, n *graph.Node, after time.Duration) {
	var l *graph.Link
	if at.link != graph.None {
		l = x.a.link(at.link)
	}
	if x.failed[n.ID] {
		if l != nil && x.a.node(l.From).Kind == model.Endpoint {
			return // the client is told
		}
		policy := graph.WritePolicy()
		if l != nil && !at.dead {
			policy = l.Policy
		}
		x.given(at, l, "rejected", after+triesSpan(&policy), false)
		return
	}
	switch {
	case n.Kind == model.Queue:
		x.queue(n, after)
		return
	case n.Kind == model.Stream || n.Kind == model.Table:
		x.feeds(n, after)
		return
	case n.Kind == model.Topic && len(n.Out) == 0:
		x.lose(loss{"unsubscribed", n.ID, graph.None, 0, false})
	}
	for _, id := range n.Out {
		if x.a.Reach[id] != expr.Impossible {
			x.come(arrival{x.a.link(id).To, id, false}, after)
		}
	}
}

// queue lets the readers of a queue take a message.
func (x *explorer) queue(n *graph.Node, after time.Duration) {
	if len(n.Out) == 0 {
		return // it rests there
	}
	taken := false
	for _, id := range n.Out {
		l := x.a.link(id)
		if x.a.Reach[id] == expr.Impossible {
			continue
		}
		taken = true
		if l.Refused {
			x.given(arrival{n.ID, id, false}, l, "refused", 0, false)
			continue
		}
		if x.fails(l.To, map[int]bool{}) || l.Relation == model.PolledMove && x.failed[l.To] {
			x.spent(n, l, after, false)
			continue
		}
		if f := x.a.node(l.To).Fails; f.ForGood > 0 && x.a.node(l.To).Kind.Runs() {
			x.spent(n, l, 0, true)
		}
		if l.Relation == model.PolledMove {
			x.come(arrival{l.To, id, false}, after)
			continue
		}
		x.succeeded(l.To, false, after)
	}
	if !taken {
		x.lose(loss{"expired", n.ID, graph.None, n.Retention, false})
	}
}

// feeds lets each link that reads a stream or a table's changes take a record.
func (x *explorer) feeds(n *graph.Node, after time.Duration) {
	for _, id := range n.Out {
		l := x.a.link(id)
		switch {
		case x.a.Reach[id] == expr.Impossible:
		case l.Refused:
			x.given(arrival{n.ID, id, false}, l, "refused", 0, false)
		case x.fails(l.To, map[int]bool{}) || l.Relation == model.PolledMove && x.failed[l.To]:
			x.spent(n, l, after, false)
		default:
			if f := x.a.node(l.To).Fails; f.ForGood > 0 && x.a.node(l.To).Kind.Runs() {
				x.spent(n, l, 0, true)
			}
			if l.Relation == model.PolledMove {
				x.come(arrival{l.To, id, false}, after)
			} else {
				x.succeeded(l.To, false, after)
			}
		}
	}
}

// patience is how long a reader tries a message whose every run fails, and
// whether it ever stops before the retention.
func patience(n *graph.Node, l *graph.Link) (span time.Duration, ends bool) {
	p := &l.Policy
	switch {
	case p.Tries == 0:
		return time.Duration(p.GiveUp), p.GiveUp > 0
	case n.Kind == model.Queue && !p.WaitSet:
		span = time.Duration(p.Tries-1) * n.Lease // what comes as the fault begins has its last try then
		if p.GiveUp > 0 {
			span = min(span, time.Duration(p.GiveUp))
		}
		return span, true
	}
	return triesSpan(p), true
}

// lastTry is when a message that is tried until its retention ends has its last
// try: a fault that lasts until then loses it.
func lastTry(n *graph.Node, l *graph.Link) time.Duration {
	p := &l.Policy
	retention := int64(n.Retention)
	if n.Kind == model.Queue && !p.WaitSet {
		return time.Duration((retention - 1) / max(int64(n.Lease), 1) * int64(n.Lease))
	}
	t := int64(0)
	for k := 1; ; k++ {
		w := p.Backoff(k)
		if t+w >= retention {
			return time.Duration(t)
		}
		if w == p.Backoff(k+1) { // from here on all waits are alike
			return time.Duration(t + (retention-1-t)/w*w)
		}
		t += w
	}
}

// spent is a message of a queue or feed whose every run fails.
func (x *explorer) spent(n *graph.Node, l *graph.Link, after time.Duration, some bool) {
	span, ends := patience(n, l)
	if !ends || span > n.Retention {
		x.lose(loss{"expired", n.ID, l.ID, after + lastTry(n, l), some})
		return
	}
	x.given(arrival{n.ID, l.ID, false}, l, "exhausted", after+span, some)
}

// intake is a message held for a function, outside system or endpoint.
func (x *explorer) intake(at arrival, n *graph.Node, after time.Duration) {
	var l *graph.Link
	policy := &n.Intake
	if at.link != graph.None && !at.dead {
		l = x.a.link(at.link)
		policy = &l.Policy
	}
	if n.Kind == model.Endpoint || n.Kind == model.Schedule {
		x.succeeded(n.ID, false, after) // a failure is returned to who waits
		return
	}
	if x.fails(n.ID, map[int]bool{}) {
		x.exhausted(at, n, l, after+triesSpan(policy), false)
		return
	}
	if n.Fails.ForGood > 0 {
		x.exhausted(at, n, l, 0, true)
	}
	x.succeeded(n.ID, true, after)
}

// exhausted is an intake whose tries are used up.
func (x *explorer) exhausted(at arrival, n *graph.Node, l *graph.Link, after time.Duration, some bool) {
	taken := false
	for _, id := range n.Out {
		if r := x.a.link(id); r.When == model.Failure && x.a.Reach[id] != expr.Impossible {
			taken = true
			x.come(arrival{r.To, id, false}, after)
		}
	}
	dead := n.DeadLetter
	if l != nil && !at.dead {
		dead = l.DeadLetter
	}
	if dead != graph.None {
		x.come(arrival{dead, at.link, true}, after)
		return
	}
	if !taken {
		x.lose(loss{"exhausted", n.ID, at.link, after, some})
	}
}

// succeeded follows what a run that succeeded sends.
func (x *explorer) succeeded(i int, asynchronous bool, after time.Duration) {
	s := sender{i, asynchronous}
	if x.sent[s] || x.base != nil && x.base.sent[s] && !x.dirty[i] {
		return
	}
	x.sent[s] = true
	n := x.a.node(i)
	for _, id := range n.Out {
		l := x.a.link(id)
		if x.a.Reach[id] == expr.Impossible || l.Op == "read" || l.Op == "delete" {
			continue
		}
		switch {
		case l.When == model.Failure || l.When == model.Success && !asynchronous && !n.ResultsAll:
		case l.Relation == model.WaitingCall:
			if !x.fails(l.To, map[int]bool{}) {
				x.succeeded(l.To, false, after)
			}
		case l.Relation == model.RunWrite && x.failed[l.To]: // ignored, or the run would have failed
			x.lose(loss{"rejected", l.To, id, 0, false})
		default:
			x.come(arrival{l.To, id, false}, after)
		}
	}
}

// fails tells whether every run of a node fails: it is at fault itself, or
// something that it waits for or writes to is.
func (x *explorer) fails(i int, seen map[int]bool) bool {
	if x.failed[i] {
		return true
	}
	if seen[i] {
		return false
	}
	seen[i] = true
	n := x.a.node(i)
	if !n.Kind.Runs() {
		return false
	}
	if n.Fails.EachTry >= 1 {
		return true
	}
	for _, id := range n.Out {
		l := x.a.link(id)
		if l.Forgiven() || l.InCatch || l.When != model.OfRun || x.a.Reach[id] == expr.Impossible {
			continue
		}
		switch l.Relation {
		case model.WaitingCall:
			if l.Refused || x.fails(l.To, seen) {
				return true
			}
		case model.RunWrite:
			if l.Refused || x.failed[l.To] {
				return true
			}
		}
	}
	return false
}

func describeAfter(s document.State) string {
	if s.Seconds == nil {
		return s.State
	}
	if *s.Seconds == 0 {
		return "at once"
	}
	return fmt.Sprintf("after %s", model.FormatDuration(time.Duration(*s.Seconds*1e9).Round(time.Second)))
}
