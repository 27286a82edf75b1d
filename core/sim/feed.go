package sim

import "ironweir/core/model"

// feed is one link that reads a stream or a table's changes: for each partition
// one batch at a time, in order. Its copies are accounted for by the link.
type feed struct {
	rl      *readerLink
	parts   []*partition // which stay where they are as others are added
	history *history     // where an incident rewinds it
}

// partition is what one reader reads, and where it is.
type partition struct {
	list             // records not yet taken, in order
	hand    []uint32 // records taken, in order
	pieces  []int    // sizes of the parts of hand that are tried one after the other; the first is next
	tries   int      // of the first piece
	pause   int64    // after a throttle: how long it paused last; 0: none
	timer   uint64   // of what it waits for
	reader  uint32
	state   partitionState
	pulling bool // an event of this instant will look at it
	behind  int  // records that it has not finished with
}

type partitionState uint8

const (
	idle     partitionState = iota
	filling                 // has taken some, and waits for more
	pausing                 // its batch waits for its next try
	stopped                 // its batch's try has come due while the link is paused
	underWay                // its batch is being worked on
)

func (e *engine) setUpFeed(home, n *node, link int) {
	l := &e.g.Links[link]
	n.home = home
	f := &feed{rl: &readerLink{link: l, delivery: &e.deliveries[link]}}
	n.queue = &queue{retention: int64(e.g.Nodes[home.id].Retention), feed: f, links: []*readerLink{f.rl}}
	for range home.stream.partitions {
		e.addPartition(n)
	}
}

func (e *engine) addPartition(n *node) {
	f := n.queue.feed
	f.parts = append(f.parts, &partition{reader: uint32(len(e.readers))})
	e.readers = append(e.readers, reader{link: f.rl, queue: int32(n.id), partition: int32(len(f.parts) - 1)})
}

// intoFeed makes the copy of a record that a link reads.
func (e *engine) intoFeed(n *node, via int32, m *message, record uint32) {
	place, flags := e.inFlightOf(e.copies.At(record)).group, e.copies.At(record).flags&(duplicate|deletion|update)
	i := e.newCopy(n, via, m, m.content, flags)
	c := e.copies.At(i)
	e.inFlightFor(c).group = place
	if e.trace != nil {
		e.trace.comes(e, i, m)
	}
	f := n.queue.feed
	p := f.parts[place]
	if flags&duplicate == 0 {
		p.behind++
		if f.history != nil {
			e.writeDown(f, int(place), m)
		}
	}
	e.countDepth(n, c)
	c.flags |= unread
	e.putLast(&p.list, e.copies.At(i), i)
	e.insertByAge(n, i)
	e.wantTurn(p)
}

// wantTurn lets a partition be looked at behind what is scheduled for this
// instant.
func (e *engine) wantTurn(p *partition) {
	if !p.pulling {
		p.pulling = true
		e.ScheduleNow(evFeed, p.reader)
	}
}

// turn comes when something has changed for a partition (seq 0), or when what
// it waited for is over.
func (e *engine) turn(reader uint32, seq uint64) {
	r := &e.readers[reader]
	n := &e.nodes[r.queue]
	p := n.queue.feed.parts[r.partition]
	if seq != 0 {
		if seq != p.timer {
			return
		}
		p.timer = 0
		switch {
		case p.state == filling:
			e.firstTry(n, p)
		case n.queue.links[0].delivery.paused:
			p.state = stopped
		default:
			e.tryPiece(n, p)
		}
		return
	}
	p.pulling = false
	switch {
	case p.state == idle && len(p.hand) > 0 && n.queue.feed.rl.delivery.paused:
		p.state = stopped
	case p.state == idle && len(p.hand) > 0:
		e.tryPiece(n, p)
	case p.state == idle || p.state == filling:
		e.fill(n, p)
	}
}

// fill takes records up to a batch, and tries it when it is full or need not
// wait.
func (e *engine) fill(n *node, p *partition) {
	rl := n.queue.feed.rl
	if rl.delivery.paused && p.state == idle {
		return
	}
	for len(p.hand) < rl.link.Read.UpTo && p.head != 0 {
		i := p.head
		e.hide(n.queue, i)
		p.hand = append(p.hand, i)
		e.inFlightFor(e.copies.At(i)).held++
	}
	switch {
	case len(p.hand) == 0:
		p.state, p.timer = idle, 0
	case len(p.hand) == rl.link.Read.UpTo || rl.link.Read.Within == 0:
		e.firstTry(n, p)
	case p.state == idle:
		p.state = filling
		p.timer = e.Schedule(e.Now+int64(rl.link.Read.Within), evFeed, p.reader)
	}
}

