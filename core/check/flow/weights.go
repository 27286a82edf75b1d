package flow

import (
	"math"

	"ironweir/core/check/internal/dist"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// loss is a way in which messages at a state are lost with nothing broken.
type loss struct {
	cause    string
	node     int   // that accounts for the copy
	link     int   // or None
	place    int32 // its number, once losses are looked for; see placeOf
	share    Span
	expected float64
	stated   bool // by a stated `fails` share
	why      string
}

// Park is a way in which messages at a state are parked with nothing broken.
type Park struct {
	To, Link int
	Share    Span
	expected float64
	Stated   bool
	Why      string
	Cause    string
}

// weigh fills in how many messages each edge makes of one that is at its start, and
// after how long; and what is lost and parked at each state.
func (a *Analysis) weigh() {
	g := a.States
	a.losses = make([][]loss, len(g.All))
	a.Parks = make([][]Park, len(g.All))
	for s := range g.All {
		a.weighState(s)
	}
}

// three is a number in the usual case and its bounds.
type three struct {
	usual float64
	Span
}

func same(x float64) three { return three{x, exactly(x)} }

func (t three) times(o three) three { return three{product(t.usual, o.usual), t.Span.times(o.Span)} }

// of returns what a function of an outcome is in the usual, best and worst case.
func (a *Analysis) three(s int, of func(m Mode) float64) three {
	u := of(Usual)
	at := a.States.All[s]
	if o := a.Outcome(s, Usual); !o.varies() && at.How != AsPoll && a.throttled[at.Node] == 0 {
		return same(u)
	}
	b, w := of(Best), of(Worst)
	return three{u, Span{min(u, b, w), max(u, b, w)}}
}

func (a *Analysis) weighState(s int) {
	at := a.States.All[s]
	n := a.Node(at.Node)
	edges := a.States.Edges[a.States.First[s]:a.States.First[s+1]]
	for k := range edges {
		edges[k].Mean, edges[k].expected, edges[k].taken, edges[k].Delay = Span{}, 0, 0, 0
	}
	split(edges)
	switch {
	case n.Kind.Runs():
		a.weighRun(s, at, n, edges)
	case n.Kind.Answers():
		a.weighRequest(s, at, n, edges)
	case n.Kind.Polled() && len(n.Out) > 0:
		a.weighPolled(s, at, n, edges)
		a.mayDropAny(n, edges)
	default:
		a.weighPassing(s, at, n, edges)
	}
	if n.Duplicates > 0 {
		comesTwice(n, edges)
	}
}

// mayDropAny notes that a queue which drops messages of the same key may drop any: what their keys are is not known.
func (a *Analysis) mayDropAny(n *graph.Node, edges []Edge) {
	if n.DedupeBy == nil || n.Dedupe.By == "event.id" {
		return
	}
	for k := range edges {
		edges[k].Mean.Low = 0
	}
}

// comesTwice counts the second deliveries of a node. They run and send, but are no messages of their own: what is lost
// of them is not, so that losses that follow are upper bounds.
func comesTwice(n *graph.Node, edges []Edge) {
	for k := range edges {
		if e := &edges[k]; e.Kind == Delivers || e.Kind == Polls {
			e.Mean.High *= 1 + n.Duplicates
			e.expected *= 1 + n.Duplicates
		}
	}
}

// split notes on how many edges a link stands that takes a message in several
// shapes: it takes each message once.
func split(edges []Edge) {
	for k := range edges {
		edges[k].ways = 1
	}
	if len(edges) > 64 {
		return
	}
	for k := range edges {
		e := &edges[k]
		if e.Link == graph.None || e.Kind == GaveUp {
			continue
		}
		e.ways = 0
		for j := range edges {
			if o := &edges[j]; o.Link == e.Link && o.Kind == e.Kind {
				e.ways++
			}
		}
	}
}

// sure returns how many of a message an edge takes: one for certain, or perhaps.
func (e *Edge) sure() three {
	if e.ways > 1 {
		return three{1 / float64(e.ways), Span{0, 1}}
	}
	if e.Verdict == expr.Possible {
		return three{1, Span{0, 1}}
	}
	return same(1)
}

// lose notes a loss at a state.
func (a *Analysis) lose(s int, cause string, node, link int, share three, stated bool, why string) {
	if share.High < Negligible {
		return
	}
	if fails := a.Node(node).Fails.EachTry; (cause == "overflow" || cause == "throttled") &&
		fails > 0 { // either may be the reason
		part := share.times(three{fails, Span{0, 1}})
		a.losses[s] = append(a.losses[s], loss{"rejected", node, link, 0, part.Span, part.usual, stated, why})
		share = share.times(three{1 - fails, Span{0, 1}})
	}
	a.losses[s] = append(a.losses[s], loss{cause, node, link, 0, share.Span, share.usual, stated, why})
}

// Negligible is a share of messages that no run can be expected to show.
const Negligible = 1e-9

// giveUp notes what becomes of a share of messages that is given up: it goes over
// the edge to a dead-letter node, or is lost.
func (a *Analysis) giveUp(s int, dead *Edge, link, node int, cause string, share three, stated bool, why string) {
	if dead == nil {
		a.lose(s, cause, node, link, share, stated, why)
		return
	}
	dead.Mean.Low += share.Low
	dead.Mean.High += share.High
	dead.expected += share.usual
	if share.High >= Negligible {
		a.Parks[s] = append(a.Parks[s], Park{dead.To, link, share.Span, share.usual, stated, why, cause})
		a.written(s, dead, share)
	}
}

// written notes what is lost when what is given up cannot be written.
func (a *Analysis) written(s int, dead *Edge, share three) {
	to := a.States.All[dead.To].Node
	n := a.Node(to)
	if m := a.States.All[s].Message; !m.notice && a.overPayload(m.Size, to) {
		a.lose(s, "too-large", to, graph.None, share, false, "too-large")
		dead.Mean, dead.expected = Span{}, 0
		return
	}
	if !n.Kind.Channel() || n.Fails.EachTry == 0 && a.Rejected[to] == 0 {
		return
	}
	p := a.Rejected[to] + (1-a.Rejected[to])*math.Pow(n.Fails.EachTry, 3)
	a.lose(s, a.rejectCause(to), to, graph.None, share.times(same(p)), true, "")
	keep := 1 - p
	dead.Mean.Low *= keep
	dead.Mean.High *= keep
	dead.expected *= keep
}

// rejectCause names the cause of what a channel rejects.
func (a *Analysis) rejectCause(node int) string {
	switch {
	case a.Rejected[node] == 0:
		return "rejected"
	case a.Node(node).Kind.Leases():
		return "overflow"
	}
	return "throttled"
}

func deadEdge(edges []Edge, link int) *Edge {
	for k := range edges {
		if edges[k].Kind == GaveUp && edges[k].Link == link {
			return &edges[k]
		}
	}
	return nil
}

// weighRun weighs what a message at a function, workflow or outside system makes.
func (a *Analysis) weighRun(s int, at State, n *graph.Node, edges []Edge) {
	given := a.three(s, func(m Mode) float64 { return a.FateOf(s, m).Given })
	works := a.three(s, func(m Mode) float64 { return a.FateOf(s, m).works })
	u := a.FateOf(s, Usual)
	o := a.Outcome(s, Usual)
	if at.How == AsCall {
		given = a.three(s, func(m Mode) float64 { return 1 - (1-a.Outcome(s, m).Bad())*(1-a.turnsAway(at.Node, m)) })
		works = three{1 - given.usual, Span{1 - given.High, 1 - given.Low}}
	}
	handled := three{1 - given.usual, Span{1 - given.High, 1 - given.Low}}
	length := o.Length.Mean()
	if n.Kind == model.Outside {
		length = n.Takes.Expected()
	}
	failed := false // a failure link takes what is given up
	weigh := func(e *Edge, l *graph.Link) {
		switch {
		case e.Kind != Result:
			a.weighSend(s, e, works)
		case l.When == model.Failure:
			failed = failed || e.Verdict == expr.Certain
			a.weighResult(s, e, l, given)
		default:
			a.weighResult(s, e, l, handled)
		}
	}
	for k := range edges {
		e := &edges[k]
		if e.Kind == GaveUp {
			e.Delay = a.givenUpAfter(s)
			continue
		}
		l := a.Link(e.Link)
		e.Delay = length + a.waitsBefore(s)
		if l.Op == "read" {
			continue
		}
		if e.Kind == Calls {
			v := a.three(s, func(m Mode) float64 { return a.visitsAt(s, e.Link, m) })
			e.Mean, e.expected = v.Span, v.usual
			if a.mayMistake(n) {
				e.Mean.Low = 0
			}
			e.Delay = n.Takes.Expected()
			continue
		}
		weigh(e, l)
		a.rejectedDelivery(s, e, l, edges)
	}
	for _, id := range n.Out {
		if e, ok := a.refusedSend(at, n, a.Link(id)); ok {
			l := a.Link(id)
			if weigh(&e, l); l.Relation != model.RunWrite { // a write fails its run, or is ignored
				share := three{e.expected, e.Mean}
				a.giveUp(s, deadEdge(edges, id), id, l.To, "refused", share, false, "refused")
			}
		}
	}
	if at.How != AsIntake {
		return
	}
	dead := deadEdge(edges, graph.None)
	if u.cause == "hop-limit" {
		failed = false
	}
	if dead == nil && failed {
		return
	}
	if old := a.three(s, func(m Mode) float64 { return a.FateOf(s, m).old }); old.High > 0 {
		a.giveUp(s, dead, graph.None, at.Node, "given-up", old, false, "throttled")
	}
	if aged := a.three(s, func(m Mode) float64 { return a.FateOf(s, m).aged }); aged.High > 0 {
		a.giveUp(s, dead, graph.None, at.Node, "given-up", aged, false, o.Why)
	}
	given = a.three(s, func(m Mode) float64 { f := a.FateOf(s, m); return max(f.Given-f.old-f.aged, 0) })
	a.giveUp(s, dead, graph.None, at.Node, u.cause, given, u.stated, o.Why)
}

// weighResult weighs the result messages that a link sends for a share of the messages at a state.
func (a *Analysis) weighResult(s int, e *Edge, l *graph.Link, share three) {
	at := a.States.All[s]
	failure := l.When == model.Failure
	if failure && a.FateOf(s, Usual).cause == "hop-limit" { // no run has failed [F-15]
		share = same(0)
	}
	if at.How == AsPoll && a.Node(at.Node).ResultsAll { // at each run
		share = a.three(s, func(m Mode) float64 {
			f := a.FateOf(s, m)
			if failure {
				return f.runs - f.works
			}
			return f.works
		})
	}
	if failure {
		e.Delay = a.givenUpAfter(s)
	}
	share = share.times(e.sure())
	e.Mean, e.expected = share.Span, share.usual
}

// refusedSend returns the edge that messages at a state would take by a link whose target refuses the sender, if they
// use the link. It is no edge of the graph, and only says how many there are.
func (a *Analysis) refusedSend(at State, n *graph.Node, l *graph.Link) (e Edge, ok bool) {
	if !l.Refused || l.Op == "read" {
		return e, false
	}
	kind, used := edgeKind(at, n, l)
	e = Edge{Link: l.ID, Kind: kind, Verdict: a.sendVerdict(l, at.Message)}
	if e.Kind == Result {
		e.Verdict = min(e.Verdict, a.FilterVerdict(l, a.ResultOf(l, at.Message)))
	}
	return e, used && kind != Calls && e.Verdict != expr.Impossible
}

// visitsAt returns the calls that a message at a state makes by a link.
func (a *Analysis) visitsAt(s, link int, m Mode) float64 {
	o := a.Outcome(s, m)
	calls := o.visits[link] * a.callsAt(s, link, m)
	if more := o.again[link] * (1 - a.endsBefore(s, link, m)); more > 0 && a.States.All[s].How == AsCall {
		calls += more * a.doomedShare(s, m) / o.never
	} else if more > 0 {
		calls += more * a.FateOf(s, m).doomed
	}
	return calls
}

// weighSend weighs what runs at a state send by a link; works is the share of their
// messages that succeed.
func (a *Analysis) weighSend(s int, e *Edge, works three) {
	at, l := a.States.All[s], a.Link(e.Link)
	n := a.Node(at.Node)
	whole := l.PerRun && at.How == AsPoll && n.Fails.PerMessage && !n.Together // whatever fails by itself
	all := a.three(s, func(m Mode) float64 {
		o := a.Outcome(s, m)
		switch {
		case !whole:
			return a.sendsAt(s, m, e.Kind) * o.sent[e.Link]
		case o.stated >= 1:
			return a.FateOf(s, m).runs
		}
		return a.FateOf(s, m).runs * o.sent[e.Link] / (1 - o.stated)
	}).times(e.sure())
	if count, _, guessed := a.CountOf(l, at); guessed {
		all.Low, all.High = 0, max(all.High, count.High*works.High)
	}
	if l.Sometimes || l.InCatch {
		all.Low = 0
	}
	e.Mean, e.expected = all.Span, all.usual
	if l.PerRun && at.How == AsPoll {
		batch := a.batchOf(a.Link(int(at.Link)))
		up := float64(max(a.Link(int(at.Link)).Read.UpTo, 1))
		e.expected /= batch
		e.Mean.Low /= up
	}
	if n.Idempotent != nil && e.Kind != StartSend {
		e.Mean.High = max(e.Mean.High, e.expected)
		e.Mean.Low = 0
	}
	a.rejectedSend(s, e, l, at)
}

// sendsAt returns the runs of a message that come as far as its sends.
func (a *Analysis) sendsAt(s int, m Mode, kind EdgeKind) float64 {
	switch call := a.States.All[s].How == AsCall; {
	case call && kind == StartSend:
		return 1 - a.turnsAway(a.States.All[s].Node, m)
	case call:
		return (1 - a.doomedShare(s, m)) * (1 - a.turnsAway(a.States.All[s].Node, m))
	case kind == StartSend:
		return a.FateOf(s, m).runs
	}
	return a.FateOf(s, m).sends
}

// callsAt returns the runs of a message at a state that come as far as a call: all, where it is at the start.
func (a *Analysis) callsAt(s, link int, m Mode) float64 {
	at := a.States.All[s]
	if at.How == AsCall {
		own := a.endsBefore(s, link, m)
		if own > 0 {
			own = min(own*a.doomedShare(s, m)/a.Outcome(s, m).never, 1)
		}
		return (1 - own) * (1 - a.turnsAway(at.Node, m))
	}
	f := a.FateOf(s, m)
	return max(f.runs-a.endsBefore(s, link, m)*f.doomed, 0)
}

// endsBefore returns the share of the messages at a state that are never processed, by the node or by what it calls
// before, so that their runs end before a call.
func (a *Analysis) endsBefore(s, link int, m Mode) float64 {
	o := a.Outcome(s, m)
	if a.Link(link).ByTask {
		return o.dooms[a.States.All[s].Node]
	}
	return o.ended[link]
}

// rejectedSend notes what is lost of a send since its target rejects it and the run ignores that.
func (a *Analysis) rejectedSend(s int, e *Edge, l *graph.Link, at State) {
	if l.Relation != model.RunWrite || !l.Ignore {
		return
	}
	lost := a.three(s, func(m Mode) float64 { return a.sendsAt(s, m, e.Kind) * a.Outcome(s, m).ignored[l.ID] })
	if lost.High == 0 {
		return
	}
	lost = lost.times(e.sure())
	if l.PerRun && at.How == AsPoll {
		lost.usual /= a.batchOf(a.Link(int(at.Link)))
		lost.Low /= float64(max(a.Link(int(at.Link)).Read.UpTo, 1))
	}
	_, why := a.Rejection(l, at)
	cause := why
	if why == "" {
		cause = a.rejectCause(l.To)
	}
	a.lose(s, cause, l.To, l.ID, lost, why == "", why)
}

// rejectedDelivery takes out of a delivering write what its target rejects: it goes
// to the link's dead-letter node, or is lost.
func (a *Analysis) rejectedDelivery(s int, e *Edge, l *graph.Link, edges []Edge) {
	if e.Kind != Delivers && e.Kind != Result || !a.Node(l.To).Kind.Channel() {
		return
	}
	e.taken = e.expected
	tries, late := float64(l.Policy.Tries), false
	if l.Policy.GiveUp > 0 { // what would come too late is not tried
		waited, k := int64(0), 1
		for ; k < l.Policy.Tries; k++ {
			if waited += l.Policy.Backoff(k); waited > l.Policy.GiveUp {
				tries, late = float64(k), true
				break
			}
		}
	}
	p, why := a.rejectedAfter(l, a.States.All[s], tries)
	if p == 0 {
		return
	}
	cause := a.rejectCause(l.To)
	switch {
	case why != "":
		cause = why
	case late:
		cause = "given-up"
	}
	share := three{e.expected * p, e.Mean.times(exactly(p))}
	a.giveUp(s, deadEdge(edges, l.ID), l.ID, l.To, cause, share, why == "", why)
	e.expected *= 1 - p
	e.Mean = e.Mean.times(exactly(1 - p))
}

// weighRequest weighs what a request at an endpoint makes. What fails is returned to
// the client, who waits.
func (a *Analysis) weighRequest(s int, at State, n *graph.Node, edges []Edge) {
	passed := same(1)
	if over := a.overRequests(n); over > rarelyAway {
		passed = three{1 - over, Span{1 - over, 1}}
	}
	inTime := 1 - n.Fails.EachTry
	if !n.Takes.IsZero() {
		inTime *= dist.Of(n.Takes).Within(n.Timeout.Seconds()).Mass
	}
	reach := passed.times(same(inTime))
	for _, id := range n.Out { // accepted links are processed before the waiting one
		l := a.Link(id)
		if v := a.FilterVerdict(l, at.Message); l.Refused && l.Relation != model.WaitingCall && v != expr.Impossible {
			e := Edge{Verdict: v}
			a.giveUp(s, deadEdge(edges, id), id, l.To, "refused", e.sure().times(reach), false, "refused")
			continue
		}
		for k := range edges {
			e := &edges[k]
			if e.Link != id || e.Kind == GaveUp {
				continue
			}
			if e.Kind == Calls {
				v := a.three(s, func(m Mode) float64 { return a.Outcome(s, m).visits[id] }).times(passed)
				e.Mean, e.expected = v.Span, v.usual
				continue
			}
			p := 0.0
			if l.Relation == model.Write {
				p, _ = a.rejectedAfter(l, at, 1)
			}
			sure := e.sure()
			share := sure.times(reach).times(same(1 - p))
			e.expected, e.Mean = share.usual, share.Span
			reach = reach.times(three{1 - p*sure.usual, Span{1 - p*sure.High, 1 - p*sure.Low}})
		}
	}
}

// weighPassing weighs what a topic, bucket or schedule passes on, and what rests in
// a channel that nothing leaves.
func (a *Analysis) weighPassing(s int, at State, n *graph.Node, edges []Edge) {
	taken := expr.Impossible
	for k := range edges {
		e := &edges[k]
		if e.Kind == GaveUp {
			e.Delay = 0
			continue
		}
		if e.Kind == LifeEnds {
			e.Mean, e.expected, e.Delay = Span{0, 1}, 1, n.ObjectLife.Seconds()
			continue
		}
		e.Mean, e.expected = e.sure().Span, e.sure().usual
		taken = max(taken, e.Verdict)
		if n.Kind == model.Bucket {
			e.Delay = n.Notice.Expected()
		}
		a.rejectedDelivery(s, e, a.Link(e.Link), edges)
	}
	for _, id := range n.Out {
		l := a.Link(id)
		if !l.Refused || a.FilterVerdict(l, at.Message) == expr.Impossible {
			continue
		}
		share := same(1)
		if a.FilterVerdict(l, at.Message) == expr.Possible {
			share.Low = 0
		}
		taken = expr.Certain
		a.giveUp(s, deadEdge(edges, id), id, l.To, "refused", share, false, "refused")
	}
	if n.Kind == model.Topic && len(n.Out) == 0 {
		a.lose(s, "unsubscribed", n.ID, graph.None, same(1), false, "")
	}
	if n.Kind == model.Topic && len(n.Out) > 0 && taken == expr.Impossible && !n.Ignore.Everything {
		a.Unmatched[s] = true
	}
}

// weighPolled weighs what readers take from a queue, a stream or a change feed.
func (a *Analysis) weighPolled(s int, at State, n *graph.Node, edges []Edge) {
	queue := n.Kind.Leases()
	takers := 0
	for _, id := range n.Out {
		if a.FilterVerdict(a.Link(id), at.Message) != expr.Impossible {
			takers++
		}
	}
	if queue && n.Delay >= n.Retention {
		takers = 0
		for k := range edges {
			edges[k].Mean, edges[k].expected = exactly(0), 0
		}
	}
	if takers == 0 {
		if queue {
			a.lose(s, "expired", n.ID, graph.None, same(1), false, "no reader")
		}
		return
	}
	covered := expr.Impossible
	for _, id := range n.Out {
		l := a.Link(id)
		v := a.FilterVerdict(l, at.Message)
		if v == expr.Impossible {
			continue
		}
		covered = max(covered, v)
		part := same(1)
		if v == expr.Possible {
			part.Low = 0
		}
		if queue && takers > 1 {
			part = three{1 / float64(takers), Span{0, 1}}
		}
		a.weighReader(s, at, n, l, part, edges)
	}
	if queue && covered == expr.Possible {
		a.lose(s, "expired", n.ID, graph.None, three{0, Span{0, 1}}, false, "no reader")
	}
}

// weighReader weighs what one reader link makes of a message that it takes.
func (a *Analysis) weighReader(s int, at State, n *graph.Node, l *graph.Link, part three, edges []Edge) {
	dead := deadEdge(edges, l.ID)
	if l.Refused {
		a.giveUp(s, dead, l.ID, n.ID, "refused", part, false, "refused")
		return
	}
	if late := a.behind[l.ID]; late > 0 {
		a.weighBacklog(s, n, l, part, late, dead)
	}
	delay := n.Delay.Seconds()
	for k := range edges {
		e := &edges[k]
		if e.Link != l.ID || e.Kind == GaveUp {
			continue
		}
		e.Delay = delay
		if l.Relation == model.PolledMove {
			p, why := a.Rejection(l, at)
			share, cause := a.moveGivenUp(l, p)
			if cause == "expired" {
				dead = nil
			}
			given := same(share)
			if l.Read.UpTo > 1 && !n.Kind.Leases() &&
				l.Policy.Tries > 0 { // what follows a rejected record waits, and uses up tries too
				given.High = max(share, math.Pow(1-math.Pow(1-p, float64(l.Read.UpTo)), float64(l.Policy.Tries)))
			}
			e.taken = part.usual
			moved := part.times(three{1 - share, Span{1 - given.High, 1 - given.Low}}).times(e.sure())
			e.Mean, e.expected = moved.Span, moved.usual
			if given.High > 0 {
				a.giveUp(s, dead, l.ID, n.ID, cause, part.times(given), why == "", why)
			}
			return
		}
		part := part
		if e.ways > 1 {
			part = part.times(e.sure())
		}
		e.Mean, e.expected = part.Span, part.usual
		if l.Relation == model.PolledPush || a.Node(l.To).Kind.Runs() {
			given := a.three(e.To, func(m Mode) float64 { return a.FateOf(e.To, m).Given })
			f := a.FateOf(e.To, Usual)
			if a.behind[l.ID] > 0 && f.cause != "given-up" {
				given.Low = 0 // it may expire before
			}
			w := a.FateOf(e.To, Worst)
			o := a.Outcome(e.To, Usual)
			why := o.Why
			if f.late > 0 || w.late > 0 && given.usual < given.High {
				why = "lease"
			}
			if dead != nil {
				dead.Delay = delay + a.givenUpAfter(e.To)
			}
			target := dead
			cause := f.cause
			if cause == "expired" {
				target = nil
			}
			a.giveUp(s, target, l.ID, n.ID, cause, part.times(given), f.stated && why == "", why)
			a.blocked(s, n, l, e.To, part, given)
		}
	}
}

// weighBacklog weighs the share of its messages that a reader which is behind has no time
// for: they expire, or are given up, where that is first.
func (a *Analysis) weighBacklog(s int, n *graph.Node, l *graph.Link, part three, late float64, dead *Edge) {
	if a.fillsFirst(n, l) {
		return
	}
	share := part.times(three{0, Span{0, late}})
	if a.GivesUpFirst(l) {
		if a.loadOf(l) >= 1 {
			share = part.times(three{late, Span{0, late}})
		}
		a.giveUp(s, dead, l.ID, n.ID, "given-up", share, false, "behind")
		return
	}
	a.lose(s, "expired", n.ID, l.ID, share, false, "behind")
	if l.Policy.GiveUp > 0 {
		a.giveUp(s, dead, l.ID, n.ID, "given-up", share, false, "behind")
	}
}

// fillsFirst reports whether a queue whose reader falls behind is full long before any of its messages is too old: what
// it holds is taken within half of the time.
func (a *Analysis) fillsFirst(n *graph.Node, l *graph.Link) bool {
	r, load, kept := a.Readings[l.ID], a.loadOf(l), float64(n.Retention)
	if l.Policy.GiveUp > 0 {
		kept = min(kept, float64(l.Policy.GiveUp))
	}
	taken := r.Tries / max(r.each, 1) / max(load, 1)
	return n.Capacity > 0 && float64(n.Capacity) < taken*(kept-float64(n.Delay))*1e-9/2
}

// GivesUpFirst reports whether a reader that falls behind gives up what is too old before
// any of it expires. It looks at each message again within the time of one run.
func (a *Analysis) GivesUpFirst(l *graph.Link) bool {
	to := a.Node(l.To)
	longest := to.Takes.Largest()
	if to.Timeout > 0 {
		longest = to.Timeout.Seconds()
	}
	giveUp := float64(l.Policy.GiveUp) * 1e-9
	return giveUp > 0 && giveUp+2*longest+l.Read.Within.Seconds() < a.Node(l.From).Retention.Seconds()
}

// movedBy stands for the state of a message that a reader moves to another channel.
func movedBy(l *graph.Link) State {
	by := Context{How: AsPoll, policy: graph.None, dead: graph.None, Link: int32(l.ID)}
	return State{Node: l.To, Context: by}
}

// moveGivenUp returns the share of the messages that a reader gives up moving, given
// the chance that one try is rejected, and why.
func (a *Analysis) moveGivenUp(l *graph.Link, p float64) (share float64, cause string) {
	n := a.Node(l.From)
	if l.Policy.GiveUp > 0 && int64(n.Delay) > l.Policy.GiveUp {
		return 1, "given-up"
	}
	if p == 0 && a.Rejected[l.To] == 0 {
		return 0, "exhausted"
	}
	tries, cause := float64(l.Policy.Tries), "exhausted"
	byAge, why := a.triesInTime(movedBy(l), &l.Policy, a.Node(l.To).Takes.Expected(), nil)
	if tries == 0 || byAge <= tries {
		tries, cause = byAge, why
	}
	full := a.Rejected[l.To]
	return full + (1-full)*math.Pow(p, tries), cause
}

// blocked notes that a record which is tried without end lets those behind it
// expire.
func (a *Analysis) blocked(s int, n *graph.Node, l *graph.Link, to int, part, given three) {
	if n.Kind.Leases() || given.High < Negligible {
		return
	}
	if f := a.FateOf(to, Usual); f.cause != "expired" {
		return
	}
	a.lose(s, "expired", n.ID, l.ID, three{0, Span{0, part.High * (1 - given.High)}}, false, "blocked")
}

// waitsBefore returns the mean time that the tries of a message that is handled in
// the end have waited for, in seconds.
func (a *Analysis) waitsBefore(s int) float64 {
	at := a.States.All[s]
	if at.How != AsIntake && at.How != AsPoll {
		return 0
	}
	o := a.Outcome(s, Usual)
	fails := o.Fails
	if at.How == AsPoll {
		_, fails = a.inBatches(s, Usual, o)
	}
	if fails <= 0 || fails >= 1 {
		return 0
	}
	p := a.PolicyOf(at.Context)
	wait, share, reached := 0.0, 1.0, 0.0
	sum := 0.0
	for k := 1; k <= 60 && share > 1e-9; k++ {
		sum += share * (1 - fails) * wait
		reached += share * (1 - fails)
		if p.Tries > 0 && k >= p.Tries {
			break
		}
		share *= fails
		wait += a.gap(at, p, k, o.Length.Mean())
	}
	if reached == 0 {
		return 0
	}
	return sum / reached
}

// gap is the time from the start of a try to the start of the next, in seconds.
func (a *Analysis) gap(at State, p *graph.Policy, k int, length float64) float64 {
	if at.How == AsPoll {
		if q := a.Node(a.Link(int(at.Link)).From); q.Kind.Leases() && !p.WaitSet {
			return max(q.Lease.Seconds(), length)
		}
	}
	return length + float64(p.Backoff(k))*1e-9
}

// givenUpAfter returns the time from the first try of a message to when it is given
// up, in seconds.
func (a *Analysis) givenUpAfter(s int) float64 {
	at := a.States.All[s]
	p := a.PolicyOf(at.Context)
	length := a.Outcome(s, Usual).Length.Mean()
	tries := float64(p.Tries)
	if byAge, _ := a.triesInTime(at, p, length, nil); p.Tries == 0 || byAge < tries {
		tries = byAge
	}
	if math.IsInf(tries, 1) {
		return 0
	}
	t := length
	for k := 1; k < int(min(tries, 1000)); k++ {
		t += a.gap(at, p, k, length)
	}
	if at.How == AsPoll {
		if q := a.Node(a.Link(int(at.Link)).From); q.Kind.Leases() && !p.WaitSet {
			t += max(q.Lease.Seconds()-length, 0)
		}
	}
	return t
}
