package engine

import (
	"slices"
	"strings"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Deliver hands a message to the target of a delivery: a copy comes to be
// there, and its first try is in progress.
func (e *Engine) Deliver(via int32, m *Message, con uint32, f Flags) uint32 {
	n := &e.Nodes[e.Deliveries[via].to]
	i := e.NewCopy(n, via, m, con, f)
	e.land(n, via, i, m, f)
	return i
}

// land starts the first try of a copy that has come to a node.
func (e *Engine) land(n *Node, via int32, i uint32, m *Message, f Flags) {
	d := &e.Deliveries[via]
	if n.direct && n.FailsNowShare < 0 && !d.Paused && !d.refused && d.wrap == Unwrapped && f&Duplicate == 0 &&
		e.Trace == nil {
		if n.Queue == nil {
			e.ScheduleNow(EvFan, i)
			return
		}
		e.enqueueSimple(n, e.Copies.At(i), i)
		e.WantPull(n)
		return
	}
	if e.Trace != nil {
		e.Trace.Comes(i, *m)
	}
	switch {
	case n.process:
		e.countDepth(n, e.Copies.At(i))
		e.ScheduleNow(EvOffer, i)
	default:
		if d.wrap != Unwrapped {
			e.wrapCopy(i, d.wrap)
		}
		e.attemptWrite(i)
	}
}

// wrapCopy wraps the payload of a copy on its way to a channel.
func (e *Engine) wrapCopy(i uint32, w envelope) {
	c := e.Copies.At(i)
	m := e.MessageOf(c)
	var from *graph.Node
	if via := e.Deliveries[c.Via].Link; via >= 0 {
		from = &e.Graph.Nodes[e.Graph.Links[via].From]
	}
	con := e.wrapContent(&m, c.Content, w, KindOfEvent(from, c.Flags))
	e.DropContent(c.Content)
	c.Content = con
}

// tryAgain comes when a back-off is over.
func (e *Engine) tryAgain(i uint32) {
	e.WaitsNoMore(e.Copies.At(i))
	n := &e.Nodes[e.Copies.At(i).Node]
	if n.channel {
		e.attemptWrite(i)
		return
	}
	e.offer(i)
}

// hold keeps a copy whose link is paused, until it is resumed.
func (e *Engine) hold(i uint32) bool {
	d := &e.Deliveries[e.Copies.At(i).Via]
	if !d.Paused {
		return false
	}
	d.Held = append(d.Held, i)
	return true
}

// attemptWrite tries a delivering write.
func (e *Engine) attemptWrite(i uint32) {
	if e.hold(i) {
		return
	}
	c := e.Copies.At(i)
	n := &e.Nodes[c.Node]
	c.Tries++
	if takes := n.drawTakes(); takes > 0 {
		c.Flags |= Writing
		e.inFlightFor(c).Timer = e.Schedule(e.Now+takes, EvWritten, i)
		return
	}
	e.written(i)
}

// written comes when the time of a delivering write is over.
func (e *Engine) written(i uint32) {
	c := e.Copies.At(i)
	c.Flags &^= Writing
	d := &e.Deliveries[c.Via]
	n := &e.Nodes[c.Node]
	cause := noFate
	if !n.welcomes || d.refused || n.FailsNowShare >= 0 {
		m := e.MessageOf(c)
		cause = e.rejects(n, &m, m.Content, d.refused)
	}
	switch {
	case cause == noFate:
		c.Tries = 0
		e.stand(n, i)
	case c.Flags&Duplicate != 0:
		e.Finish(i, noFate)
	case cause == Refused, d.policy.Tries > 0 && int(c.Tries) >= d.policy.Tries:
		e.giveUp(i, cause)
	default:
		e.backOff(i, d, int(c.Tries), cause)
	}
}

// backOff waits before the next try of a delivery, unless it would come too
// late.
func (e *Engine) backOff(i uint32, d *Delivery, k int, cause Fate) {
	wait := e.jittered(d.policy.Backoff(k), d)
	c := e.Copies.At(i)
	if d.policy.GiveUp > 0 && e.Now+wait-c.Born > d.policy.GiveUp {
		e.giveUp(i, GivenUp)
		return
	}
	if e.Trace != nil {
		e.Trace.Waits(i, wait, cause, d.policy.Tries)
	}
	e.inFlightFor(c).Timer = e.Schedule(e.Now+wait, EvTry, i)
}

func (e *Engine) jittered(wait int64, d *Delivery) int64 {
	if d.policy.Jitter == 0 || d.jitter == nil {
		return wait
	}
	return max(int64(float64(wait)*(1+d.policy.Jitter*(2*d.jitter.Unit()-1))), MinWait)
}

// rejects reports why a write to a channel is turned away, or noFate.
func (e *Engine) rejects(n *Node, m *Message, con uint32, refused bool) Fate {
	switch {
	case refused:
		return Refused
	case e.payload > 0 && e.tooLarge(con) && !n.keeps:
		return TooLarge
	}
	return e.declinesNow(n, m, con)
}

// declinesNow reports why a channel has no room for a write now, or rejects it, or noFate.
func (e *Engine) declinesNow(n *Node, m *Message, con uint32) Fate {
	switch {
	case n.capacity > 0 && n.Depth.Count+e.planned[place{n.ID, -1}] >= n.capacity:
		return Overflow
	case e.failsNow(n):
		return Rejected
	case n.stream != nil && n.stream.rate > 0:
		probe := *m
		probe.Content = con
		if e.full(n, &probe) {
			n.Throttled++
			return Throttled
		}
	}
	return noFate
}

// giveUp ends a delivery: the original goes to the dead-letter, or is lost.
func (e *Engine) giveUp(i uint32, cause Fate) {
	d := &e.Deliveries[e.Copies.At(i).Via]
	if d.dead >= 0 {
		e.deadLetter(i, d.dead)
		e.Finish(i, Passed)
		return
	}
	e.Finish(i, cause)
}

// deadLetter sends the original of a copy to a dead-letter node.
func (e *Engine) deadLetter(i uint32, to int32) {
	m := e.MessageOf(e.Copies.At(i))
	m.aside, m.Tries = true, 0
	if e.Trace != nil {
		e.Trace.Dead(i, to)
	}
	n := &e.Nodes[to]
	letter := e.NewCopy(n, n.OwnWay, &m, m.Content, 0)
	if n.Queue != nil && n.Queue.carryAge {
		e.Copies.At(letter).Born = e.Copies.At(i).Born
	}
	e.land(n, n.OwnWay, letter, &m, 0)
}

// stand lets a written message take its place in a channel.
func (e *Engine) stand(n *Node, i uint32) { n.standFunc(e, n, i) }

func (e *Engine) standInTopic(n *Node, i uint32) { e.ScheduleNow(EvFan, i) }

// fan hands what stands in a topic, bucket or schedule to each link that takes
// it.
func (e *Engine) fan(i uint32) {
	c := e.Copies.At(i)
	n := &e.Nodes[c.Node]
	if n.fans && c.Flags&Duplicate == 0 {
		e.fanFast(n, i)
		return
	}
	gn := &e.Graph.Nodes[c.Node]
	m := e.MessageOf(c)
	change, second := c.Flags&(Deletion|update), c.Flags&Duplicate
	m.Content = e.noticeOf(n, m.Content)
	defer e.DropContent(m.Content)
	kind := KindOfEvent(gn, change)
	m.Tries = 0
	taken, linked := false, false
	for k, id := range gn.Out {
		l := &e.Graph.Links[id]
		d := &e.Deliveries[id]
		if d.Off && n.stream == nil {
			continue // as if it were absent [IN-07]
		}
		linked = true
		changed := !n.keeps || wantsChange(gn.Kind, l, change)
		takes := changed && (l.Filter.Everything || l.Filter.Takes(e.EventOfMessage(&m, kind)))
		if e.Trace != nil {
			why := ""
			switch {
			case !changed:
				why = "the link takes only what is " + strings.Join(l.WantedChanges(gn.Kind), " or ")
			case !takes:
				why = l.Filter.Why(e.EventOfMessage(&m, kind))
			}
			e.Trace.Offered(i, l, why)
		}
		if second == 0 {
			d.Offered++
		}
		if !takes {
			continue
		}
		if second == 0 {
			d.Matched++
		}
		taken = true
		if n.stream != nil {
			e.intoFeed(&e.Nodes[n.stream.feeds[k]], int32(id), &m, i)
			continue
		}
		pass := second
		if !e.Nodes[l.To].keeps {
			pass |= change & Deletion // what happened to the object: its event's type
		}
		e.Deliver(int32(id), &m, m.Content, pass)
		if second == 0 && n.twice > 0 && n.twiceLuck.Unit() < n.twice {
			e.Nodes[l.To].Redelivered++
			e.Deliver(int32(id), &m, m.Content, pass|Duplicate)
		}
	}
	e.Finish(i, e.fanFate(gn, &m, taken, linked, change&Deletion != 0))
}

// deliverTwice draws whether a queue's message is handed out a second time.
func (e *Engine) deliverTwice(n *Node, i uint32) {
	c := e.Copies.At(i)
	if n.twice == 0 || c.Flags&(Done|AtRest) != 0 || n.twiceLuck.Unit() >= n.twice {
		return
	}
	n.Redelivered++
	m := e.MessageOf(c)
	m.Tries = 0
	g := e.NewCopy(n, c.Via, &m, m.Content, Duplicate)
	if e.Trace != nil {
		e.Trace.Comes(g, m)
	}
	e.stand(n, g)
}

func (e *Engine) fanFate(gn *graph.Node, m *Message, taken, linked, deleted bool) Fate {
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
	case gn.Kind == model.Topic && len(gn.Ignore.Clauses) > 0 && gn.Ignore.Takes(e.EventOfMessage(m, "message")):
		return Ignored
	case gn.Kind == model.Topic && !linked:
		return Unsubscribed
	}
	return Unmatched
}

