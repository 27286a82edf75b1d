package engine

import (
	"fmt"
	"math"
)

// groups keeps a queue's messages of one group in order: the queue delivers one
// batch of a group at a time, and a message that is out, or waits for its next try, or
// is still in a late run, holds back those that arrived after it.
type groups struct {
	number map[string]int32
	state  []group // by number, 0 unused
	most   int     // visible messages of one group at a time: no batch takes more
}

// group is the messages of one key. Those that are ready are visible, or held, in
// order of arrival; of the visible ones each is before all that are held.
type group struct {
	blockers []uint32 // out, waiting for their next try, or in a late run
	shown    []uint32 // visible
	held     list
	batch    uint32 // that took of it last, and
	number   uint64 // the number of that batch
}

func newGroups(links []*readerLink) *groups {
	g := &groups{number: map[string]int32{}, state: make([]group, 1), most: math.MaxInt}
	if len(links) == 1 {
		g.most = links[0].link.Read.UpTo
	}
	return g
}

// groupOf gives the number of a message's group.
func (e *Engine) groupOf(n *Node, i uint32) int32 {
	m := e.MessageOf(e.Copies.At(i))
	v, err := e.Graph.Nodes[n.ID].Group.Value(e.EventOfMessage(&m, "message"))
	key := ""
	if err == nil {
		key = fmt.Sprint(v)
	}
	q := n.Queue.groups
	id, ok := q.number[key]
	if !ok {
		id = int32(len(q.state))
		q.number[key] = id
		q.state = append(q.state, group{})
	}
	return id
}

// inGroup returns the group of a message.
func (e *Engine) inGroup(q *queue, c *Copy) *group {
	return &q.groups.state[e.InFlightOf(c).group]
}

// mayTake reports whether a batch (0: a new one) may take a message; one that it may
// not take is held back.
func (e *Engine) mayTake(n *Node, i, batch uint32) bool {
	q := n.Queue
	if q.groups == nil || e.groupLets(e.inGroup(q, e.Copies.At(i)), i, batch) {
		return true
	}
	e.hide(q, i)
	e.holdBack(q, i)
	return false
}

// groupLets reports whether no other message of its group holds a message back. What
// the batch itself holds does not, and a message in a late run may go itself.
func (e *Engine) groupLets(g *group, i, batch uint32) bool {
	c := e.Copies.At(i)
	for _, b := range g.blockers {
		if b == i || batch != 0 && e.Batches[batch].holds(b) {
			continue
		}
		if x := e.Copies.At(b); x.Age < c.Age || x.Flags&Leased != 0 && c.Flags&blocks == 0 {
			return false
		}
	}
	return true
}

func (b *batch) holds(i uint32) bool {
	for k := range b.Entries {
		if b.Entries[k].Copy == i {
			return true
		}
	}
	return false
}

// holdBack puts a message among those of its group that are ready and not visible, in
// order of arrival.
func (e *Engine) holdBack(q *queue, i uint32) {
	c := e.Copies.At(i)
	l := &e.inGroup(q, c).held
	c.Flags |= HeldBack
	after := l.end()
	for after != 0 && e.Copies.At(after).Age > c.Age {
		after = e.Copies.At(after).prev
	}
	e.insertAfter(l, i, after)
}

// readyInGroup makes a message of a group ready: it is visible before all that arrived
// after it, unless another holds it back.
func (e *Engine) readyInGroup(n *Node, i uint32) {
	q := n.Queue
	c := e.Copies.At(i)
	g := e.inGroup(q, c)
	for k := len(g.shown) - 1; k >= 0; k-- {
		if s := g.shown[k]; e.Copies.At(s).Age > c.Age {
			e.hide(q, s)
			e.holdBack(q, s)
		}
	}
	e.holdBack(q, i)
	e.unblock(n, i, false)
	e.showHeld(n, g)
}

// block counts a message that a batch (0: no batch yet) has taken, and lets the batch
// see what it may take after it.
func (e *Engine) block(n *Node, i, batch uint32) {
	q := n.Queue
	if q.groups == nil {
		return
	}
	c := e.Copies.At(i)
	g := e.inGroup(q, c)
	if c.Flags&blocks == 0 {
		c.Flags |= blocks
		g.blockers = append(g.blockers, i)
	}
	if batch != 0 {
		g.batch, g.number = batch, e.Batches[batch].number
		e.showHeld(n, g)
	}
}

// unblock frees a group of a message that is gone, or that is ready again and in no
// run.
func (e *Engine) unblock(n *Node, i uint32, gone bool) {
	q := n.Queue
	if q.groups == nil {
		return
	}
	c := e.Copies.At(i)
	g := e.inGroup(q, c)
	if h := e.InFlightOf(c); c.Flags&blocks != 0 && (gone || c.Flags&Leased == 0 && h.Timer == 0 && h.Busy == 0) {
		c.Flags &^= blocks
		g.blockers = remove(g.blockers, i)
		e.showHeld(n, g)
	} else if gone {
		e.showHeld(n, g)
	}
}

// showHeld makes visible what nothing holds back, in order of arrival.
func (e *Engine) showHeld(n *Node, g *group) {
	batch := uint32(0)
	if b := &e.Batches[g.batch]; g.batch != 0 && b.number == g.number && b.taking {
		batch = g.batch
	}
	for len(g.shown) < n.Queue.groups.most {
		i := g.held.Head
		if i == 0 || !e.groupLets(g, i, batch) {
			return
		}
		e.hide(n.Queue, i)
		e.show(n, i)
	}
}
