package sim

// inFlight is what is known of a copy only while somebody handles it or it is put
// off, or where its place is more than that in a list. That of index 0 is empty. Those
// behind it are the readers', each of which, where it reads a queue, lends its own to
// all that it has just taken, as long as nothing else is known of it.
type inFlight struct {
	timer    uint64 // sequence of the timer that counts for it
	due      int64  // end of its lease; while visible to several links, its place in the order
	group    int32  // of its queue; the partition that it goes to; of a reader, which of its link
	next     uint32 // of those that are free
	held     uint16 // batches that name it
	busy     uint16 // runs that work on it
	waits    uint16 // throttles since the last run
	lastFail int16
}

// shared reports whether a handling is a reader's, or the empty one.
func (e *engine) shared(i uint32) bool { return int(i) <= len(e.readers) }

// inFlightOf gives the handling of a copy, to be read.
func (e *engine) inFlightOf(c *copyRecord) *inFlight { return e.inFlights.At(c.inFlight) }

// inFlightFor gives the handling of a copy, to be written: its own.
func (e *engine) inFlightFor(c *copyRecord) *inFlight {
	if e.shared(c.inFlight) {
		i := e.newInFlight()
		*e.inFlights.At(i) = *e.inFlights.At(c.inFlight)
		c.inFlight = i
	}
	return e.inFlights.At(c.inFlight)
}

func (e *engine) newInFlight() uint32 {
	i := e.freeHand
	if i == 0 {
		return e.inFlights.Add()
	}
	e.freeHand = e.inFlights.At(i).next
	return i
}

// dropInFlight forgets what was known of a copy while it was handled.
func (e *engine) dropInFlight(c *copyRecord) {
	if !e.shared(c.inFlight) {
		e.inFlights.At(c.inFlight).next = e.freeHand
		e.freeHand = c.inFlight
	}
	c.inFlight = 0
}

// waitsNoMore lets a copy wait for no timer.
func (e *engine) waitsNoMore(c *copyRecord) {
	if c.inFlight != 0 {
		e.inFlightFor(c).timer = 0
	}
}

// awaits reports whether a copy still waits for a timer.
func (e *engine) awaits(i uint32, timer uint64) bool {
	c := e.copies.At(i)
	return e.inFlightOf(c).timer == timer && c.flags&done == 0
}