// wantsChange reports whether a link takes a change of a bucket or table.
func wantsChange(k model.Kind, l *graph.Link, change Flags) bool {
	what := "inserted"
	switch {
	case change&Deletion != 0:
		what = "deleted"
	case k == model.Bucket:
		what = "written"
	case change&update != 0:
		what = "updated"
	}
	return slices.Contains(l.WantedChanges(k), what)
}

// ContentFor gives the content of what a link sends: that of the message in
// hand, or one of its own; the caller drops its reference.
func (e *Engine) ContentFor(l *graph.Link, m *Message, s *Send, item any, index int) uint32 {
	if ev, says := item.(InputEvent); says {
		return e.returnedContent(int32(l.From), m, &ev)
	}
	changes := l.Key != nil || l.Type != "" || l.Payload != nil || l.Size >= 0 || m.Wrap != Unwrapped ||
		e.Contents[m.Content].notice // what a run sends is a message of its own
	if !changes && (!e.identified() || e.Nodes[l.From].endpoint) {
		e.Contents[m.Content].Refs++
		return m.Content
	}
	s.sequence++
	i := e.NewContent()
	con, old := &e.Contents[i], &e.Contents[m.Content]
	con.Kind, con.Size, con.Data, con.Source = old.Kind, old.Size, old.Data, int32(l.From)
	if m.Wrap != Unwrapped {
		con.Data, con.Size = e.Wrapped(m, old.Kind)
	}
	if l.Type != "" {
		con.Kind = l.Type
	}
	if l.Size >= 0 {
		con.Size = l.Size
	}
	if l.Payload != nil {
		ev := e.EventOfMessage(m, "message")
		ev.Item, ev.Index = item, index
		// What cannot be evaluated becomes null, as a missing field does.
		con.Data, _ = l.Payload.Value(ev)
	}
	if l.Key == nil {
		con.Subject = append(con.Subject, old.Subject...)
		return i
	}
	f := expr.Filling{
		Subject: old.key(),
		ID:      e.Journeys.At(m.Journey).ID(),
		Seq:     s.sequence,
		Time:    e.Instant(e.Now),
		Data:    con.Data,
	}
	con.Subject = l.Key.Append(con.Subject, &f)
	return i
}
