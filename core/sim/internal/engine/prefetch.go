package engine

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
func (e *Engine) prefetch(n *Node, rl *readerLink) {
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
			rl.ahead.taken[r] = append(rl.ahead.taken[r], batchEntry{Copy: i, Token: e.Copies.At(i).Tries})
		}
	}
}

// resumes reports whether a reader whose run has ended goes on with what it has taken
// ahead; its queue's readers then take by an event of their own.
func (e *Engine) resumes(n *Node, rl *readerLink, id uint32) bool {
	r := id - rl.first
	rl.ahead.running = remove(rl.ahead.running, r)
	if len(rl.ahead.taken[r]) == 0 {
		return false
	}
	rl.ahead.resumed = append(rl.ahead.resumed, r)
	e.WantPull(n)
	return true
}

// resumeReaders starts the batches of the readers that go on with what they have
// taken ahead. What has left the queue, or has been taken again since, is dropped.
func (e *Engine) resumeReaders(n *Node, rl *readerLink) {
	resumed := rl.ahead.resumed
	rl.ahead.resumed = nil
	for _, r := range resumed {
		taken := rl.ahead.taken[r]
		b := e.newBatch(rl.first+r, n)
		for len(taken) > 0 && len(e.Batches[b].Entries) < rl.link.Read.UpTo {
			entry := taken[0]
			taken = taken[1:]
			if c := e.Copies.At(entry.Copy); c.Flags&Done != 0 || c.Tries != entry.Token {
				e.letGo(entry.Copy)
				continue
			}
			e.Batches[b].Entries = append(e.Batches[b].Entries, entry)
			e.block(n, entry.Copy, b)
		}
		rl.ahead.taken[r] = append(rl.ahead.taken[r][:0], taken...)
		since := rl.ahead.first[r]
		rl.ahead.first[r] = e.Now
		for len(e.Batches[b].Entries) < rl.link.Read.UpTo && !rl.Delivery.Paused {
			i := e.take(n, rl, b)
			if i == 0 {
				break
			}
			e.addToBatch(b, i)
		}
		if len(e.Batches[b].Entries) == 0 {
			e.dropRecord(b)
			rl.rest(r, n.Queue)
			continue
		}
		e.startOrFill(rl, b, since)
	}
}

// release gives back all that the readers of a link have taken for batches that are
// still filling, or ahead of their runs [IN-21], marked with a flag.
func (e *Engine) release(n *Node, rl *readerLink, mark Flags) {
	for len(rl.Filling) > 0 {
		b := rl.Filling[0]
		rl.Filling = rl.Filling[1:]
		e.Batches[b].filling, e.Batches[b].timer = false, 0
		for _, entry := range e.Batches[b].Entries {
			e.giveBack(n, rl, entry, mark)
		}
		reader := e.Batches[b].reader
		e.dropRecord(b)
		rl.rest(reader-rl.first, n.Queue)
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
		rl.rest(r, n.Queue)
	}
	rl.ahead.resumed = nil
}

// giveBack releases a message that a reader has taken and no run has handled: its lease
// ends as usual, or at once with `settle: reject`; after a crash its next delivery is then
// a redelivery [IN-17].
func (e *Engine) giveBack(n *Node, rl *readerLink, entry batchEntry, mark Flags) {
	c := e.Copies.At(entry.Copy)
	if held := c.Flags&Done == 0 && c.Tries == entry.Token && c.Flags&Leased != 0; held && rl.Delivery.rejects {
		c.Flags |= mark
		e.hide(n.Queue, entry.Copy)
		e.becomeVisible(entry.Copy)
	}
	e.letGo(entry.Copy)
}

// dropRecord gives the record of a batch back, without its reader.
func (e *Engine) dropRecord(b uint32) {
	e.Batches[b].taking, e.Batches[b].next = false, e.freeBat
	e.freeBat = b
}
