package engine

import "ironweir/core/model"

// feed is one link that reads a stream or a table's changes: for each partition
// one batch at a time, in order. Its copies are accounted for by the link.
type feed struct {
	rl      *readerLink
	parts   []*partition // which stay where they are as others are added
	History *History     // where an incident rewinds it
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

func (e *Engine) setUpFeed(home, n *Node, link int) {
	l := &e.Graph.Links[link]
	n.Home = home
	f := &feed{rl: &readerLink{link: l, Delivery: &e.Deliveries[link]}}
	n.Queue = &queue{retention: int64(e.Graph.Nodes[home.ID].Retention), Feed: f, Links: []*readerLink{f.rl}}
	for range home.stream.partitions {
		e.addPartition(n)
	}
}

func (e *Engine) addPartition(n *Node) {
	f := n.Queue.Feed
	f.parts = append(f.parts, &partition{reader: uint32(len(e.Readers))})
	e.Readers = append(e.Readers, reader{link: f.rl, Queue: int32(n.ID), partition: int32(len(f.parts) - 1)})
}

// intoFeed makes the copy of a record that a link reads.
func (e *Engine) intoFeed(n *Node, via int32, m *Message, record uint32) {
	place, flags := e.InFlightOf(e.Copies.At(record)).group, e.Copies.At(record).Flags&(Duplicate|Deletion|update)
	i := e.NewCopy(n, via, m, m.Content, flags)
	c := e.Copies.At(i)
	e.inFlightFor(c).group = place
	if e.Trace != nil {
		e.Trace.Comes(i, *m)
	}
	f := n.Queue.Feed
	p := f.parts[place]
	if flags&Duplicate == 0 {
		p.behind++
		if f.History != nil {
			e.writeDown(f, int(place), m)
		}
	}
	e.countDepth(n, c)
	c.Flags |= unread
	e.putLast(&p.list, e.Copies.At(i), i)
	e.insertByAge(n, i)
	e.wantTurn(p)
}

// wantTurn lets a partition be looked at behind what is scheduled for this
// instant.
func (e *Engine) wantTurn(p *partition) {
	if !p.pulling {
		p.pulling = true
		e.ScheduleNow(EvFeed, p.reader)
	}
}

// turn comes when something has changed for a partition (seq 0), or when what
// it waited for is over.
func (e *Engine) turn(reader uint32, seq uint64) {
	r := &e.Readers[reader]
	n := &e.Nodes[r.Queue]
	p := n.Queue.Feed.parts[r.partition]
	if seq != 0 {
		if seq != p.timer {
			return
		}
		p.timer = 0
		switch {
		case p.state == filling:
			e.firstTry(n, p)
		case n.Queue.Links[0].Delivery.Paused:
			p.state = stopped
		default:
			e.tryPiece(n, p)
		}
		return
	}
	p.pulling = false
	switch {
	case p.state == idle && len(p.hand) > 0 && n.Queue.Feed.rl.Delivery.Paused:
		p.state = stopped
	case p.state == idle && len(p.hand) > 0:
		e.tryPiece(n, p)
	case p.state == idle || p.state == filling:
		e.fill(n, p)
	}
}

// fill takes records up to a batch, and tries it when it is full or need not
// wait.
func (e *Engine) fill(n *Node, p *partition) {
	rl := n.Queue.Feed.rl
	if rl.Delivery.Paused && p.state == idle {
		return
	}
	for len(p.hand) < rl.link.Read.UpTo && p.Head != 0 {
		i := p.Head
		e.hide(n.Queue, i)
		p.hand = append(p.hand, i)
		e.inFlightFor(e.Copies.At(i)).Held++
	}
	switch {
	case len(p.hand) == 0:
		p.state, p.timer = idle, 0
	case len(p.hand) == rl.link.Read.UpTo || rl.link.Read.Within == 0:
		e.firstTry(n, p)
	case p.state == idle:
		p.state = filling
		p.timer = e.Schedule(e.Now+int64(rl.link.Read.Within), EvFeed, p.reader)
	}
}

func (e *Engine) firstTry(n *Node, p *partition) {
	p.tries, p.timer = 0, 0
	p.pieces = append(p.pieces[:0], len(p.hand))
	e.tryPiece(n, p)
}

// tryPiece hands the next piece of what was taken to what the link leads to.
func (e *Engine) tryPiece(n *Node, p *partition) {
	rl := n.Queue.Feed.rl
	p.state = idle
	e.dropSpent(n, p, e.Now)
	if len(p.hand) == 0 {
		e.wantTurn(p)
		return
	}
	target := &e.Nodes[rl.link.To]
	if rl.link.Relation == model.PolledRun && !e.free(target) {
		target.Throttled++
		p.pause = longerPause(p.pause)
		e.pausePiece(n, p, p.pause, Throttled)
		return
	}
	p.pause = 0
	p.tries++
	b := e.newBatch(p.reader, n)
	for _, i := range p.hand[:p.pieces[0]] {
		c := e.Copies.At(i)
		c.Tries = uint16(min(p.tries, 1<<16-1))
		e.inFlightFor(c).Held++
		if c.Flags&begun == 0 {
			c.Flags |= begun
			if e.Now >= e.Warm && c.Flags&Duplicate == 0 {
				n.Wait.Add(e.Now - c.Born)
			}
		}
		e.addToBatch(b, i)
	}
	p.state = underWay
	e.busyBatch(&e.Batches[b])
	e.launch(b)
}

// pausePiece lets a batch wait for its next try.
func (e *Engine) pausePiece(n *Node, p *partition, wait int64, cause Fate) {
	e.dropSpent(n, p, e.Now+wait)
	if len(p.hand) == 0 {
		p.state = idle
		e.wantTurn(p)
		return
	}
	if e.Trace != nil {
		e.Trace.Waits(p.hand[0], wait, cause, 0)
	}
	p.state = pausing
	p.timer = e.Schedule(e.Now+wait, EvFeed, p.reader)
}

// dropSpent gives up the records in hand that a try at an instant would be too
// late for, and all of them where the link may not use its target.
func (e *Engine) dropSpent(n *Node, p *partition, at int64) {
	d := n.Queue.Feed.rl.Delivery
	rl := n.Queue.Feed.rl
	if !d.refused && d.policy.GiveUp == 0 && !e.limitsHops(rl.link) {
		return
	}
	for k := 0; k < len(p.hand); {
		i := p.hand[k]
		switch {
		case d.refused:
			e.endInQueue(n, i, d, Refused)
		case e.overHops(rl, e.Copies.At(i)):
			e.endInQueue(n, i, d, HopLimit)
		case d.policy.GiveUp > 0 && at-e.Copies.At(i).Born > d.policy.GiveUp:
			e.endInQueue(n, i, d, GivenUp)
		default:
			k++
		}
	}
}

// leaveFeed takes a record that is finished with out of what its reader has in
// hand.
func (e *Engine) leaveFeed(f *feed, i uint32) {
	c := e.Copies.At(i)
	p := f.parts[e.InFlightOf(c).group]
	if c.Flags&(Duplicate|again) == 0 {
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
		e.inFlightFor(c).Held--
		if len(p.hand) == 0 && p.state != underWay && p.state != idle {
			p.state, p.timer = idle, 0 // nothing to wait for any more
			e.wantTurn(p)
		}
		return
	}
}

// settleFeed deals with a batch of a feed whose run is over: what succeeded is
// finished, and the rest is tried again, halved, or given up.
func (e *Engine) settleFeed(b uint32, failure int16, final bool) {
	bt := &e.Batches[b]
	n := &e.Nodes[bt.Node]
	r := &e.Readers[bt.reader]
	rl := r.link
	d := rl.Delivery
	p := n.Queue.Feed.parts[r.partition]
	tries := p.tries
	whole := rl.link.Read.Failed != "each" && rl.link.Relation == model.PolledRun && bt.anyFailed()
	final = final && failure != NoError
	left, ended := 0, 0 // that failed, and those of them that are not tried again
	for k := 0; k < len(e.Batches[b].Entries); k++ {
		entry := e.Batches[b].Entries[k]
		c := e.Copies.At(entry.Copy)
		why := failure
		if why == NoError {
			why = entry.Failure
		}
		switch {
		case c.Flags&Done != 0:
			continue
		case why == NoError && !whole:
			e.HandledBy = rl.link.To
			e.LeaveQueue(n, entry.Copy, Handled)
			continue
		case c.Flags&Duplicate != 0:
			e.LeaveQueue(n, entry.Copy, noFate)
			continue
		case c.Flags&expiring != 0:
			e.LeaveQueue(n, entry.Copy, Expired)
			continue
		}
		final = final || d.isExcept(why)
		if failure == NoError && entry.Final {
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

// PauseFeed lets what a paused link is filling run with what it has.
func (e *Engine) PauseFeed(n *Node) {
	for k := range n.Queue.Feed.parts {
		p := n.Queue.Feed.parts[k]
		if p.state == filling {
			e.firstTry(n, p)
		}
	}
}

// ResumeFeed goes on where the link was paused.
func (e *Engine) ResumeFeed(n *Node) {
	for k := range n.Queue.Feed.parts {
		p := n.Queue.Feed.parts[k]
		if p.state == stopped {
			p.state = idle
		}
		e.wantTurn(p)
	}
}

// History is what a feed has read, as far back as an incident rewinds it.
type History struct {
	Span  int64
	Until int64 // the last rewind; later nothing need be kept
	parts [][]written
}

type written struct {
	at  int64
	msg Message
}

// writeDown keeps a record for a rewind, and forgets those that are too old.
func (e *Engine) writeDown(f *feed, place int, m *Message) {
	h := f.History
	if e.Now > h.Until {
		return
	}
	for len(h.parts) <= place {
		h.parts = append(h.parts, nil)
	}
	log := h.parts[place]
	old := 0
	for old < len(log) && log[old].at < e.Now-h.Span {
		e.releaseJourneyOf(&log[old].msg)
		old++
	}
	kept := *m
	e.Contents[m.Content].Refs++
	e.Journeys.At(m.Journey).Refs++
	h.parts[place] = append(log[old:], written{e.Now, kept})
}

// Rewind sets a feed's readers back: what they have read of the last `by` is
// read again, before the rest. A batch in hand goes on.
func (e *Engine) Rewind(n *Node, by int64) {
	f := n.Queue.Feed
	for k := range f.parts {
		if k >= len(f.History.parts) {
			continue
		}
		p := f.parts[k]
		log := f.History.parts[k]
		// The youngest of the log lie unread, or are in hand.
		log = log[:max(len(log)-p.behind, 0)]
		last := uint32(0) // of those put in front
		for _, w := range log {
			if w.at < e.Now-min(by, n.Queue.retention) {
				continue
			}
			m := w.msg
			m.Tries = 0
			i := e.NewCopy(n, int32(f.rl.link.ID), &m, m.Content, 0)
			c := e.Copies.At(i)
			e.inFlightFor(c).group, c.Born = int32(k), w.at
			e.countDepth(n, c)
			c.Flags |= unread | again
			e.insertAfter(&p.list, i, last)
			last = i
			e.insertByAge(n, i)
			if e.Trace != nil {
				e.Trace.Comes(i, m)
			}
		}
		e.wantTurn(p)
	}
}
