package guarantees

import (
	"fmt"
	"math"

	"ironweir/core/check/flow"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// cause is why an edge may be taken more than once for one message.
type cause struct {
	edge  int
	fault string // that it takes; empty: it happens in normal operation
	why   string
	laterFailure
}

// laterFailure is how a run fails after it has taken an edge; of a cause in normal
// operation, what a run must do to show it.
type laterFailure struct {
	how  string // empty: it does not
	node int    // the node that fails, or None
	slow bool   // it is slow instead
}

var noFailure = laterFailure{node: graph.None}

// cause notes why an edge is repeated; fault is empty in normal operation.
func (q *guarantor) cause(edge int, fault string, shown laterFailure, why string, args ...any) {
	m := 0
	if fault != "" {
		m = 1
	}
	from := q.g.Edges[edge].From
	q.byState[m][from] = append(q.byState[m][from], int32(len(q.causes[m])))
	q.causes[m] = append(q.causes[m], cause{edge, fault, fmt.Sprintf(why, args...), shown})
}

// retried reports whether a run at a state is made again when it fails, and by what.
func (q *guarantor) retried(s int) (by string, ok bool) {
	by, known := q.again[s]
	if !known {
		q.again[s] = "" // callers who wait for each other end here
		by = q.triedAgainBy(s)
		q.again[s] = by
	}
	return by, by != ""
}

// triedAgainBy says by what a run at a state is made again when it fails; empty: it is not.
func (q *guarantor) triedAgainBy(s int) string {
	at := q.g.All[s]
	switch at.How {
	case flow.AsIntake, flow.AsPoll:
		if q.a.PolicyOf(at.Context).Tries == 1 {
			return ""
		}
		if at.How == flow.AsPoll {
			return "`" + q.a.Node(q.a.Link(int(at.Link)).From).Name + "` delivers the message again"
		}
		return "its intake tries the message again"
	case flow.AsCall:
		for _, i := range q.into[s] {
			e := &q.g.Edges[i]
			if e.Kind != flow.Calls {
				continue
			}
			if l := q.a.Link(e.Link); l.Policy.Tries != 1 {
				return "`" + q.a.Node(q.g.All[e.From].Node).Name + "` calls again"
			} else if l.Forgiven() {
				continue
			}
			if by, again := q.retried(e.From); again { // the caller fails with it
				return by
			}
		}
	}
	return ""
}

// repeatedRuns finds what a second run for one message does again.
func (q *guarantor) repeatedRuns(s int) {
	at := q.g.All[s]
	n := q.a.Node(at.Node)
	if !n.Kind.Runs() || at.How == flow.AsRequest {
		return
	}
	by, retried := q.retried(s)
	reader := q.readerOf(s)
	outlasted, mayOutlast := false, false // the lease, by a run; the same under a fault
	if reader != nil && q.a.Node(reader.From).Kind.Leases() {
		longest := q.longestRun(s, reader)
		outlasted = q.sharesLease(reader, longest[0])
		mayOutlast = q.a.Node(reader.From).Lease.Seconds() <= longest[1]
	}
	for k, e := range q.g.Leaving(s) {
		edge := int(q.g.First[s]) + k
		if e.Kind == flow.GaveUp || e.Kind == flow.LifeEnds || !taken(&e) {
			continue
		}
		if e.Kind == flow.Result { // at the end of the tries, or of each run
			if at.How == flow.AsIntake {
				continue
			}
			if retried && q.a.Link(e.Link).When == model.Failure {
				q.repeatedFailure(s, edge, n, by)
				continue
			}
		}
		switch {
		case outlasted:
			q.cause(edge, "", laterFailure{node: n.ID, slow: true},
				"the lease of `%s` ends while a run of `%s` is in progress, so another begins",
				q.a.Node(reader.From).Name, n.Name)
		case mayOutlast:
			q.cause(edge, n.Name, noFailure, "a run of `%s` may last until its timeout, longer than the lease of `%s`",
				n.Name, q.a.Node(reader.From).Name)
		}
		if l, fails := q.retriedTask(s, &e); fails {
			q.cause(edge, "", laterFailure{node: l.To}, "the later task `%s` can fail, and the tasks are tried again", l.Link.ID())
			continue
		} else if l != nil {
			q.cause(edge, q.a.Node(l.To).Name, noFailure, "the later task `%s` fails, and the tasks are tried again", l.Link.ID())
			continue
		}
		if !retried {
			continue
		}
		if f := q.failsAfter(s, &e); f.how != "" {
			q.cause(edge, "", f, "%s, and %s", f.how, by)
		} else if fault, how := q.failsUnderFault(s, &e); fault != "" {
			q.cause(edge, fault, noFailure, "%s, and %s", how, by)
		}
	}
}

// repeatedFailure finds why a node whose every run has a result says more than once that it has failed.
func (q *guarantor) repeatedFailure(s, edge int, n *graph.Node, by string) {
	const how = "each run that fails has a result"
	if q.a.Outcome(s, flow.Worst).Bad() > 0 {
		q.cause(edge, "", laterFailure{how, n.ID, false}, "%s, and %s", how, by)
	} else {
		q.cause(edge, n.Name, noFailure, "%s, and %s", how, by)
	}
}

// longestRun returns the longest run of a reader's messages at a state, in seconds:
// in normal operation, and under a fault.
func (q *guarantor) longestRun(s int, reader *graph.Link) [2]float64 {
	n := q.a.Node(q.g.All[s].Node)
	within := reader.Read.Within.Seconds()
	limit := math.Inf(1)
	if n.Timeout > 0 {
		limit = n.Timeout.Seconds()
	}
	longest := 0.0
	for _, t := range q.g.Of[n.ID] { // a batch lasts as long as its longest message
		if q.g.All[t].Context != q.g.All[s].Context {
			continue
		}
		length := q.a.Outcome(int(t), flow.Worst).Length
		if length.Mass > 0 {
			for _, x := range length.Atoms {
				longest = max(longest, x.At)
			}
			if length.Tail(longest) > 0 {
				longest = limit
			}
		}
	}
	ahead := 1.0
	if reader.Read.Prefetch > 0 {
		ahead += float64(reader.Read.Prefetch)
	}
	return [2]float64{min(longest, limit)*ahead + within, limit*ahead + within}
}

// sharesLease reports whether a run can outlast its message's lease while a reader is
// free to take the message again.
func (q *guarantor) sharesLease(reader *graph.Link, longest float64) bool {
	from := q.a.Node(reader.From)
	return from.Lease.Seconds() <= longest && (q.a.ReadersOf(from) > 1 || reader.Read.Prefetch > 0)
}

// later lists the links that a run takes after an edge, in order, the same link among
// them where it is taken more than once.
func (q *guarantor) later(s int, e *flow.Edge) []*graph.Link {
	n := q.a.Node(q.g.All[s].Node)
	own := q.a.Link(e.Link)
	stage := func(l *graph.Link) int {
		switch {
		case l.AtStart:
			return 0
		case l.Relation == model.WaitingCall || l.ByTask:
			return 1
		}
		return 2
	}
	var tasks *taskOrder
	if own.ByTask {
		tasks = q.tasksOf(n)
	}
	var out []*graph.Link
	passed := false
	reader := q.readerOf(s)
	many := reader != nil && reader.Read.UpTo > 1 || own.ForEach != nil || own.Link.Count.Expr != "" ||
		own.Link.Count.Dist.Largest() > 1
	for _, id := range n.Out {
		l := q.a.Link(id)
		if l.When != model.OfRun || q.a.Reach[id] == expr.Impossible && !l.Refused {
			continue
		}
		switch a, b := stage(own), stage(l); {
		case tasks != nil && l.ByTask:
			if tasks.follows(own.ID, id) || many {
				out = append(out, l)
			}
		case id == own.ID:
			passed = true
			if many {
				out = append(out, l)
			}
		case b > a, b == a && (passed || many):
			out = append(out, l)
		}
	}
	return out
}

// failsAfter says how a run may fail after it has taken an edge, with nothing broken.
func (q *guarantor) failsAfter(s int, e *flow.Edge) laterFailure {
	a, at := q.a, q.g.All[s]
	n := a.Node(at.Node)
	own := a.Link(e.Link)
	o := a.Outcome(s, flow.Worst)
	if o.Bad() == 0 {
		return noFailure
	}
	late := o.Late > 0
	switch {
	case own.AtStart:
		return laterFailure{"the run can fail later", n.ID, false}
	case own.Relation == model.WaitingCall && late:
		return laterFailure{"the run can exceed its timeout later", own.To, true}
	case e.Kind == flow.Sends && n.Together:
		return noFailure
	}
	for _, l := range q.later(s, e) {
		calls, writes := l.Relation == model.WaitingCall, l.Relation == model.RunWrite && l.Op != "read"
		switch {
		case calls && !l.Ignore && q.callOf(s, l):
			return laterFailure{"the later call `" + l.Link.ID() + "` can fail", l.To, false}
		case writes && !l.Ignore && q.rejects(s, l):
			return laterFailure{"the later write `" + l.Link.ID() + "` can be rejected", l.To, false}
		case late && (calls || writes && (!a.Node(l.To).Takes.IsZero() || q.rejects(s, l))):
			return laterFailure{"the run can exceed its timeout later", l.To, true}
		}
	}
	if o := q.tasksOf(n); o != nil && own.ByTask && o.raisesAfter(own.ID, [2]int{0, o.count}) {
		return laterFailure{"a later task can raise an error", n.ID, false}
	}
	if reader := q.readerOf(s); reader != nil && reader.Read.UpTo > 1 && e.Kind != flow.Sends {
		return laterFailure{"the batch can fail later", n.ID, false}
	}
	return noFailure
}

// rejects reports whether a write of a run can be rejected with nothing broken.
func (q *guarantor) rejects(s int, l *graph.Link) bool {
	target := q.a.Node(l.To)
	reject, _ := q.a.Rejection(l, q.g.All[s])
	return reject > 0 || q.a.Rejected[l.To] > 0 || target.Capacity > 0 || target.PartitionRate > 0 ||
		q.a.Graph.Topology.Limits.Payload > 0
}

// callOf reports whether a call of a run can fail with nothing broken.
func (q *guarantor) callOf(s int, l *graph.Link) bool {
	if l.Refused {
		return true
	}
	for _, e := range q.g.Leaving(s) {
		if e.Kind == flow.Calls && e.Link == l.ID && q.callFails(&e) {
			return true
		}
	}
	return false
}

// failsUnderFault names a single fault by which a run fails after it has taken an edge,
// and says how.
func (q *guarantor) failsUnderFault(s int, e *flow.Edge) (fault, how string) {
	a := q.a
	n := a.Node(q.g.All[s].Node)
	own := a.Link(e.Link)
	switch {
	case own.AtStart:
		return n.Name, "the run fails later"
	case e.Kind == flow.Sends && n.Together:
		return "", ""
	}
	again := false // the same link is taken more than once
	for _, l := range q.later(s, e) {
		to := a.Node(l.To)
		switch {
		case l.Op == "read":
		case l.Ignore:
			if a.MayBeLateByTries(s, l) {
				return to.Name, "the run exceeds its timeout while it tries to write to `" + to.Name + "` again"
			}
		case l.ID == own.ID:
			again = true
		case l.Relation == model.WaitingCall:
			return to.Name, "the later call of `" + to.Name + "` fails"
		case l.Relation == model.RunWrite:
			return to.Name, "`" + to.Name + "` rejects the later write"
		}
	}
	to := a.Node(own.To)
	switch {
	case own.Relation == model.WaitingCall:
		return n.Name + "/crash", "the run ends without an answer"
	case again && own.Relation == model.RunWrite && !to.Takes.IsZero():
		return to.Name, "`" + to.Name + "` rejects a later write"
	}
	return "", ""
}

// repeatedPasses finds what a channel hands on more than once, and cycles.
func (q *guarantor) repeatedPasses(s int) {
	a, at := q.a, q.g.All[s]
	n := a.Node(at.Node)
	first := int(q.g.First[s])
	leaving := q.g.Leaving(s)
	for k, e := range leaving {
		if !taken(&e) {
			continue
		}
		edge := first + k
		if n.Duplicates > 0 && (e.Kind == flow.Delivers || e.Kind == flow.Polls) {
			q.cause(edge, "", noFailure, "`%s` delivers some messages twice", n.Name)
		}
		if e.Kind == flow.Polls {
			l, to := a.Link(e.Link), a.Node(q.g.All[e.To].Node)
			if l.Relation == model.PolledPush && n.Kind.Leases() {
				takes := to.Takes.Largest()
				if to.Timeout > 0 {
					takes = min(takes, to.Timeout.Seconds())
				}
				if q.sharesLease(l, takes+l.Read.Within.Seconds()) {
					q.cause(edge, "", laterFailure{node: to.ID, slow: true},
						"the lease of `%s` ends before `%s` has answered", n.Name, to.Name)
				}
			}
		}
		if f, fault := q.leadsBack(s, k); f != nil { // a cycle passes here again
			q.cause(edge, fault, noFailure, "messages pass `%s` again by `%s`", n.Name, q.linkName(f))
		}
	}
}

// leadsBack returns another edge of a state by which a message that takes edge k comes there again, and the fault that
// it takes; nil: there is none.
func (q *guarantor) leadsBack(s, k int) (back *flow.Edge, fault string) {
	leaving := q.g.Leaving(s)
	e := &leaving[k]
	for j := range leaving {
		f := &leaving[j]
		if j == k || !q.cycles[1].joins(f) || !taken(f) || !q.bothTaken(s, e, f) {
			continue
		}
		switch onward := q.cycles[0].joins(f) && normally(f); {
		case onward && normally(e):
			return f, ""
		case onward:
			back, fault = f, q.givesUpBy(e)
		case back == nil:
			back, fault = f, q.closedBy(q.cycles[1], int32(s))
		}
	}
	return back, fault
}

func (q *guarantor) linkName(e *flow.Edge) string {
	if e.Link == graph.None {
		return q.a.Node(q.g.All[e.From].Node).Name
	}
	return q.a.Link(e.Link).Link.ID()
}

// bothTaken reports whether one message may take two edges of a state.
func (q *guarantor) bothTaken(s int, e, f *flow.Edge) bool {
	n := q.a.Node(q.g.All[s].Node)
	failed := func(e *flow.Edge) bool {
		return e.Kind == flow.GaveUp || e.Kind == flow.Result && q.a.Link(e.Link).When == model.Failure
	}
	if n.Kind.Leases() {
		return false // a consumer takes a message away
	}
	if n.Kind.Runs() && failed(f) != failed(e) {
		early := e
		if failed(e) {
			early = f
		}
		if early.Kind == flow.StartSend || early.Kind == flow.Calls {
			return true
		}
		if early.Kind != flow.Sends || early.Link == graph.None {
			return false
		}
		return q.failsAfter(s, early).how != ""
	}
	return true
}

// readerOf returns the link whose reader brings messages to a run; nil: none does.
func (q *guarantor) readerOf(s int) *graph.Link {
	if at := q.g.All[s]; at.How == flow.AsPoll {
		return q.a.Link(int(at.Link))
	}
	return nil
}
