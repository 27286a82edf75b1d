package engine

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
	d      *Delivery // of the reader link
	n      *Node     // the queue
	q      *queue
	front  *list // what is visible in it
	f      *Node // the function
	sends  []fastSend
	to     *Node // where a message that is handled goes on to, in its record, as the one that is sent; nil: it does not
	apart  bool  // something else reads there
	copies bool  // what its runs send has records of its own
	sized  bool  // there is a limit on what its runs send
	most   int64 // a run that takes longer goes the general way
	dooms  bool  // there are lasting failures

	// active now
	welcome bool    // what its runs send is taken at once
	open    bool    // and nothing is traced
	limit   int64   // of concurrent runs; below 0: the link is paused
	share   float64 // of runs that fail
}

// fastSend is where a run on the fast path writes.
type fastSend struct {
	id int32
	d  *Delivery
	to *Node
}

// setUpFastPath finds the links whose runs may take the fast path.
func (e *Engine) setUpFastPath() {
	e.lanes = make([]*fastLink, len(e.Nodes))
	if e.Plan.DisableFastPath {
		return
	}
	for i := range e.Graph.Nodes {
		n := &e.Nodes[i]
		if n.Queue == nil || n.Queue.groups != nil || n.Queue.Feed != nil || len(n.Queue.classes) == 0 {
			continue
		}
		rl := n.Queue.Links[0]
		l := rl.link
		f := &e.Nodes[l.To]
		if l.Relation != model.PolledRun || l.Read.UpTo != 1 || rl.Delivery.refused || rl.Delivery.rejects ||
			rl.Delivery.wrap != Unwrapped ||
			!f.hasFastPath(e) {
			continue
		}
		ln := &fastLink{
			rl:    rl,
			d:     rl.Delivery,
			n:     n,
			q:     n.Queue,
			front: n.Queue.front,
			f:     f,
			most:  n.Queue.lease - 1,
			dooms: f.fails.ForGood > 0,
		}
		if f.limit > 0 {
			ln.most = min(ln.most, f.limit)
		}
		for _, id := range f.steps[Sending] {
			ln.sends = append(ln.sends, fastSend{id, &e.Deliveries[id], &e.Nodes[e.Sends[id].Link.To]})
		}
		ln.sized = e.payload > 0 && len(ln.sends) > 0
		e.lanes[i] = ln
	}
	e.setUpFastBatches()
	for i := range e.Graph.Nodes {
		e.Nodes[i].fast = e.fastFan(&e.Nodes[i])
	}
	// Only after all are known: a message goes on in its record from queue to
	// queue, where no loop counts its passes and nothing counts what it takes.
	for i := range e.Graph.Nodes {
		ln := e.lanes[i]
		if ln == nil {
			continue
		}
		if len(ln.sends) == 1 {
			if to := ln.sends[0].to; to.Queue != nil && to.Queue.plain && e.InLoop[to.ID] < 0 {
				ln.to, ln.apart = to, to.Queue.Links[0].link.To != ln.f.ID
			}
		}
		ln.copies = ln.to == nil && len(ln.sends) > 0
	}
	e.BindFastPath()
}

// BindFastPath notes what is active now: at the start, and when an incident
// has changed it.
func (e *Engine) BindFastPath() {
	for i := range e.Nodes {
		n := &e.Nodes[i]
		n.fans = n.fast != nil && e.Trace == nil
		for k := range n.fast {
			s := &n.fast[k]
			n.fans = n.fans && !s.d.Paused && !s.d.Off && !s.d.refused && s.to.FailsNowShare < 0
		}
		d := &e.Deliveries[n.OutWay]
		n.AtOnce = n.direct && n.FailsNowShare < 0 && !d.refused && d.wrap == Unwrapped && e.InLoop[i] < 0 &&
			e.Trace == nil
		ln := e.lanes[i]
		if ln == nil {
			continue
		}
		ln.limit, ln.share = ln.f.limitNow(), ln.f.shareNow(&ln.f.fails)
		if ln.d.Paused {
			ln.limit = -1
		}
		ln.welcome = true
		for k := range ln.sends {
			to := ln.sends[k].to
			ln.welcome = ln.welcome && !ln.sends[k].d.Off && to.FailsNowShare < 0 && to.Slow == 1
		}
		ln.open = ln.welcome && !e.Storage && e.Trace == nil
	}
}

// Observe lets a tracer look on.
func (e *Engine) Observe(t Tracer) {
	e.Trace = t
	e.BindFastPath()
}