func (e *engine) firstTry(n *node, p *partition) {
	p.tries, p.timer = 0, 0
	p.pieces = append(p.pieces[:0], len(p.hand))
	e.tryPiece(n, p)
}

// tryPiece hands the next piece of what was taken to what the link leads to.
func (e *engine) tryPiece(n *node, p *partition) {
	rl := n.queue.feed.rl
	p.state = idle
	e.dropSpent(n, p, e.Now)
	if len(p.hand) == 0 {
		e.wantTurn(p)
		return
	}
	target := &e.nodes[rl.link.To]
	if rl.link.Relation == model.PolledRun && !e.free(target) {
		target.throttled++
		p.pause = longerPause(p.pause)
		e.pausePiece(n, p, p.pause, Throttled)
		return
	}
	p.pause = 0
	p.tries++
	b := e.newBatch(p.reader, n)
	for _, i := range p.hand[:p.pieces[0]] {
		c := e.copies.At(i)
		c.tries = uint16(min(p.tries, 1<<16-1))
		e.inFlightFor(c).held++
		if c.flags&begun == 0 {
			c.flags |= begun
			if e.Now >= e.warm && c.flags&duplicate == 0 {
				n.wait.Add(e.Now - c.born)
			}
		}
		e.addToBatch(b, i)
	}
	p.state = underWay
	e.busyBatch(&e.batches[b])
	e.launch(b)
}

// pausePiece lets a batch wait for its next try.
func (e *engine) pausePiece(n *node, p *partition, wait int64, cause Fate) {
	e.dropSpent(n, p, e.Now+wait)
	if len(p.hand) == 0 {
		p.state = idle
		e.wantTurn(p)
		return
	}
	if e.trace != nil {
		e.trace.waits(e, p.hand[0], wait, cause, 0)
	}
	p.state = pausing
	p.timer = e.Schedule(e.Now+wait, evFeed, p.reader)
}

// dropSpent gives up the records in hand that a try at an instant would be too
// late for, and all of them where the link may not use its target.
func (e *engine) dropSpent(n *node, p *partition, at int64) {
	d := n.queue.feed.rl.delivery
	rl := n.queue.feed.rl
	if !d.refused && d.policy.GiveUp == 0 && !e.limitsHops(rl.link) {
		return
	}
	for k := 0; k < len(p.hand); {
		i := p.hand[k]
		switch {
		case d.refused:
			e.endInQueue(n, i, d, Refused)
		case e.overHops(rl, e.copies.At(i)):
			e.endInQueue(n, i, d, HopLimit)
		case d.policy.GiveUp > 0 && at-e.copies.At(i).born > d.policy.GiveUp:
			e.endInQueue(n, i, d, GivenUp)
		default:
			k++
		}
	}
}

// leaveFeed takes a record that is finished with out of what its reader has in
// hand.
func (e *engine) leaveFeed(f *feed, i uint32) {
	c := e.copies.At(i)
	p := f.parts[e.inFlightOf(c).group]
	if c.flags&(duplicate|again) == 0 {
		p.behind--
	}
	for k, h := range p.hand {
		if h != i {
			continue
		}
		p.hand = append(p.hand[:k], p.hand[k+1:]...)
		for piece := range p.pieces {
			if k < p.pieces[piece] {
				p.pieces[piece]--
				if p.pieces[piece] == 0 {
					p.pieces = append(p.pieces[:piece], p.pieces[piece+1:]...)
					if piece == 0 {
						p.tries = 0
						if len(p.hand) > 0 && (p.state == pausing || p.state == stopped) { // [ST-09]
							p.state, p.timer = idle, 0
							e.wantTurn(p)
						}
					}
				}
				break
			}
			k -= p.pieces[piece]
		}
		e.inFlightFor(c).held--
		if len(p.hand) == 0 && p.state != underWay && p.state != idle {
			p.state, p.timer = idle, 0 // nothing to wait for any more
			e.wantTurn(p)
		}
		return
	}
}

