package sim

import (
	"strings"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// deliver hands a message to the target of a delivery: a copy comes to be
// there, and its first try is under way.
func (e *engine) deliver(via int32, m *message, con uint32, f copyFlags) uint32 {
	d := &e.deliveries[via]
	n := &e.nodes[d.to]
	i := e.newCopy(n, via, m, con)
	e.copies[i].flags |= f
	if e.trace != nil {
		e.trace.comes(e, i, m)
	}
	switch {
	case n.kind == model.Function || n.kind == model.Workflow || n.kind == model.Outside || n.kind == model.Endpoint:
		n.changeDepth(e.now, 1)
		e.copies[i].flags |= stands
		e.soon(evOffer, i)
	default:
		e.attemptWrite(i)
	}
	return i
}

// tryAgain comes when a back-off is over.
func (e *engine) tryAgain(i uint32) {
	e.copies[i].timer = 0
	n := &e.nodes[e.copies[i].node]
	if n.kind.Channel() {
		e.attemptWrite(i)
		return
	}
	e.offer(i)
}

// hold keeps a copy whose link is paused, until it is resumed.
func (e *engine) hold(i uint32) bool {
	d := &e.deliveries[e.copies[i].via]
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
	c := &e.copies[i]
	n := &e.nodes[c.node]
	c.tries++
	if takes := n.drawTakes(); takes > 0 {
		c.flags |= writing
		c.timer = e.at(e.now+takes, evWritten, i)
		return
	}
	e.written(i)
}

// written comes when the time of a delivering write is over.
func (e *engine) written(i uint32) {
	c := &e.copies[i]
	c.flags &^= writing
	d := &e.deliveries[c.via]
	n := &e.nodes[c.node]
	cause := e.rejects(n, &e.contents[c.content], d.refused)
	switch {
	case cause == noFate:
		c.tries = 0
		e.stand(n, i)
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
	c := &e.copies[i]
	if d.policy.GiveUp > 0 && e.now+wait-c.born > d.policy.GiveUp {
		e.giveUp(i, GivenUp)
		return
	}
	if e.trace != nil {
		e.trace.waits(e, i, wait, cause)
	}
	c.timer = e.at(e.now+wait, evTry, i)
}

func (e *engine) jittered(wait int64, d *delivery) int64 {
	if d.policy.Jitter == 0 || d.jitter == nil {
		return wait
	}
	return max(int64(float64(wait)*(1+d.policy.Jitter*(2*d.jitter.unit()-1))), minWait)
}

// rejects tells why a write to a channel is turned away, or noFate.
func (e *engine) rejects(n *node, con *content, refused bool) Fate {
	switch {
	case refused:
		return Refused
	case e.payload > 0 && con.size > e.payload && n.kind != model.Bucket && n.kind != model.Table:
		return TooLarge
	case n.capacity > 0 && n.depth >= n.capacity:
		return Overflow
	case n.failsNow():
		return Rejected
	}
	return noFate
}

// giveUp ends a delivery: the original goes to the dead-letter, or is lost.
func (e *engine) giveUp(i uint32, cause Fate) {
	d := &e.deliveries[e.copies[i].via]
	if d.dead >= 0 {
		e.deadLetter(i, d.dead)
		e.finish(i, Passed)
		return
	}
	e.finish(i, cause)
}

// deadLetter sends the original of a copy to a dead-letter node.
func (e *engine) deadLetter(i uint32, to int32) {
	m := e.messageOf(&e.copies[i])
	m.aside, m.tries = true, 0
	if e.trace != nil {
		e.trace.sendsDead(e, i, to)
	}
	e.deliver(e.nodes[to].ownWay, &m, m.content, 0)
}

// setUpTable takes tables that nothing reads a change feed of: rows at rest.
func (e *engine) setUpTable(n *node) error {
	if gn := &e.g.Nodes[n.id]; len(gn.Out) > 0 {
		return notYet(gn, "the change feed")
	}
	return nil
}

// stand lets a written message take its place in a channel.
func (e *engine) stand(n *node, i uint32) { n.standFunc(e, n, i) }

func (e *engine) standInTopic(n *node, i uint32) { e.soon(evFan, i) }

func (e *engine) standInBucket(n *node, i uint32) {
	c := &e.copies[i]
	if n.keys != nil && !e.keepObject(n, c) {
		// Deleting what is not there makes no event.
		e.finish(i, Handled)
		return
	}
	if n.notice.zero() {
		e.soon(evFan, i)
		return
	}
	e.at(e.now+nanos(n.notice.draw(n.time1)), evFan, i)
}

// keepObject keeps the set of keys of a bucket from which something is
// deleted; it tells whether the change is one.
func (e *engine) keepObject(n *node, c *copyRecord) bool {
	key := e.contents[c.content].key()
	if c.flags&deletion == 0 {
		n.keys[strings.Clone(key)] = struct{}{} // the key itself lies in memory that is used again
		return true
	}
	if _, ok := n.keys[key]; !ok {
		return false
	}
	delete(n.keys, key)
	return true
}

// fan hands what stands in a topic, bucket or schedule to each link that takes
// it.
func (e *engine) fan(i uint32) {
	c := &e.copies[i]
	n := &e.nodes[c.node]
	gn := &e.g.Nodes[c.node]
	m := e.messageOf(c)
	deleted := c.flags&deletion != 0
	kind := kindOfEvent(gn, deleted)
	m.hops, m.tries = c.hops, 0
	taken := false
	for _, id := range gn.Out {
		l := &e.g.Links[id]
		d := &e.deliveries[id]
		d.offered++
		changed := gn.Kind != model.Bucket || wantsChange(l, deleted)
		if changed && (l.Filter.Everything || l.Filter.Takes(e.look(&m, kind))) {
			d.matched++
			taken = true
			if e.trace != nil {
				e.trace.offered(e, i, l, "")
			}
			e.deliver(int32(id), &m, m.content, 0)
		} else if e.trace != nil {
			why := "takes only " + wantedChanges(l)
			if changed {
				why = l.Filter.Why(e.look(&m, kind))
			}
			e.trace.offered(e, i, l, why)
		}
	}
	e.finish(i, e.fanFate(n, gn, &m, taken, deleted))
}

func (e *engine) fanFate(n *node, gn *graph.Node, m *message, taken, deleted bool) Fate {
	switch {
	case taken:
		return Passed
	case gn.Kind == model.Bucket || gn.Kind == model.Table:
		if deleted {
			return Handled
		}
		if m.aside && len(gn.Out) == 0 {
			return Parked
		}
		return Stored
	case gn.Kind == model.Topic && len(gn.Ignore.Clauses) > 0 && gn.Ignore.Takes(e.look(m, "message")):
		return Ignored
	case gn.Kind == model.Topic && len(gn.Out) == 0:
		return Unsubscribed
	}
	return Unmatched
}

// wantsChange tells whether a bucket's link takes a written or a deleted
// object.
func wantsChange(l *graph.Link, deleted bool) bool {
	if len(l.Changes) == 0 {
		return !deleted
	}
	for _, c := range l.Changes {
		if c == "deleted" && deleted || c == "written" && !deleted {
			return true
		}
	}
	return false
}

func wantedChanges(l *graph.Link) string {
	if len(l.Changes) == 0 {
		return "written"
	}
	s := l.Changes[0]
	for _, c := range l.Changes[1:] {
		s += ", " + c
	}
	return s
}

// contentFor gives the content of what a link sends: that of the message in
// hand, or one of its own; the caller drops its reference.
func (e *engine) contentFor(l *graph.Link, m *message, s *send, item any, index int) uint32 {
	if l.Key == nil && l.Type == "" && l.Payload == nil && l.Size < 0 {
		e.contents[m.content].refs++
		return m.content
	}
	s.sequence++
	i := e.newContent()
	con, old := &e.contents[i], &e.contents[m.content]
	con.kind, con.size, con.data, con.source = old.kind, old.size, old.data, int32(l.From)
	if l.Type != "" {
		con.kind = l.Type
	}
	if l.Size >= 0 {
		con.size = l.Size
	}
	if l.Payload != nil {
		ev := e.look(m, "message")
		ev.Item, ev.Index = item, index
		// What cannot be evaluated becomes null, as a missing field does.
		con.data, _ = l.Payload.Value(ev)
	}
	if l.Key == nil {
		con.subject = append(con.subject, old.subject...)
		return i
	}
	f := expr.Filling{Subject: old.key(), ID: e.journeys[m.journey].id, Seq: s.sequence, Time: e.instant(e.now), Data: con.data}
	con.subject = l.Key.Append(con.subject, &f)
	return i
}
