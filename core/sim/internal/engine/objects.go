package engine

import (
	"slices"
	"strings"

	"ironweir/core/model"
	"ironweir/core/sim/internal/random"
)

// objects are what lies in a bucket or table, by key. They are kept where
// something depends on them: deletions, the life of objects, inserts told from
// updates, the price of storage.
type objects struct {
	ByKey    map[string]Object
	life     int64    // 0: for ever
	ends     []ending // of lives, in order
	endsHead int
	armed    bool
}

type Object struct {
	size  int64
	since int64
	last  uint64 // the write that made it what it is
	from  Message
}

// ending is when an object that a write left behind is deleted by itself.
type ending struct {
	at    int64
	key   string
	write uint64
}

func (e *Engine) setUpObjects(n *Node) error {
	gn := &e.Graph.Nodes[n.ID]
	needed := gn.ObjectLife > 0 || e.Storage || gn.Kind == model.Table && len(gn.Out) > 0
	for _, id := range gn.In {
		needed = needed || e.Graph.Links[id].Op == "delete"
	}
	if needed {
		n.Objects = &objects{ByKey: map[string]Object{}, life: int64(gn.ObjectLife)}
	}
	if gn.Kind == model.Table && len(gn.Out) > 0 {
		return e.setUpStream(n)
	}
	return nil
}

// change applies a write or deletion to what lies in a node, and reports whether
// it is one: deleting what is not there is none. A row without a key is a row
// of its own.
func (e *Engine) change(n *Node, i uint32) bool {
	c := e.Copies.At(i)
	con := &e.Contents[c.Content]
	key := con.key()
	o := n.Objects
	before, there := o.ByKey[key]
	there = there && key != ""
	if there {
		e.stopStoring(n, &before)
	}
	if c.Flags&Deletion != 0 {
		if there {
			delete(o.ByKey, key)
		}
		return there
	}
	if there {
		c.Flags |= update
	}
	key = strings.Clone(key) // the key itself lies in memory that is used again
	now := Object{size: con.Size, since: e.Now, last: e.Sequence()}
	if o.life > 0 {
		now.from = e.MessageOf(c)
		e.Contents[c.Content].Refs++
		e.Journeys.At(c.Journey).Refs++
		o.ends = append(o.ends, ending{e.Now + o.life, key, now.last})
		e.armLife(n)
	}
	o.ByKey[key] = now
	return true
}

// stopStoring ends the time that an object has lain there.
func (e *Engine) stopStoring(n *Node, o *Object) {
	n.ByteSeconds += float64(o.size) * float64(e.Now-o.since) * 1e-9
	if n.Objects.life > 0 {
		e.releaseJourneyOf(&o.from)
	}
}

func (e *Engine) armLife(n *Node) {
	o := n.Objects
	if !o.armed && o.endsHead < len(o.ends) {
		o.armed = true
		e.Schedule(o.ends[o.endsHead].at, EvLife, uint32(n.ID))
	}
}

// livesEnd deletes the objects whose life is over, each by an event of its own.
func (e *Engine) livesEnd(n *Node) {
	o := n.Objects
	o.armed = false
	for o.endsHead < len(o.ends) && o.ends[o.endsHead].at <= e.Now {
		end := o.ends[o.endsHead]
		o.endsHead++
		object, there := o.ByKey[end.key]
		if !there || object.last != end.write {
			continue // written again, or deleted, since
		}
		m := object.from
		m.Tries, m.Node = 0, int32(n.ID)
		i := e.NewCopy(n, n.OwnWay, &m, m.Content, Deletion)
		if e.Trace != nil {
			e.Trace.Comes(i, m)
		}
		e.stand(n, i)
	}
	if o.endsHead > 1024 && 2*o.endsHead > len(o.ends) {
		o.ends, o.endsHead = append(o.ends[:0], o.ends[o.endsHead:]...), 0
	}
	e.armLife(n)
}

func (e *Engine) standInBucket(n *Node, i uint32) {
	if n.Objects != nil && e.Copies.At(i).Flags&Duplicate == 0 && !e.change(n, i) {
		// Deleting what is not there makes no event.
		e.Finish(i, Handled)
		return
	}
	if n.stream != nil {
		e.choosePartition(n, i)
	}
	if n.notice.Zero() {
		e.ScheduleNow(EvFan, i)
		return
	}
	e.Schedule(e.Now+random.Nanos(n.notice.Draw(n.serviceRNG)), EvFan, i)
}

// EndStorage counts what still lies there at the end of the run.
func (e *Engine) EndStorage() {
	for i := range e.Nodes {
		n := &e.Nodes[i]
		if n.Objects == nil {
			continue
		}
		var left []float64 // summed in order: a map has none, and sums of floats depend on theirs
		for _, o := range n.Objects.ByKey {
			left = append(left, float64(o.size)*float64(e.Now-o.since)*1e-9)
		}
		slices.Sort(left)
		for _, x := range left {
			n.ByteSeconds += x
		}
	}
}
