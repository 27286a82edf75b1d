package sim

// prefetching is what the readers of one link have taken ahead of the runs that will
// handle it [PR-10].
type prefetching struct {
	taken   [][]batchEntry // by reader, in the order taken
	first   []int64        // by reader: when the first of them was taken
	running []uint32       // readers with a run in progress, the one whose run began first in front
	resumed []uint32       // readers whose run has ended and which go on with what they have taken
}

// runs notes that the run of a reader has begun.
func (p *prefetching) runs(r uint32) { p.running = append(p.running, r) }

// remove takes a reader out of a list of readers.
func remove(list []uint32, r uint32) []uint32 {
	for k, x := range list {
		if x == r {
			return append(list[:k], list[k+1:]...)
		}
	}
	return list
}

// prefetch lets the readers with a run in progress take ahead, the one whose run began
// first before the others [PR-13].
func (e *engine) prefetch(n *node, rl *readerLink) {
	for _, r := range rl.ahead.running {
		for len(rl.ahead.taken[r]) < rl.link.Read.Prefetch {
			i := e.take(n, rl, 0)
			if i == 0 {
				return
			}
			e.block(n, i, 0)
			if len(rl.ahead.taken[r]) == 0 {
				rl.ahead.first[r] = e.Now
			}
			rl.ahead.taken[r] = append(rl.ahead.taken[r], batchEntry{copy: i, token: e.copies.At(i).tries})
		}
	}
}

// resumes reports whether a reader whose run has ended goes on with what it has taken
// ahead; its queue's readers then take by an event of their own.
func (e *engine) resumes(n *node, rl *readerLink, id uint32) bool {
	r := id - rl.first
	rl.ahead.running = remove(rl.ahead.running, r)
	if len(rl.ahead.taken[r]) == 0 {
		return false
	}
	rl.ahead.resumed = append(rl.ahead.resumed, r)
	e.wantPull(n)
	return true
}

// resumeReaders starts the batches of the readers that go on with what they have
// taken ahead. What has left the queue, or has been taken again since, is dropped.
func (e *engine) resumeReaders(n *node, rl *readerLink) {
	resumed := rl.ahead.resumed
	rl.ahead.resumed = nil
	for _, r := range resumed {
		taken := rl.ahead.taken[r]
		b := e.newBatch(rl.first+r, n)
		for len(taken) > 0 && len(e.batches[b].entries) < rl.link.Read.UpTo {
			entry := taken[0]
			taken = taken[1:]
			if c := e.copies.At(entry.copy); c.flags&done != 0 || c.tries != entry.token {
				e.letGo(entry.copy)
				continue
			}
			e.batches[b].entries = append(e.batches[b].entries, entry)
			e.block(n, entry.copy, b)
		}
		rl.ahead.taken[r] = append(rl.ahead.taken[r][:0], taken...)
		since := rl.ahead.first[r]
		rl.ahead.first[r] = e.Now
		for len(e.batches[b].entries) < rl.link.Read.UpTo && !rl.delivery.paused {
			i := e.take(n, rl, b)
			if i == 0 {
				break
			}
			e.addToBatch(b, i)
		}
		if len(e.batches[b].entries) == 0 {
			e.dropRecord(b)
			rl.rest(r, n.queue)
			continue
		}
		e.startOrFill(rl, b, since)
	}
}

// release gives back all that the readers of a link have taken for batches that are
// still filling, or ahead of their runs [IN-21], marked with a flag.
func (e *engine) release(n *node, rl *readerLink, mark copyFlags) {
	for len(rl.filling) > 0 {
		b := rl.filling[0]
		rl.filling = rl.filling[1:]
		e.batches[b].filling, e.batches[b].timer = false, 0
		for _, entry := range e.batches[b].entries {
			e.giveBack(n, rl, entry, mark)
		}
		reader := e.batches[b].reader
		e.dropRecord(b)
		rl.rest(reader-rl.first, n.queue)
	}
	if rl.ahead == nil {
		return
	}
	for r := range rl.ahead.taken {
		for _, entry := range rl.ahead.taken[r] {
			e.giveBack(n, rl, entry, mark)
		}
		rl.ahead.taken[r] = rl.ahead.taken[r][:0]
	}
	for _, r := range rl.ahead.resumed {
		rl.rest(r, n.queue)
	}
	rl.ahead.resumed = nil
}

// giveBack releases a message that a reader has taken and no run has handled: its lease
// ends as usual, or at once with `settle: reject`; after a crash its next delivery is then
// a redelivery [IN-17].
func (e *engine) giveBack(n *node, rl *readerLink, entry batchEntry, mark copyFlags) {
	c := e.copies.At(entry.copy)
	if held := c.flags&done == 0 && c.tries == entry.token && c.flags&leased != 0; held && rl.delivery.rejects {
		c.flags |= mark
		e.hide(n.queue, entry.copy)
		e.becomeVisible(entry.copy)
	}
	e.letGo(entry.copy)
}

// dropRecord gives the record of a batch back, without its reader.
func (e *engine) dropRecord(b uint32) {
	e.batches[b].taking, e.batches[b].next = false, e.freeBat
	e.freeBat = b
}
