package sim

import "ironweir/core/model"

// The fast path: a reader of one message at a time, and a function that only
// works and then writes to channels (but streams) that reject nothing. Most
// of a model is like that, and such a run needs neither a batch nor a run
// record: the message itself stands for it (fastpath_runs.go). So does what comes
// from outside to a queue or topic that takes it at once, and a topic that hands
// everything on to such queues. Nothing else differs: the same draws, the same
// order, the same counts (fastpath_test.go), and whatever is out of the ordinary
// goes on by the general way.

// fastLink is a queue whose readers may take the fast path, with all that its
// runs need at hand.
type fastLink struct {
	rl     *readerLink
	d      *delivery // of the reader link
	n      *node     // the queue
	q      *queue
	front  *list // what is visible in it
	f      *node // the function
	sends  []fastSend
	to     *node // where a message that is handled goes on to, in its record, as the one that is sent; nil: it does not
	apart  bool  // something else reads there
	copies bool  // what its runs send has records of its own
	sized  bool  // there is a limit on what its runs send
	most   int64 // a run that takes longer goes the general way
	dooms  bool  // there are lasting failures

	// in force now
	welcome bool    // what its runs send is taken at once
	open    bool    // and nobody looks on
	limit   int64   // of runs at once; below 0: the link is paused
	share   float64 // of runs that fail
}

// fastSend is where a run on the fast path writes.
type fastSend struct {
	id int32
	d  *delivery
	to *node
}

// setUpFastPath finds the links whose runs may take the fast path.
func (e *engine) setUpFastPath() {
	e.lanes = make([]*fastLink, len(e.nodes))
	if e.plan.DisableFastPath {
		return
	}
	for i := range e.g.Nodes {
		n := &e.nodes[i]
		if n.queue == nil || n.queue.groups != nil || n.queue.feed != nil || len(n.queue.classes) == 0 {
			continue
		}
		rl := n.queue.links[0]
		l := rl.link
		f := &e.nodes[l.To]
		if l.Relation != model.PolledRun || l.Read.UpTo != 1 || rl.delivery.refused || rl.delivery.rejects ||
			rl.delivery.wrap != unwrapped ||
			!f.hasFastPath(e) {
			continue
		}
		ln := &fastLink{
			rl:    rl,
			d:     rl.delivery,
			n:     n,
			q:     n.queue,
			front: n.queue.front,
			f:     f,
			most:  n.queue.lease - 1,
			dooms: f.fails.ForGood > 0,
		}
		if f.limit > 0 {
			ln.most = min(ln.most, f.limit)
		}
		for _, id := range f.steps[sending] {
			ln.sends = append(ln.sends, fastSend{id, &e.deliveries[id], &e.nodes[e.sends[id].link.To]})
		}
		ln.sized = e.payload > 0 && len(ln.sends) > 0
		e.lanes[i] = ln
	}
	e.setUpFastBatches()
	for i := range e.g.Nodes {
		e.nodes[i].fast = e.fastFan(&e.nodes[i])
	}
	// Only after all are known: a message goes on in its record from queue to
	// queue, where no loop counts its passes and nothing counts what it takes.
	for i := range e.g.Nodes {
		ln := e.lanes[i]
		if ln == nil {
			continue
		}
		if len(ln.sends) == 1 {
			if to := ln.sends[0].to; to.queue != nil && to.queue.plain && e.inLoop[to.id] < 0 {
				ln.to, ln.apart = to, to.queue.links[0].link.To != ln.f.id
			}
		}
		ln.copies = ln.to == nil && len(ln.sends) > 0
	}
	e.bindFastPath()
}

// bindFastPath notes what is active now: at the start, and when an incident
// has changed it.
func (e *engine) bindFastPath() {
	for i := range e.nodes {
		n := &e.nodes[i]
		n.fans = n.fast != nil && e.trace == nil
		for k := range n.fast {
			s := &n.fast[k]
			n.fans = n.fans && !s.d.paused && !s.d.off && !s.d.refused && s.to.failsNowShare < 0
		}
		d := &e.deliveries[n.outWay]
		n.atOnce = n.direct && n.failsNowShare < 0 && !d.refused && d.wrap == unwrapped && e.inLoop[i] < 0 &&
			e.trace == nil
		ln := e.lanes[i]
		if ln == nil {
			continue
		}
		ln.limit, ln.share = ln.f.limitNow(), ln.f.shareNow(&ln.f.fails)
		if ln.d.paused {
			ln.limit = -1
		}
		ln.welcome = true
		for k := range ln.sends {
			to := ln.sends[k].to
			ln.welcome = ln.welcome && !ln.sends[k].d.off && to.failsNowShare < 0 && to.slow == 1
		}
		ln.open = ln.welcome && !e.storage && e.trace == nil
	}
}