// settleFeed deals with a batch of a feed whose run is over: what succeeded is
// finished, and the rest is tried again, halved, or given up.
func (e *engine) settleFeed(b uint32, failure int16, final bool) {
	bt := &e.batches[b]
	n := &e.nodes[bt.node]
	r := &e.readers[bt.reader]
	rl := r.link
	d := rl.delivery
	p := n.queue.feed.parts[r.partition]
	tries := p.tries
	whole := rl.link.Read.Failed != "each" && rl.link.Relation == model.PolledRun && bt.anyFailed()
	final = final && failure != noError
	left, ended := 0, 0 // that failed, and those of them that are not tried again
	for k := 0; k < len(e.batches[b].entries); k++ {
		entry := e.batches[b].entries[k]
		c := e.copies.At(entry.copy)
		why := failure
		if why == noError {
			why = entry.failure
		}
		switch {
		case c.flags&done != 0:
			continue
		case why == noError && !whole:
			e.handledBy = rl.link.To
			e.leaveQueue(n, entry.copy, Handled)
			continue
		case c.flags&duplicate != 0:
			e.leaveQueue(n, entry.copy, noFate)
			continue
		case c.flags&expiring != 0:
			e.leaveQueue(n, entry.copy, Expired)
			continue
		}
		final = final || d.isExcept(why)
		if failure == noError && entry.final {
			ended++
		}
		e.inFlightFor(c).lastFail = why
		left++
	}
	p.state = idle
	switch {
	case left == 0:
		e.wantTurn(p)
	case left > 1 && rl.link.Read.Failed == "halve":
		p.pieces = append(p.pieces, 0)
		copy(p.pieces[1:], p.pieces)
		p.pieces[0], p.pieces[1] = (left+1)/2, left/2
		p.tries = 0
		e.pausePiece(n, p, e.jittered(d.policy.Backoff(1), d), Exhausted)
	case final || ended == left || d.policy.Tries > 0 && tries >= d.policy.Tries:
		for range left { // record by record, in order
			e.endInQueue(n, p.hand[0], d, Exhausted)
		}
		e.wantTurn(p)
	default:
		e.pausePiece(n, p, e.jittered(d.policy.Backoff(tries), d), Exhausted)
	}
}

// pauseFeed lets what a paused link is filling run with what it has.
func (e *engine) pauseFeed(n *node) {
	for k := range n.queue.feed.parts {
		p := n.queue.feed.parts[k]
		if p.state == filling {
			e.firstTry(n, p)
		}
	}
}

// resumeFeed goes on where the link was paused.
func (e *engine) resumeFeed(n *node) {
	for k := range n.queue.feed.parts {
		p := n.queue.feed.parts[k]
		if p.state == stopped {
			p.state = idle
		}
		e.wantTurn(p)
	}
}

// history is what a feed has read, as far back as an incident rewinds it.
type history struct {
	span  int64
	until int64 // the last rewind; later nothing need be kept
	parts [][]written
}

type written struct {
	at  int64
	msg message
}

// writeDown keeps a record for a rewind, and forgets those that are too old.
func (e *engine) writeDown(f *feed, place int, m *message) {
	h := f.history
	if e.Now > h.until {
		return
	}
	for len(h.parts) <= place {
		h.parts = append(h.parts, nil)
	}
	log := h.parts[place]
	old := 0
	for old < len(log) && log[old].at < e.Now-h.span {
		e.releaseJourneyOf(&log[old].msg)
		old++
	}
	kept := *m
	e.contents[m.content].refs++
	e.journeys.At(m.journey).refs++
	h.parts[place] = append(log[old:], written{e.Now, kept})
}

// rewind sets a feed's readers back: what they have read of the last `by` is
// read again, before the rest. A batch in hand goes on.
func (e *engine) rewind(n *node, by int64) {
	f := n.queue.feed
	for k := range f.parts {
		if k >= len(f.history.parts) {
			continue
		}
		p := f.parts[k]
		log := f.history.parts[k]
		// The youngest of the log lie unread, or are in hand.
		log = log[:max(len(log)-p.behind, 0)]
		last := uint32(0) // of those put in front
		for _, w := range log {
			if w.at < e.Now-min(by, n.queue.retention) {
				continue
			}
			m := w.msg
			m.tries = 0
			i := e.newCopy(n, int32(f.rl.link.ID), &m, m.content, 0)
			c := e.copies.At(i)
			e.inFlightFor(c).group, c.born = int32(k), w.at
			e.countDepth(n, c)
			c.flags |= unread | again
			e.insertAfter(&p.list, i, last)
			last = i
			e.insertByAge(n, i)
			if e.trace != nil {
				e.trace.comes(e, i, &m)
			}
		}
		e.wantTurn(p)
	}
}
