package engine

// heldCopy is a copy that waits at a stopped node, known again by its name.
type heldCopy struct {
	copy uint32
	name uint64
}

// holdStopped keeps a message of a stopped node's intake until the node runs again,
// without a try; its age counts on [IN-12].
func (e *Engine) holdStopped(i uint32, n *Node, d *Delivery) {
	c := e.Copies.At(i)
	n.heldIntake = append(n.heldIntake, heldCopy{i, c.Age})
	if d.policy.GiveUp > 0 {
		e.inFlightFor(c).Timer = e.Schedule(c.Born+d.policy.GiveUp+1, EvTry, i)
	}
}

// TurnProcess stops a node's process, or starts it again.
func (e *Engine) TurnProcess(id int, stopped bool) {
	n := &e.Nodes[id]
	n.Stopped = stopped
	if stopped {
		e.releaseReaders(id, 0)
	} else {
		held := n.heldIntake
		n.heldIntake = nil
		for _, h := range held {
			if c := e.Copies.At(h.copy); c.Age == h.name && c.Flags&Done == 0 {
				e.WaitsNoMore(c)
				e.ScheduleNow(EvTry, h.copy)
			}
		}
	}
}

// releaseReaders gives back what the readers of a node have taken for runs that have
// not begun [IN-21], marked with a flag.
func (e *Engine) releaseReaders(id int, mark Flags) {
	for _, link := range e.Graph.Nodes[id].In {
		l := &e.Graph.Links[link]
		if !l.Relation.Polls() {
			continue
		}
		if feed := e.FeedOf[link]; feed >= 0 {
			e.releaseFeed(&e.Nodes[feed])
			continue
		}
		from := &e.Nodes[l.From]
		for _, rl := range from.Queue.Links {
			if rl.link.ID == link {
				e.release(from, rl, mark)
			}
		}
		e.WantPull(from)
	}
}

// releaseFeed puts back what the partitions of a feed have taken for batches that are
// still filling.
func (e *Engine) releaseFeed(n *Node) {
	for _, p := range n.Queue.Feed.parts {
		if p.state != filling {
			continue
		}
		for k := len(p.hand) - 1; k >= 0; k-- {
			c := e.Copies.At(p.hand[k])
			c.Flags |= unread
			e.inFlightFor(c).Held--
			e.insertAfter(&p.list, p.hand[k], 0)
		}
		p.hand, p.state, p.timer = p.hand[:0], idle, 0
		e.wantTurn(p)
	}
}

// Crash ends all runs of a node without an answer [IN-14]. Its process runs again at
// once, with cold instances [IN-15].
func (e *Engine) Crash(id int) {
	n := &e.Nodes[id]
	if n.cold != nil {
		n.cold.idle = n.cold.idle[:0]
	}
	type inProgress struct{ run, turn uint32 }
	var runs []inProgress
	for i := range e.Runs {
		if r := &e.Runs[i]; i > 0 && int(r.Node) == id && r.Phase != idlePhase && r.Why != ForMove {
			runs = append(runs, inProgress{uint32(i), r.Turn})
			if r.Why == forBatch { // before what was taken after it
				e.returnBatch(r.Batch)
			}
		}
	}
	e.releaseReaders(id, crashed)
	for _, x := range runs {
		if e.Runs[x.run].Turn == x.turn {
			e.crashRun(x.run, n)
		}
	}
}

// crashRun ends one run of a node that crashes.
func (e *Engine) crashRun(i uint32, n *Node) {
	r := &e.Runs[i]
	if n.tasks {
		e.Workflows.Drop(i)
	}
	if r.Why != forRequest {
		n.failed(errCrashed)
	}
	n.Active.Fall(e.Now)
	if n.pool != nil {
		n.pool.used--
	}
	if e.Trace != nil {
		e.Trace.Ends(i, errCrashed)
	}
	c, b, own, why, caller, turn := r.Copy, r.Batch, r.Own, r.Why, r.Caller, r.CallOf
	e.dropRun(i)
	switch why {
	case forIntake: // a failed try [IN-18]
		x := e.Copies.At(c)
		e.inFlightFor(x).Busy--
		if x.Flags&Duplicate != 0 {
			e.Finish(c, noFate)
			return
		}
		e.intakeFailed(c, n, &e.Deliveries[x.Via], errCrashed, false)
	case forRequest:
		e.inFlightFor(e.Copies.At(c)).Busy--
		e.answer(c, n, errCrashed, 503)
	case forBatch:
		e.crashBatch(b)
	case ForCall:
		e.releaseJourneyOf(&own)
		// Who waits does not notice [IN-22]; only a reader that pushes sees its connection end.
		if k := &e.Runs[caller]; k.Turn == turn && k.Why == ForMove {
			e.answered(caller, errCrashed, false)
		}
	}
}

// returnBatch gives back the messages of a batch whose run a crash ends: a queue's return
// when their leases end [IN-16], or at once with `settle: reject` [IN-17].
func (e *Engine) returnBatch(b uint32) {
	n := &e.Nodes[e.Batches[b].Node]
	rl := e.Readers[e.Batches[b].reader].link
	for k := range e.Batches[b].Entries {
		e.inFlightFor(e.Copies.At(e.Batches[b].Entries[k].Copy)).Busy--
	}
	if n.Queue.Feed != nil {
		return // the partition goes on with them
	}
	for k := range e.Batches[b].Entries {
		entry := e.Batches[b].Entries[k]
		c := e.Copies.At(entry.Copy)
		switch {
		case c.Flags&Done != 0:
		case c.Flags&expiring != 0 && e.InFlightOf(c).Busy == 0:
			e.LeaveQueue(n, entry.Copy, Expired)
		case c.Tries == entry.Token && c.Flags&Leased != 0 && rl.Delivery.rejects:
			c.Flags |= crashed
			e.hide(n.Queue, entry.Copy)
			e.becomeVisible(entry.Copy)
		}
	}
}

// crashBatch ends a batch whose messages have been given back; a stream's has used one
// try [IN-23].
func (e *Engine) crashBatch(b uint32) {
	if e.Nodes[e.Batches[b].Node].Queue.Feed != nil {
		e.settleFeed(b, errCrashed, false)
	} else {
		e.freeGroups(b)
	}
	e.endBatch(b, false)
}
