package sim

import (
	"slices"
	"strings"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// deliver hands a message to the target of a delivery: a copy comes to be
// there, and its first try is under way.
func (e *engine) deliver(via int32, m *message, con uint32, f copyFlags) uint32 {
	n := &e.nodes[e.deliveries[via].to]
	i := e.newCopy(n, via, m, con, f)
	e.land(n, via, i, m, f)
	return i
}

// land starts the first try of a copy that has come to a node.
func (e *engine) land(n *node, via int32, i uint32, m *message, f copyFlags) {
	d := &e.deliveries[via]
	if n.direct && n.failsNowShare < 0 && !d.paused && !d.refused && d.wrap == unwrapped && f&duplicate == 0 &&
		e.trace == nil {
		if n.queue == nil {
			e.ScheduleNow(evFan, i)
			return
		}
		e.enqueueSimple(n, e.copies.At(i), i)
		e.wantPull(n)
		return
	}
	if e.trace != nil {
		e.trace.comes(e, i, m)
	}
	switch {
	case n.process:
		e.countDepth(n, e.copies.At(i))
		e.ScheduleNow(evOffer, i)
	default:
		if d.wrap != unwrapped {
			e.wrapCopy(i, d.wrap)
		}
		e.attemptWrite(i)
	}
}

// wrapCopy wraps the payload of a copy on its way to a channel.
func (e *engine) wrapCopy(i uint32, w envelope) {
	c := e.copies.At(i)
	m := e.messageOf(c)
	var from *graph.Node
	if via := e.deliveries[c.via].link; via >= 0 {
		from = &e.g.Nodes[e.g.Links[via].From]
	}
	con := e.wrapContent(&m, c.content, w, kindOfEvent(from, c.flags))
	e.dropContent(c.content)
	c.content = con
}

// tryAgain comes when a back-off is over.
func (e *engine) tryAgain(i uint32) {
	e.waitsNoMore(e.copies.At(i))
	n := &e.nodes[e.copies.At(i).node]
	if n.channel {
		e.attemptWrite(i)
		return
	}
	e.offer(i)
}

// hold keeps a copy whose link is paused, until it is resumed.
func (e *engine) hold(i uint32) bool {
	d := &e.deliveries[e.copies.At(i).via]
	if !d.paused {
		return false
	}
	d.held = append(d.held, i)
	return true
}

// attemptWrite tries a delivering write.
func (e *engine) attemptWrite(i uint32) {
	if e.hold(i) {
		return
	}
	c := e.copies.At(i)
	n := &e.nodes[c.node]
	c.tries++
	if takes := n.drawTakes(); takes > 0 {
		c.flags |= writing
		e.inFlightFor(c).timer = e.Schedule(e.Now+takes, evWritten, i)
		return
	}
	e.written(i)
}

// written comes when the time of a delivering write is over.
func (e *engine) written(i uint32) {
	c := e.copies.At(i)
	c.flags &^= writing
	d := &e.deliveries[c.via]
	n := &e.nodes[c.node]
	cause := noFate
	if !n.welcomes || d.refused || n.failsNowShare >= 0 {
		m := e.messageOf(c)
		cause = e.rejects(n, &m, m.content, d.refused)
	}
	switch {
	case cause == noFate:
		c.tries = 0
		e.stand(n, i)
	case c.flags&duplicate != 0:
		e.finish(i, noFate)
	case cause == Refused, d.policy.Tries > 0 && int(c.tries) >= d.policy.Tries:
		e.giveUp(i, cause)
	default:
		e.backOff(i, d, int(c.tries), cause)
	}
}

// backOff waits before the next try of a delivery, unless it would come too
// late.
func (e *engine) backOff(i uint32, d *delivery, k int, cause Fate) {
	wait := e.jittered(d.policy.Backoff(k), d)
	c := e.copies.At(i)
	if d.policy.GiveUp > 0 && e.Now+wait-c.born > d.policy.GiveUp {
		e.giveUp(i, GivenUp)
		return
	}
	if e.trace != nil {
		e.trace.waits(e, i, wait, cause, d.policy.Tries)
	}
	e.inFlightFor(c).timer = e.Schedule(e.Now+wait, evTry, i)
}

func (e *engine) jittered(wait int64, d *delivery) int64 {
	if d.policy.Jitter == 0 || d.jitter == nil {
		return wait
	}
	return max(int64(float64(wait)*(1+d.policy.Jitter*(2*d.jitter.Unit()-1))), minWait)
}

// rejects reports why a write to a channel is turned away, or noFate.
func (e *engine) rejects(n *node, m *message, con uint32, refused bool) Fate {
	switch {
	case refused:
		return Refused
	case e.payload > 0 && e.tooLarge(con) && !n.keeps:
		return TooLarge
	}
	return e.declinesNow(n, m, con)
}

// declinesNow reports why a channel has no room for a write now, or rejects it, or noFate.
func (e *engine) declinesNow(n *node, m *message, con uint32) Fate {
	switch {
	case n.capacity > 0 && n.depth.Count+e.planned[place{n.id, -1}] >= n.capacity:
		return Overflow
	case e.failsNow(n):
		return Rejected
	case n.stream != nil && n.stream.rate > 0:
		probe := *m
		probe.content = con
		if e.full(n, &probe) {
			n.throttled++
			return Throttled
		}
	}
	return noFate
}

// giveUp ends a delivery: the original goes to the dead-letter, or is lost.
func (e *engine) giveUp(i uint32, cause Fate) {
	d := &e.deliveries[e.copies.At(i).via]
	if d.dead >= 0 {
		e.deadLetter(i, d.dead)
		e.finish(i, Passed)
		return
	}
	e.finish(i, cause)
}

// deadLetter sends the original of a copy to a dead-letter node.
func (e *engine) deadLetter(i uint32, to int32) {
	m := e.messageOf(e.copies.At(i))
	m.aside, m.tries = true, 0
	if e.trace != nil {
		e.trace.sendsDead(e, i, to)
	}
	n := &e.nodes[to]
	letter := e.newCopy(n, n.ownWay, &m, m.content, 0)
	if n.queue != nil && n.queue.carryAge {
		e.copies.At(letter).born = e.copies.At(i).born
	}
	e.land(n, n.ownWay, letter, &m, 0)
}

// stand lets a written message take its place in a channel.
func (e *engine) stand(n *node, i uint32) { n.standFunc(e, n, i) }

func (e *engine) standInTopic(n *node, i uint32) { e.ScheduleNow(evFan, i) }

// fan hands what stands in a topic, bucket or schedule to each link that takes
// it.
func (e *engine) fan(i uint32) {
	c := e.copies.At(i)
	n := &e.nodes[c.node]
	if n.fans && c.flags&duplicate == 0 {
		e.fanFast(n, i)
		return
	}
	gn := &e.g.Nodes[c.node]
	m := e.messageOf(c)
	change, second := c.flags&(deletion|update), c.flags&duplicate
	m.content = e.noticeOf(n, m.content)
	defer e.dropContent(m.content)
	kind := kindOfEvent(gn, change)
	m.tries = 0
	taken, linked := false, false
	for k, id := range gn.Out {
		l := &e.g.Links[id]
		d := &e.deliveries[id]
		if d.off && n.stream == nil {
			continue // as if it were absent [IN-07]
		}
		linked = true
		changed := !n.keeps || wantsChange(gn.Kind, l, change)
		takes := changed && (l.Filter.Everything || l.Filter.Takes(e.eventOfMessage(&m, kind)))
		if e.trace != nil {
			why := ""
			switch {
			case !changed:
				why = "the link takes only what is " + strings.Join(l.WantedChanges(gn.Kind), " or ")
			case !takes:
				why = l.Filter.Why(e.eventOfMessage(&m, kind))
			}
			e.trace.offered(e, i, l, why)
		}
		if second == 0 {
			d.offered++
		}
		if !takes {
			continue
		}
		if second == 0 {
			d.matched++
		}
		taken = true
		if n.stream != nil {
			e.intoFeed(&e.nodes[n.stream.feeds[k]], int32(id), &m, i)
			continue
		}
		pass := second
		if !e.nodes[l.To].keeps {
			pass |= change & deletion // what happened to the object: its event's type
		}
		e.deliver(int32(id), &m, m.content, pass)
		if second == 0 && n.twice > 0 && n.twiceLuck.Unit() < n.twice {
			e.nodes[l.To].redelivered++
			e.deliver(int32(id), &m, m.content, pass|duplicate)
		}
	}
	e.finish(i, e.fanFate(gn, &m, taken, linked, change&deletion != 0))
}

// deliverTwice draws whether a queue's message is handed out a second time.
func (e *engine) deliverTwice(n *node, i uint32) {
	c := e.copies.At(i)
	if n.twice == 0 || c.flags&(done|atRest) != 0 || n.twiceLuck.Unit() >= n.twice {
		return
	}
	n.redelivered++
	m := e.messageOf(c)
	m.tries = 0
	g := e.newCopy(n, c.via, &m, m.content, duplicate)
	if e.trace != nil {
		e.trace.comes(e, g, &m)
	}
	e.stand(n, g)
}

func (e *engine) fanFate(gn *graph.Node, m *message, taken, linked, deleted bool) Fate {
	switch {
	case taken:
		return Passed
	case gn.Kind.Keeps():
		if deleted {
			return Handled
		}
		if m.aside && !linked {
			return Parked
		}
		return Stored
	case gn.Kind == model.Topic && len(gn.Ignore.Clauses) > 0 && gn.Ignore.Takes(e.eventOfMessage(m, "message")):
		return Ignored
	case gn.Kind == model.Topic && !linked:
		return Unsubscribed
	}
	return Unmatched
}

// wantsChange reports whether a link takes a change of a bucket or table.
func wantsChange(k model.Kind, l *graph.Link, change copyFlags) bool {
	what := "inserted"
	switch {
	case change&deletion != 0:
		what = "deleted"
	case k == model.Bucket:
		what = "written"
	case change&update != 0:
		what = "updated"
	}
	return slices.Contains(l.WantedChanges(k), what)
}

// contentFor gives the content of what a link sends: that of the message in
// hand, or one of its own; the caller drops its reference.
func (e *engine) contentFor(l *graph.Link, m *message, s *send, item any, index int) uint32 {
	if ev, says := item.(InputEvent); says {
		return e.returnedContent(int32(l.From), m, &ev)
	}
	changes := l.Key != nil || l.Type != "" || l.Payload != nil || l.Size >= 0 || m.wrap != unwrapped ||
		e.contents[m.content].notice // what a run sends is a message of its own
	if !changes && (!e.identified() || e.nodes[l.From].endpoint) {
		e.contents[m.content].refs++
		return m.content
	}
	s.sequence++
	i := e.newContent()
	con, old := &e.contents[i], &e.contents[m.content]
	con.kind, con.size, con.data, con.source = old.kind, old.size, old.data, int32(l.From)
	if m.wrap != unwrapped {
		con.data, con.size = e.wrapped(m, old.kind)
	}
	if l.Type != "" {
		con.kind = l.Type
	}
	if l.Size >= 0 {
		con.size = l.Size
	}
	if l.Payload != nil {
		ev := e.eventOfMessage(m, "message")
		ev.Item, ev.Index = item, index
		// What cannot be evaluated becomes null, as a missing field does.
		con.data, _ = l.Payload.Value(ev)
	}
	if l.Key == nil {
		con.subject = append(con.subject, old.subject...)
		return i
	}
	f := expr.Filling{
		Subject: old.key(),
		ID:      e.journeys.At(m.journey).id(),
		Seq:     s.sequence,
		Time:    e.instant(e.Now),
		Data:    con.data,
	}
	con.subject = l.Key.Append(con.subject, &f)
	return i
}
