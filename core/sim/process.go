package sim

// heldCopy is a copy that waits at a stopped node, known again by its name.
type heldCopy struct {
	copy uint32
	name uint64
}

// holdStopped keeps a message of a stopped node's intake until the node runs again,
// without a try; its age counts on [IN-12].
func (e *engine) holdStopped(i uint32, n *node, d *delivery) {
	c := e.copies.At(i)
	n.heldIntake = append(n.heldIntake, heldCopy{i, c.age})
	if d.policy.GiveUp > 0 {
		e.inFlightFor(c).timer = e.Schedule(c.born+d.policy.GiveUp+1, evTry, i)
	}
}

// turn stops a node's process, or starts it again.
func (e *engine) turnProcess(id int, stopped bool) {
	n := &e.nodes[id]
	if n.stopped == stopped {
		return
	}
	n.stopped = stopped
	if stopped {
		e.releaseReaders(id, 0)
	} else {
		held := n.heldIntake
		n.heldIntake = nil
		for _, h := range held {
			if c := e.copies.At(h.copy); c.age == h.name && c.flags&done == 0 {
				e.waitsNoMore(c)
				e.ScheduleNow(evTry, h.copy)
			}
		}
	}
	for _, link := range e.g.Nodes[id].In {
		e.applyToLink(int32(link))
	}
}

// releaseReaders gives back what the readers of a node have taken for runs that have
// not begun [IN-21], marked with a flag.
func (e *engine) releaseReaders(id int, mark copyFlags) {
	for _, link := range e.g.Nodes[id].In {
		l := &e.g.Links[link]
		if !l.Relation.Polls() {
			continue
		}
		if feed := e.feedOf[link]; feed >= 0 {
			e.releaseFeed(&e.nodes[feed])
			continue
		}
		from := &e.nodes[l.From]
		for _, rl := range from.queue.links {
			if rl.link.ID == link {
				e.release(from, rl, mark)
			}
		}
		e.wantPull(from)
	}
}

// releaseFeed puts back what the partitions of a feed have taken for batches that are
// still filling.
func (e *engine) releaseFeed(n *node) {
	for _, p := range n.queue.feed.parts {
		if p.state != filling {
			continue
		}
		for k := len(p.hand) - 1; k >= 0; k-- {
			c := e.copies.At(p.hand[k])
			c.flags |= unread
			e.inFlightFor(c).held--
			e.insertAfter(&p.list, p.hand[k], 0)
		}
		p.hand, p.state, p.timer = p.hand[:0], idle, 0
		e.wantTurn(p)
	}
}

// crash ends all runs of a node without an answer [IN-14]. Its process runs again at
// once, with cold instances [IN-15].
func (e *engine) crash(id int) {
	n := &e.nodes[id]
	if n.cold != nil {
		n.cold.idle = n.cold.idle[:0]
	}
	type inProgress struct{ run, turn uint32 }
	var runs []inProgress
	for i := range e.runs {
		if r := &e.runs[i]; i > 0 && int(r.node) == id && r.phase != idlePhase && r.why != forMove {
			runs = append(runs, inProgress{uint32(i), r.turn})
			if r.why == forBatch { // before what was taken after it
				e.returnBatch(r.batch)
			}
		}
	}
	e.releaseReaders(id, crashed)
	for _, x := range runs {
		if e.runs[x.run].turn == x.turn {
			e.crashRun(x.run, n)
		}
	}
}

// crashRun ends one run of a node that crashes.
func (e *engine) crashRun(i uint32, n *node) {
	r := &e.runs[i]
	if r.execution != nil {
		e.dropExecution(i)
	}
	if r.why != forRequest {
		n.failed(errCrashed)
	}
	n.active.Fall(e.Now)
	if n.pool != nil {
		n.pool.used--
	}
	if e.trace != nil {
		e.trace.ends(e, i, errCrashed)
	}
	c, b, own, why, caller, turn := r.copy, r.batch, r.own, r.why, r.caller, r.callOf
	e.dropRun(i)
	switch why {
	case forIntake: // a failed try [IN-18]
		x := e.copies.At(c)
		e.inFlightFor(x).busy--
		if x.flags&duplicate != 0 {
			e.finish(c, noFate)
			return
		}
		e.intakeFailed(c, n, &e.deliveries[x.via], errCrashed, false)
	case forRequest:
		e.inFlightFor(e.copies.At(c)).busy--
		e.answer(c, n, errCrashed, 503)
	case forBatch:
		e.crashBatch(b)
	case forCall:
		e.releaseJourneyOf(&own)
		// Who waits does not notice [IN-22]; only a reader that pushes sees its connection end.
		if k := &e.runs[caller]; k.turn == turn && k.why == forMove {
			e.answered(caller, errCrashed, false)
		}
	}
}

// returnBatch gives back the messages of a batch whose run a crash ends: a queue's return
// when their leases end [IN-16], or at once with `settle: reject` [IN-17].
func (e *engine) returnBatch(b uint32) {
	n := &e.nodes[e.batches[b].node]
	rl := e.readers[e.batches[b].reader].link
	for k := range e.batches[b].entries {
		e.inFlightFor(e.copies.At(e.batches[b].entries[k].copy)).busy--
	}
	if n.queue.feed != nil {
		return // the partition goes on with them
	}
	for k := range e.batches[b].entries {
		entry := e.batches[b].entries[k]
		c := e.copies.At(entry.copy)
		switch {
		case c.flags&done != 0:
		case c.flags&expiring != 0 && e.inFlightOf(c).busy == 0:
			e.leaveQueue(n, entry.copy, Expired)
		case c.tries == entry.token && c.flags&leased != 0 && rl.delivery.rejects:
			c.flags |= crashed
			e.hide(n.queue, entry.copy)
			e.becomeVisible(entry.copy)
		}
	}
}

// crashBatch ends a batch whose messages have been given back; a stream's has used one
// try [IN-23].
func (e *engine) crashBatch(b uint32) {
	if e.nodes[e.batches[b].node].queue.feed != nil {
		e.settleFeed(b, errCrashed, false)
	} else {
		e.freeGroups(b)
	}
	e.endBatch(b, false)
}
