package engine

// inFlight is what is known of a copy only while a consumer handles it or it is put
// off, or where its place is more than that in a list. That of index 0 is empty. Those
// behind it are the readers', each of which, where it reads a queue, lends its own to
// all that it has just taken, as long as nothing else is known of it.
type inFlight struct {
	Timer    uint64 // sequence of the timer that counts for it
	due      int64  // end of its lease; while visible to several links, its place in the order
	group    int32  // of its queue; the partition that it goes to; of a reader, which of its link
	next     uint32 // of those that are free
	Held     uint16 // batches that name it
	Busy     uint16 // runs that work on it
	waits    uint16 // throttles since the last run
	lastFail int16
}

// shared reports whether a handling is a reader's, or the empty one.
func (e *Engine) shared(i uint32) bool { return int(i) <= len(e.Readers) }

// InFlightOf gives the handling of a copy, to be read.
func (e *Engine) InFlightOf(c *Copy) *inFlight { return e.InFlights.At(c.inFlight) }

// inFlightFor gives the handling of a copy, to be written: its own.
func (e *Engine) inFlightFor(c *Copy) *inFlight {
	if e.shared(c.inFlight) {
		i := e.newInFlight()
		*e.InFlights.At(i) = *e.InFlights.At(c.inFlight)
		c.inFlight = i
	}
	return e.InFlights.At(c.inFlight)
}

func (e *Engine) newInFlight() uint32 {
	i := e.freeHand
	if i == 0 {
		return e.InFlights.Add()
	}
	e.freeHand = e.InFlights.At(i).next
	return i
}

// dropInFlight forgets what was known of a copy while it was handled.
func (e *Engine) dropInFlight(c *Copy) {
	if !e.shared(c.inFlight) {
		e.InFlights.At(c.inFlight).next = e.freeHand
		e.freeHand = c.inFlight
	}
	c.inFlight = 0
}

// WaitsNoMore lets a copy wait for no timer.
func (e *Engine) WaitsNoMore(c *Copy) {
	if c.inFlight != 0 {
		e.inFlightFor(c).Timer = 0
	}
}

// awaits reports whether a copy still waits for a timer.
func (e *Engine) awaits(i uint32, timer uint64) bool {
	c := e.Copies.At(i)
	return e.InFlightOf(c).Timer == timer && c.Flags&Done == 0
}