// fastFan gives where a topic hands its messages on to, where that takes the
// fast path.
func (e *Engine) fastFan(n *Node) []fastSend {
	if n.Kind != model.Topic || n.twice > 0 {
		return nil
	}
	var out []fastSend
	for _, id := range e.Graph.Nodes[n.ID].Out {
		to := &e.Nodes[e.Graph.Links[id].To]
		if !e.Graph.Links[id].Filter.Everything || !to.direct || to.Queue == nil || e.InLoop[to.ID] >= 0 ||
			e.Deliveries[id].wrap != Unwrapped {
			return nil
		}
		out = append(out, fastSend{int32(id), &e.Deliveries[id], to})
	}
	return out
}

// fanFast hands what stands in a topic on.
func (e *Engine) fanFast(n *Node, i uint32) {
	c := e.Copies.At(i)
	e.Contents[c.Content].Refs += int32(len(n.fast))
	j := e.Journeys.At(c.Journey)
	j.Refs += int32(len(n.fast))
	j.Open += int32(len(n.fast))
	e.fanOut(n, j, c.Journey, c.Content, c.hops, c.passes, c.Flags&(deadLettered|Deletion))
	e.Finish(i, Passed)
}

// fanOut makes the copies that a topic hands on, to which its message's journey and
// content have been counted.
func (e *Engine) fanOut(n *Node, j *Journey, jour, con uint32, hops, passes uint16, f Flags) {
	j.Copies += int32(len(n.fast))
	e.Live += len(n.fast)
	each := Copy{Born: e.Now, Journey: jour, Content: con, hops: hops, passes: passes, Flags: f}
	for k := range n.fast {
		s := &n.fast[k]
		s.d.Offered++
		s.d.Matched++
		s.d.Copies++
		s.to.Copies++
		i := e.copySlot()
		c := e.Copies.At(i)
		*c = each
		c.Age, c.Via, c.Node = e.Sequence(), s.id, int32(s.to.ID)
		e.enqueueSimple(s.to, c, i)
		e.WantPull(s.to)
	}
}

// EnterFast brings a message from outside to a queue or topic that takes it at
// once, as the last thing that an event does; the reference to the content becomes
// that of the copy.
func (e *Engine) EnterFast(n *Node, way *Delivery, con uint32) {
	e.Tally.Entered++
	way.Copies++
	n.Copies++
	jour, j := e.NewJourney(int32(n.ID))
	if n.Queue == nil && n.fans && e.uncontestedNow() { // its message is gone before anybody could see it
		e.Sequence()
		e.Tally.Events++
		more := int32(len(n.fast))
		e.Contents[con].Refs += more - 1
		j.Refs, j.Open, j.Copies = more, more, 1
		e.fanOut(n, j, jour, con, 0, 0, 0)
		n.Fates[Passed]++
		if e.Now >= e.Warm {
			n.Time.Add(0)
		}
		return
	}
	i := e.copySlot()
	c := e.Copies.At(i)
	j.Refs, j.Open, j.Copies = 1, 1, 1
	c.comes(e.Now, e.Sequence(), n.OutWay, int32(n.ID))
	c.Journey, c.Content, c.hops, c.passes, c.Flags = jour, con, 0, 0, 0
	e.Live++
	if n.Queue == nil {
		e.ScheduleNow(EvFan, i)
		return
	}
	e.enqueueSimple(n, c, i)
	e.pullNow(n)
}

// onlyWorks reports whether a function works, then sends, and nothing else.
func (n *Node) onlyWorks() bool {
	return n.Kind == model.Function && !n.tasks && n.cases == nil && n.Accepts == nil && n.pool == nil &&
		n.recorded == nil &&
		n.cold == nil && n.bucket == nil && n.succeeded == nil &&
		!n.crashes && !(n.Asks && n.limit > 0) && !n.resultsAll && !n.together &&
		n.steps[atStart] == nil &&
		n.steps[Calling] == nil
}

// hasFastPath reports whether the runs of a function for one message are simple enough.
func (n *Node) hasFastPath(e *Engine) bool {
	if !n.onlyWorks() || n.fails.PerMessage || e.Graph.UsesIdentity && len(n.steps[Sending]) > 0 {
		return false
	}
	for _, id := range n.steps[Sending] {
		s := &e.Sends[id]
		l := s.Link
		to := &e.Nodes[l.To]
		if !s.plain || l.Relation != model.RunWrite || l.Op != "" || l.Key != nil || l.Type != "" || l.Payload != nil || l.Size >= 0 || e.Deliveries[id].refused ||
			to.capacity > 0 || to.fails.EachTry > 0 ||
			!to.takes.Zero() ||
			to.stream != nil {
			return false
		}
	}
	return true
}