// observe lets a tracer look on.
func (e *engine) observe(t *tracer) {
	e.trace = t
	e.bindFastPath()
}

// fastFan gives where a topic hands its messages on to, where that takes the
// fast path.
func (e *engine) fastFan(n *node) []fastSend {
	if n.kind != model.Topic || n.twice > 0 {
		return nil
	}
	var out []fastSend
	for _, id := range e.g.Nodes[n.id].Out {
		to := &e.nodes[e.g.Links[id].To]
		if !e.g.Links[id].Filter.Everything || !to.direct || to.queue == nil || e.inLoop[to.id] >= 0 ||
			e.deliveries[id].wrap != unwrapped {
			return nil
		}
		out = append(out, fastSend{int32(id), &e.deliveries[id], to})
	}
	return out
}

// fanFast hands what stands in a topic on.
func (e *engine) fanFast(n *node, i uint32) {
	c := e.copies.At(i)
	e.contents[c.content].refs += int32(len(n.fast))
	j := e.journeys.At(c.journey)
	j.refs += int32(len(n.fast))
	j.open += int32(len(n.fast))
	e.fanOut(n, j, c.journey, c.content, c.hops, c.passes, c.flags&(deadLettered|deletion))
	e.finish(i, Passed)
}

// fanOut makes the copies that a topic hands on, to which its message's journey and
// content have been counted.
func (e *engine) fanOut(n *node, j *journey, jour, con uint32, hops, passes uint16, f copyFlags) {
	j.copies += int32(len(n.fast))
	e.live += len(n.fast)
	each := copyRecord{born: e.Now, journey: jour, content: con, hops: hops, passes: passes, flags: f}
	for k := range n.fast {
		s := &n.fast[k]
		s.d.offered++
		s.d.matched++
		s.d.copies++
		s.to.copies++
		i := e.copySlot()
		c := e.copies.At(i)
		*c = each
		c.age, c.via, c.node = e.Sequence(), s.id, int32(s.to.id)
		e.enqueueSimple(s.to, c, i)
		e.wantPull(s.to)
	}
}

// enterFast brings a message from outside to a queue or topic that takes it at
// once, as the last thing that an event does; the reference to the content becomes
// that of the copy.
func (e *engine) enterFast(n *node, way *delivery, con uint32) {
	e.tally.entered++
	way.copies++
	n.copies++
	jour, j := e.newJourney(int32(n.id))
	if n.queue == nil && n.fans && e.uncontestedNow() { // its message is gone before anybody could see it
		e.Sequence()
		e.tally.events++
		more := int32(len(n.fast))
		e.contents[con].refs += more - 1
		j.refs, j.open, j.copies = more, more, 1
		e.fanOut(n, j, jour, con, 0, 0, 0)
		n.fates[Passed]++
		if e.Now >= e.warm {
			n.time.Add(0)
		}
		return
	}
	i := e.copySlot()
	c := e.copies.At(i)
	j.refs, j.open, j.copies = 1, 1, 1
	c.comes(e.Now, e.Sequence(), n.outWay, int32(n.id))
	c.journey, c.content, c.hops, c.passes, c.flags = jour, con, 0, 0, 0
	e.live++
	if n.queue == nil {
		e.ScheduleNow(evFan, i)
		return
	}
	e.enqueueSimple(n, c, i)
	e.pullNow(n)
}

// onlyWorks reports whether a function works, then sends, and nothing else.
func (n *node) onlyWorks() bool {
	return n.kind == model.Function && !n.tasks && n.cases == nil && n.accepts == nil && n.pool == nil &&
		n.recorded == nil &&
		n.cold == nil && n.bucket == nil && n.succeeded == nil &&
		!n.crashes && !(n.asks && n.limit > 0) && !n.resultsAll && !n.together &&
		n.steps[atStart] == nil &&
		n.steps[calling] == nil
}

// hasFastPath reports whether the runs of a function for one message are simple enough.
func (n *node) hasFastPath(e *engine) bool {
	if !n.onlyWorks() || n.fails.PerMessage || e.g.UsesIdentity && len(n.steps[sending]) > 0 {
		return false
	}
	for _, id := range n.steps[sending] {
		s := &e.sends[id]
		l := s.link
		to := &e.nodes[l.To]
		if !s.plain || l.Relation != model.RunWrite || l.Op != "" || l.Key != nil || l.Type != "" || l.Payload != nil || l.Size >= 0 || e.deliveries[id].refused ||
			to.capacity > 0 || to.fails.EachTry > 0 ||
			!to.takes.Zero() ||
			to.stream != nil {
			return false
		}
	}
	return true
}
