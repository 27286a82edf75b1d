package sim

import "fmt"

// groups keeps a queue's messages of one group in order: one batch of a group
// at a time, and a failing message holds back its group.
type groups struct {
	number map[string]int32
	state  []group // by number, 0 unused
}

// group is the messages of one key. Messages of it that are handed out, or wait
// for another try, block the others, which are held back in order of age.
type group struct {
	blockers int32
	batch    uint64 // the number of the one that may take more of it while it fills
	held     list
}

// groupOf gives the number of a message's group.
func (e *engine) groupOf(n *node, i uint32) int32 {
	m := e.messageOf(e.copies.at(i))
	v, err := e.g.Nodes[n.id].Group.Value(e.look(&m, "message"))
	key := ""
	if err == nil {
		key = fmt.Sprint(v)
	}
	q := n.queue.groups
	id, ok := q.number[key]
	if !ok {
		id = int32(len(q.state))
		q.number[key] = id
		q.state = append(q.state, group{})
	}
	return id
}

// mayTake tells whether a batch (0: a new one) may take a message; one that may
// not is held back.
func (e *engine) mayTake(n *node, i, batch uint32) bool {
	q := n.queue
	if q.groups == nil {
		return true
	}
	g := &q.groups.state[e.handOf(e.copies.at(i)).group]
	if g.blockers == 0 || batch != 0 && g.batch == e.batches[batch].number {
		return true
	}
	e.hide(q, i)
	e.holdBack(q, i)
	return false
}

// holdBack puts a message among those that its group blocks, by age.
func (e *engine) holdBack(q *queue, i uint32) {
	c := e.copies.at(i)
	l := &q.groups.state[e.handOf(c).group].held
	c.flags |= heldBack
	after := l.tail
	for after != 0 && e.copies.at(after).age > c.age {
		after = e.copies.at(after).prev
	}
	e.insertAfter(l, i, after)
}

// block counts a message that is handed out.
func (e *engine) block(q *queue, i, batch uint32) {
	if q.groups == nil {
		return
	}
	c := e.copies.at(i)
	g := &q.groups.state[e.handOf(c).group]
	if c.flags&blocks == 0 {
		c.flags |= blocks
		g.blockers++
	}
	g.batch = e.batches[batch].number
}

// unblock counts a message that is visible again, or gone; when nothing blocks
// its group any more the others are visible.
func (e *engine) unblock(n *node, i uint32) {
	q := n.queue
	c := e.copies.at(i)
	if q.groups == nil || c.flags&blocks == 0 {
		return
	}
	c.flags &^= blocks
	g := &q.groups.state[e.handOf(c).group]
	if g.blockers--; g.blockers > 0 {
		return
	}
	g.batch = 0
	e.showHeld(n, e.handOf(c).group)
}

// showHeld makes what a group held back visible, oldest first.
func (e *engine) showHeld(n *node, number int32) {
	for {
		i := n.queue.groups.state[number].held.head
		if i == 0 {
			return
		}
		e.hide(n.queue, i)
		e.show(n, i)
	}
}
