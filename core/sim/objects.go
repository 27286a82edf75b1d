package sim

import (
	"slices"
	"strings"

	"ironweir/core/sim/internal/random"

	"ironweir/core/model"
)

// objects are what lies in a bucket or table, by key. They are kept where
// something depends on them: deletions, the life of objects, inserts told from
// updates, the price of storage.
type objects struct {
	byKey    map[string]object
	life     int64    // 0: for ever
	ends     []ending // of lives, in order
	endsHead int
	armed    bool
}

type object struct {
	size  int64
	since int64
	last  uint64 // the write that made it what it is
	from  message
}

// ending is when an object that a write left behind is deleted by itself.
type ending struct {
	at    int64
	key   string
	write uint64
}

func (e *engine) setUpObjects(n *node) error {
	gn := &e.g.Nodes[n.id]
	needed := gn.ObjectLife > 0 || e.storage || gn.Kind == model.Table && len(gn.Out) > 0
	for _, id := range gn.In {
		needed = needed || e.g.Links[id].Op == "delete"
	}
	if needed {
		n.objects = &objects{byKey: map[string]object{}, life: int64(gn.ObjectLife)}
	}
	if gn.Kind == model.Table && len(gn.Out) > 0 {
		return e.setUpStream(n)
	}
	return nil
}

// change applies a write or deletion to what lies in a node, and reports whether
// it is one: deleting what is not there is none. A row without a key is a row
// of its own.
func (e *engine) change(n *node, i uint32) bool {
	c := e.copies.At(i)
	con := &e.contents[c.content]
	key := con.key()
	o := n.objects
	before, there := o.byKey[key]
	there = there && key != ""
	if there {
		e.stopStoring(n, &before)
	}
	if c.flags&deletion != 0 {
		if there {
			delete(o.byKey, key)
		}
		return there
	}
	if there {
		c.flags |= update
	}
	key = strings.Clone(key) // the key itself lies in memory that is used again
	now := object{size: con.size, since: e.Now, last: e.Sequence()}
	if o.life > 0 {
		now.from = e.messageOf(c)
		e.contents[c.content].refs++
		e.journeys.At(c.journey).refs++
		o.ends = append(o.ends, ending{e.Now + o.life, key, now.last})
		e.armLife(n)
	}
	o.byKey[key] = now
	return true
}

// stopStoring ends the time that an object has lain there.
func (e *engine) stopStoring(n *node, o *object) {
	n.byteSeconds += float64(o.size) * float64(e.Now-o.since) * 1e-9
	if n.objects.life > 0 {
		e.releaseJourneyOf(&o.from)
	}
}

func (e *engine) armLife(n *node) {
	o := n.objects
	if !o.armed && o.endsHead < len(o.ends) {
		o.armed = true
		e.Schedule(o.ends[o.endsHead].at, evLife, uint32(n.id))
	}
}

// livesEnd deletes the objects whose life is over, each by an event of its own.
func (e *engine) livesEnd(n *node) {
	o := n.objects
	o.armed = false
	for o.endsHead < len(o.ends) && o.ends[o.endsHead].at <= e.Now {
		end := o.ends[o.endsHead]
		o.endsHead++
		object, there := o.byKey[end.key]
		if !there || object.last != end.write {
			continue // written again, or deleted, since
		}
		m := object.from
		m.tries, m.node = 0, int32(n.id)
		i := e.newCopy(n, n.ownWay, &m, m.content, deletion)
		if e.trace != nil {
			e.trace.comes(e, i, &m)
		}
		e.stand(n, i)
	}
	if o.endsHead > 1024 && 2*o.endsHead > len(o.ends) {
		o.ends, o.endsHead = append(o.ends[:0], o.ends[o.endsHead:]...), 0
	}
	e.armLife(n)
}

func (e *engine) standInBucket(n *node, i uint32) {
	if n.objects != nil && e.copies.At(i).flags&duplicate == 0 && !e.change(n, i) {
		// Deleting what is not there makes no event.
		e.finish(i, Handled)
		return
	}
	if n.stream != nil {
		e.choosePartition(n, i)
	}
	if n.notice.Zero() {
		e.ScheduleNow(evFan, i)
		return
	}
	e.Schedule(e.Now+random.Nanos(n.notice.Draw(n.serviceRNG)), evFan, i)
}

// endStorage counts what still lies there at the end of the run.
func (e *engine) endStorage() {
	for i := range e.nodes {
		n := &e.nodes[i]
		if n.objects == nil {
			continue
		}
		var left []float64 // summed in order: a map has none, and sums of floats depend on theirs
		for _, o := range n.objects.byKey {
			left = append(left, float64(o.size)*float64(e.Now-o.since)*1e-9)
		}
		slices.Sort(left)
		for _, x := range left {
			n.byteSeconds += x
		}
	}
}
