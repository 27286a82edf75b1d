package check

import (
	"math"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// loss is a way in which messages at a state are lost with nothing broken.
type loss struct {
	cause    string
	node     int // that accounts for the copy
	link     int // or None
	share    span
	expected float64
	stated   bool // by a stated `fails` share
	why      string
}

// park is a way in which messages at a state are parked with nothing broken.
type park struct {
	to, link int
	share    span
	expected float64
	stated   bool
	why      string
	cause    string
}

// weigh fills in how many messages each edge makes of one that is at its start, and
// after how long; and what is lost and parked at each state.
func (a *Analysis) weigh() {
	g := a.states
	a.losses = make([][]loss, len(g.all))
	a.parks = make([][]park, len(g.all))
	for s := range g.all {
		a.weighState(s)
	}
}

// three is a number in the usual case and its bounds.
type three struct {
	usual float64
	span
}

func same(x float64) three { return three{x, exactly(x)} }

func (t three) times(o three) three { return three{product(t.usual, o.usual), t.span.times(o.span)} }

// of returns what a function of an outcome is in the usual, best and worst case.
func (a *Analysis) three(s int, of func(m mode) float64) three {
	u := of(usual)
	at := a.states.all[s]
	if o := a.outcome(s, usual); !o.guessed && !o.away && at.how != asPoll && a.throttled[at.node] == 0 {
		return same(u)
	}
	b, w := of(best), of(worst)
	return three{u, span{min(u, b, w), max(u, b, w)}}
}

func (a *Analysis) weighState(s int) {
	at := a.states.all[s]
	n := a.node(at.node)
	edges := a.states.edges[a.states.first[s]:a.states.first[s+1]]
	for k := range edges {
		edges[k].mean, edges[k].expected, edges[k].taken, edges[k].delay = span{}, 0, 0, 0
	}
	split(edges)
	switch {
	case n.Kind.Runs():
		a.weighRun(s, at, n, edges)
	case n.Kind == model.Endpoint:
		a.weighRequest(s, at, n, edges)
	case n.Kind.Polled() && len(n.Out) > 0:
		a.weighPolled(s, at, n, edges)
	default:
		a.weighPassing(s, at, n, edges)
	}
}

// split notes on how many edges a link stands that takes a message in several
// shapes: it takes each message once.
func split(edges []edge) {
	for k := range edges {
		edges[k].ways = 1
	}
	if len(edges) > 64 {
		return
	}
	for k := range edges {
		e := &edges[k]
		if e.link == graph.None || e.kind == gaveUp {
			continue
		}
		e.ways = 0
		for j := range edges {
			if o := &edges[j]; o.link == e.link && o.kind == e.kind {
				e.ways++
			}
		}
	}
}

// sure returns how many of a message an edge takes: one for certain, or perhaps.
func (e *edge) sure() three {
	if e.ways > 1 {
		return three{1 / float64(e.ways), span{0, 1}}
	}
	if e.verdict == expr.Possible {
		return three{1, span{0, 1}}
	}
	return same(1)
}

// lose notes a loss at a state.
func (a *Analysis) lose(s int, cause string, node, link int, share three, stated bool, why string) {
	if share.high < negligible {
		return
	}
	if fails := a.node(node).Fails.EachTry; (cause == "overflow" || cause == "throttled") &&
		fails > 0 { // either may be the reason
		part := share.times(three{fails, span{0, 1}})
		a.losses[s] = append(a.losses[s], loss{"rejected", node, link, part.span, part.usual, stated, why})
		share = share.times(three{1 - fails, span{0, 1}})
	}
	a.losses[s] = append(a.losses[s], loss{cause, node, link, share.span, share.usual, stated, why})
}

// negligible is a share of messages that no run can be expected to show.
const negligible = 1e-9

// giveUp notes what becomes of a share of messages that is given up: it goes over
// the edge to a dead-letter node, or is lost.
func (a *Analysis) giveUp(s int, dead *edge, link, node int, cause string, share three, stated bool, why string) {
	if dead == nil {
		a.lose(s, cause, node, link, share, stated, why)
		return
	}
	dead.mean.low += share.low
	dead.mean.high += share.high
	dead.expected += share.usual
	if share.high >= negligible {
		a.parks[s] = append(a.parks[s], park{dead.to, link, share.span, share.usual, stated, why, cause})
		a.written(s, dead, share)
	}
}

// written notes what is lost when what is given up cannot be written.
func (a *Analysis) written(s int, dead *edge, share three) {
	to := a.states.all[dead.to].node
	n := a.node(to)
	if !n.Kind.Channel() || n.Fails.EachTry == 0 && a.overfull[to] == 0 {
		return
	}
	p := a.overfull[to] + (1-a.overfull[to])*math.Pow(n.Fails.EachTry, 3)
	a.lose(s, a.rejectCause(to), to, graph.None, share.times(same(p)), true, "")
	keep := 1 - p
	dead.mean.low *= keep
	dead.mean.high *= keep
	dead.expected *= keep
}

// rejectCause names the cause of what a channel rejects.
func (a *Analysis) rejectCause(node int) string {
	switch {
	case a.overfull[node] == 0:
		return "rejected"
	case a.node(node).Kind == model.Queue:
		return "overflow"
	}
	return "throttled"
}

func deadEdge(edges []edge, link int) *edge {
	for k := range edges {
		if edges[k].kind == gaveUp && edges[k].link == link {
			return &edges[k]
		}
	}
	return nil
}

// weighRun weighs what a message at a function, workflow or outside system makes.
func (a *Analysis) weighRun(s int, at state, n *graph.Node, edges []edge) {
	given := a.three(s, func(m mode) float64 { return a.fateOf(s, m).given })
	works := a.three(s, func(m mode) float64 { return a.fateOf(s, m).works })
	u := a.fateOf(s, usual)
	o := a.outcome(s, usual)
	if at.how == asCall {
		given = a.three(s, func(m mode) float64 { return 1 - (1-a.outcome(s, m).bad())*(1-a.turnsAway(at.node, m)) })
		works = three{1 - given.usual, span{1 - given.high, 1 - given.low}}
	}
	handled := three{1 - given.usual, span{1 - given.high, 1 - given.low}}
	length := o.length.Mean()
	if n.Kind == model.Outside {
		length = n.Takes.Expected()
	}
	failed := false // a failure link takes what is given up
	for k := range edges {
		e := &edges[k]
		if e.kind == gaveUp {
			e.delay = a.givenUpAfter(s)
			continue
		}
		l := a.link(e.link)
		e.delay = length + a.waitsBefore(s)
		if l.Op == "read" {
			continue
		}
		sure := e.sure()
		switch e.kind {
		case calls:
			visits := func(m mode) float64 {
				o := a.outcome(s, m)
				calls := o.visits[e.link] * a.callsAt(s, m)
				if more := o.again[e.link]; more > 0 && at.how == asCall {
					calls += more
				} else if more > 0 {
					calls += more * a.fateOf(s, m).doomed
				}
				return calls
			}
			v := a.three(s, visits)
			e.mean, e.expected = v.span, v.usual
			e.delay = n.Takes.Expected()
			continue
		case result:
			share := handled
			if l.When == model.Failure {
				share = given
				failed = failed || e.verdict == expr.Certain
			}
			if at.how == asPoll && n.ResultsAll { // at each run
				share = works
				if l.When == model.Failure {
					share = a.three(s, func(m mode) float64 { return a.fateOf(s, m).runs * a.outcome(s, m).fails })
				}
			}
			share = share.times(sure)
			if l.When == model.Failure {
				e.delay = a.givenUpAfter(s)
			}
			e.mean, e.expected = share.span, share.usual
		default:
			all := a.three(
				s,
				func(m mode) float64 { return a.sendsAt(s, m, e.kind) * a.outcome(s, m).sent[e.link] },
			).times(sure)
			if count, _, guessed := a.countOf(l, at); guessed {
				all.low, all.high = 0, max(all.high, count.high*works.high)
			}
			if l.Sometimes || l.InCatch {
				all.low = 0
			}
			e.mean, e.expected = all.span, all.usual
			if l.PerRun && at.how == asPoll {
				batch := a.batchOf(a.link(int(at.link)))
				up := float64(max(a.link(int(at.link)).Read.UpTo, 1))
				e.expected /= batch
				e.mean.low /= up
			}
			if n.Idempotent != nil && e.kind != startSend {
				e.mean.high = max(e.mean.high, e.expected)
				e.mean.low = 0
			}
			a.rejectedSend(s, e, l, at)
		}
		a.rejectedDelivery(s, e, l, edges)
	}
	if at.how != asIntake {
		return
	}
	dead := deadEdge(edges, graph.None)
	if u.cause == "hop-limit" {
		failed = false
	}
	if dead == nil && failed {
		return
	}
	if old := a.three(s, func(m mode) float64 { return a.fateOf(s, m).old }); old.high > 0 {
		a.giveUp(s, dead, graph.None, at.node, "given-up", old, false, "throttled")
		given = a.three(s, func(m mode) float64 { return a.fateOf(s, m).given - a.fateOf(s, m).old })
	}
	a.giveUp(s, dead, graph.None, at.node, u.cause, given, u.stated, o.why)
}

// sendsAt returns the runs of a message that come as far as its sends.
func (a *Analysis) sendsAt(s int, m mode, kind edgeKind) float64 {
	switch {
	case a.states.all[s].how == asCall:
		return (1 - a.outcome(s, m).never) * (1 - a.turnsAway(a.states.all[s].node, m))
	case kind == startSend:
		return a.fateOf(s, m).runs
	}
	return a.fateOf(s, m).sends
}

// callsAt returns the runs of a message that come as far as its calls.
func (a *Analysis) callsAt(s int, m mode) float64 {
	if a.states.all[s].how == asCall {
		node := a.states.all[s].node
		return (1 - a.outcome(s, m).dooms[node]) * (1 - a.turnsAway(node, m))
	}
	return a.fateOf(s, m).calls
}

// rejectedSend takes out of a send what its target rejects, which is lost where the
// run ignores that.
func (a *Analysis) rejectedSend(s int, e *edge, l *graph.Link, at state) {
	if l.Relation != model.RunWrite || !l.Ignore {
		return
	}
	p, why := a.rejectedAfter(l, at, float64(l.Policy.Tries))
	if p == 0 {
		return
	}
	cause := a.rejectCause(l.To)
	if why != "" {
		cause = why
	}
	// What stands is 1−p of what is written.
	lost := a.three(s, func(m mode) float64 {
		o := a.outcome(s, m)
		if p >= 1 {
			return a.sendsAt(s, m, e.kind) * (o.success.Mass) * l.Chance
		}
		return a.sendsAt(s, m, e.kind) * o.sent[l.ID] * p / (1 - p)
	})
	a.lose(s, cause, l.To, l.ID, lost, why == "", why)
}

// rejectedDelivery takes out of a delivering write what its target rejects: it goes
// to the link's dead-letter node, or is lost.
func (a *Analysis) rejectedDelivery(s int, e *edge, l *graph.Link, edges []edge) {
	if e.kind != delivers && e.kind != result || !a.node(l.To).Kind.Channel() {
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
	p, why := a.rejectedAfter(l, a.states.all[s], tries)
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
	share := three{e.expected * p, e.mean.times(exactly(p))}
	a.giveUp(s, deadEdge(edges, l.ID), l.ID, l.To, cause, share, why == "", why)
	e.expected *= 1 - p
	e.mean = e.mean.times(exactly(1 - p))
}

// weighRequest weighs what a request at an endpoint makes. What fails is returned to
// the client, who waits.
func (a *Analysis) weighRequest(s int, at state, n *graph.Node, edges []edge) {
	reach := 1.0
	for _, id := range n.Out { // accepted links are processed before the waiting one
		l := a.link(id)
		for k := range edges {
			e := &edges[k]
			if e.link != id || e.kind == gaveUp {
				continue
			}
			if e.kind == calls {
				v := a.three(s, func(m mode) float64 { return a.outcome(s, m).visits[id] })
				e.mean, e.expected = v.span, v.usual
				continue
			}
			p := 0.0
			if l.Relation == model.Write {
				p, _ = a.rejectedAfter(l, at, 1)
			}
			share := e.sure().times(same(reach * (1 - p)))
			e.expected, e.mean = share.usual, share.span
			reach *= 1 - p
		}
	}
}

// weighPassing weighs what a topic, bucket or schedule passes on, and what rests in
// a channel that nothing leaves.
func (a *Analysis) weighPassing(s int, at state, n *graph.Node, edges []edge) {
	taken := expr.Impossible
	for k := range edges {
		e := &edges[k]
		if e.kind == gaveUp {
			e.delay = 0
			continue
		}
		if e.kind == lifeEnds {
			e.mean, e.expected, e.delay = span{0, 1}, 1, n.ObjectLife.Seconds()
			continue
		}
		e.mean, e.expected = e.sure().span, e.sure().usual
		taken = max(taken, e.verdict)
		if n.Kind == model.Bucket {
			e.delay = n.Notice.Expected()
		}
		a.rejectedDelivery(s, e, a.link(e.link), edges)
	}
	for _, id := range n.Out {
		l := a.link(id)
		if !l.Refused || a.filterVerdict(l, at.message) == expr.Impossible {
			continue
		}
		share := same(1)
		if a.filterVerdict(l, at.message) == expr.Possible {
			share.low = 0
		}
		taken = expr.Certain
		a.giveUp(s, deadEdge(edges, id), id, l.To, "refused", share, false, "refused")
	}
	if n.Kind == model.Topic && len(n.Out) == 0 {
		a.lose(s, "unsubscribed", n.ID, graph.None, same(1), false, "")
	}
	if n.Kind == model.Topic && len(n.Out) > 0 && taken == expr.Impossible && !n.Ignore.Everything {
		a.unmatched[s] = true
	}
}

// weighPolled weighs what readers take from a queue, a stream or a change feed.
func (a *Analysis) weighPolled(s int, at state, n *graph.Node, edges []edge) {
	queue := n.Kind == model.Queue
	takers := 0
	for _, id := range n.Out {
		if a.filterVerdict(a.link(id), at.message) != expr.Impossible {
			takers++
		}
	}
	if queue && n.Delay >= n.Retention {
		takers = 0
		for k := range edges {
			edges[k].mean, edges[k].expected = exactly(0), 0
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
		l := a.link(id)
		v := a.filterVerdict(l, at.message)
		if v == expr.Impossible {
			continue
		}
		covered = max(covered, v)
		part := same(1)
		if v == expr.Possible {
			part.low = 0
		}
		if queue && takers > 1 {
			part = three{1 / float64(takers), span{0, 1}}
		}
		a.weighReader(s, at, n, l, part, edges)
	}
	if queue && covered == expr.Possible {
		a.lose(s, "expired", n.ID, graph.None, three{0, span{0, 1}}, false, "no reader")
	}
}

// weighReader weighs what one reader link makes of a message that it takes.
func (a *Analysis) weighReader(s int, at state, n *graph.Node, l *graph.Link, part three, edges []edge) {
	dead := deadEdge(edges, l.ID)
	if l.Refused {
		a.giveUp(s, dead, l.ID, n.ID, "refused", part, false, "refused")
		return
	}
	if late := a.behind[l.ID]; late > 0 {
		share := part.times(three{0, span{0, late}})
		a.lose(s, "expired", n.ID, l.ID, share, false, "behind")
		if l.Policy.GiveUp > 0 {
			a.giveUp(s, dead, l.ID, n.ID, "given-up", share, false, "behind")
		}
	}
	delay := n.Delay.Seconds()
	for k := range edges {
		e := &edges[k]
		if e.link != l.ID || e.kind == gaveUp {
			continue
		}
		e.delay = delay
		if l.Relation == model.PolledMove {
			p, why := a.rejection(l, at)
			share, cause := a.moveGivenUp(l, p)
			if cause == "expired" {
				dead = nil
			}
			given := same(share)
			if l.Read.UpTo > 1 && n.Kind != model.Queue &&
				l.Policy.Tries > 0 { // what follows a rejected record waits, and uses up tries too
				given.high = max(share, math.Pow(1-math.Pow(1-p, float64(l.Read.UpTo)), float64(l.Policy.Tries)))
			}
			e.taken = part.usual
			moved := part.times(three{1 - share, span{1 - given.high, 1 - given.low}}).times(e.sure())
			e.mean, e.expected = moved.span, moved.usual
			if given.high > 0 {
				a.giveUp(s, dead, l.ID, n.ID, cause, part.times(given), why == "", why)
			}
			return
		}
		part := part
		if e.ways > 1 {
			part = part.times(e.sure())
		}
		e.mean, e.expected = part.span, part.usual
		if l.Relation == model.PolledPush || a.node(l.To).Kind.Runs() {
			given := a.three(e.to, func(m mode) float64 { return a.fateOf(e.to, m).given })
			f := a.fateOf(e.to, usual)
			if a.behind[l.ID] > 0 && f.cause != "given-up" {
				given.low = 0 // it may expire before
			}
			w := a.fateOf(e.to, worst)
			o := a.outcome(e.to, usual)
			why := o.why
			if f.late > 0 || w.late > 0 && given.usual < given.high {
				why = "lease"
			}
			if dead != nil {
				dead.delay = delay + a.givenUpAfter(e.to)
			}
			target := dead
			cause := f.cause
			if cause == "expired" {
				target = nil
			}
			a.giveUp(s, target, l.ID, n.ID, cause, part.times(given), f.stated && why == "", why)
			a.blocked(s, n, l, e.to, part, given)
		}
	}
}

// moveGivenUp returns the share of the messages that a reader gives up moving, given
// the chance that one try is rejected, and why.
func (a *Analysis) moveGivenUp(l *graph.Link, p float64) (share float64, cause string) {
	n := a.node(l.From)
	if l.Policy.GiveUp > 0 && int64(n.Delay) > l.Policy.GiveUp {
		return 1, "given-up"
	}
	if p == 0 && a.overfull[l.To] == 0 {
		return 0, "exhausted"
	}
	tries, cause := float64(l.Policy.Tries), "exhausted"
	at := state{node: l.To, context: context{how: asPoll, policy: graph.None, dead: graph.None, link: int32(l.ID)}}
	if byAge, why := a.triesInTime(at, &l.Policy, a.node(l.To).Takes.Expected(), nil); tries == 0 || byAge < tries {
		tries, cause = byAge, why
	}
	full := a.overfull[l.To]
	return full + (1-full)*math.Pow(p, tries), cause
}

// blocked notes that a record which is tried without end lets those behind it
// expire.
func (a *Analysis) blocked(s int, n *graph.Node, l *graph.Link, to int, part, given three) {
	if n.Kind == model.Queue || given.high < negligible {
		return
	}
	if f := a.fateOf(to, usual); f.cause != "expired" {
		return
	}
	a.lose(s, "expired", n.ID, l.ID, three{0, span{0, part.high * (1 - given.high)}}, false, "blocked")
}

// waitsBefore returns the mean time that the tries of a message that is handled in
// the end have waited for, in seconds.
func (a *Analysis) waitsBefore(s int) float64 {
	at := a.states.all[s]
	if at.how != asIntake && at.how != asPoll {
		return 0
	}
	o := a.outcome(s, usual)
	if o.fails <= 0 || o.fails >= 1 {
		return 0
	}
	p := a.policyOf(at.context)
	wait, share, reached := 0.0, 1.0, 0.0
	sum := 0.0
	for k := 1; k <= 60 && share > 1e-9; k++ {
		sum += share * (1 - o.fails) * wait
		reached += share * (1 - o.fails)
		if p.Tries > 0 && k >= p.Tries {
			break
		}
		share *= o.fails
		wait += a.gap(at, p, k, o.length.Mean())
	}
	if reached == 0 {
		return 0
	}
	return sum / reached
}

// gap is the time from the start of a try to the start of the next, in seconds.
func (a *Analysis) gap(at state, p *graph.Policy, k int, length float64) float64 {
	if at.how == asPoll {
		if q := a.node(a.link(int(at.link)).From); q.Kind == model.Queue && !p.WaitSet {
			return max(q.Lease.Seconds(), length)
		}
	}
	return length + float64(p.Backoff(k))*1e-9
}

// givenUpAfter returns the time from the first try of a message to when it is given
// up, in seconds.
func (a *Analysis) givenUpAfter(s int) float64 {
	at := a.states.all[s]
	p := a.policyOf(at.context)
	length := a.outcome(s, usual).length.Mean()
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
	if at.how == asPoll {
		if q := a.node(a.link(int(at.link)).From); q.Kind == model.Queue && !p.WaitSet {
			t += max(q.Lease.Seconds()-length, 0)
		}
	}
	return t
}
