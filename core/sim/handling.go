package sim

// handling is what is known of a copy only while somebody handles it or it is put
// off, or where its place is more than that in a list. That of index 0 is empty. Those
// behind it are the readers', each of which, where it reads a queue, lends its own to
// all that it has just taken, as long as nothing else is known of it.
type handling struct {
	timer    uint64 // sequence of the timer that counts for it
	due      int64  // end of its lease; while visible to several links, its place in the order
	group    int32  // of its queue; the partition that it goes to; of a reader, which of its link
	next     uint32 // of those that are free
	held     uint16 // batches that name it
	busy     uint16 // runs that work on it
	waits    uint16 // throttles since the last run
	lastFail int16
}

// lent tells whether a handling is a reader's, or the empty one.
func (e *engine) lent(i uint32) bool { return int(i) <= len(e.readers) }

// handOf gives the handling of a copy, to be read.
func (e *engine) handOf(c *copyRecord) *handling { return e.handlings.at(c.handling) }

// hand gives the handling of a copy, to be written: its own.
func (e *engine) hand(c *copyRecord) *handling {
	if e.lent(c.handling) {
		i := e.newHandling()
		*e.handlings.at(i) = *e.handlings.at(c.handling)
		c.handling = i
	}
	return e.handlings.at(c.handling)
}

func (e *engine) newHandling() uint32 {
	i := e.freeHand
	if i == 0 {
		return e.handlings.add()
	}
	e.freeHand = e.handlings.at(i).next
	return i
}

// dropHandling forgets what was known of a copy while it was handled.
func (e *engine) dropHandling(c *copyRecord) {
	if !e.lent(c.handling) {
		e.handlings.at(c.handling).next = e.freeHand
		e.freeHand = c.handling
	}
	c.handling = 0
}

// waitsNoMore lets a copy wait for no timer.
func (e *engine) waitsNoMore(c *copyRecord) {
	if c.handling != 0 {
		e.hand(c).timer = 0
	}
}

// awaits tells whether a copy still waits for a timer.
func (e *engine) awaits(i uint32, timer uint64) bool {
	c := e.copies.at(i)
	return e.handOf(c).timer == timer && c.flags&done == 0
}
