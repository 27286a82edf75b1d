package sim

import (
	"unsafe"

	"ironweir/core/sim/internal/stats"

	"ironweir/core/sim/internal/arena"

	"ironweir/core/sim/internal/random"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Fate is what becomes of a copy.
type Fate uint8

const (
	Handled Fate = iota
	Stored
	Arrived
	Passed
	Ignored
	Unmatched
	Returned
	Parked
	Expired // the first cause of loss
	Exhausted
	GivenUp
	Refused
	Throttled
	Overflow
	TooLarge
	Rejected
	Unsubscribed
	HopLimit
	fates
	noFate = fates
)

var fateNames = [fates]string{"handled", "stored", "arrived", "passed", "ignored", "unmatched", "returned", "parked",
	"expired", "exhausted", "given_up", "refused", "throttled", "overflow", "too_large", "rejected", "unsubscribed",
	"hop_limit"}

func (f Fate) String() string { return fateNames[f] }

// Loss reports whether the fate is a cause of loss.
func (f Fate) Loss() bool { return f >= Expired && f < fates }

// Fates lists all fates; the causes of loss come last.
func Fates() []Fate {
	out := make([]Fate, fates)
	for i := range out {
		out[i] = Fate(i)
	}
	return out
}

type copyFlags uint32

const (
	done           copyFlags = 1 << iota
	atRest                   // it lies where nothing leaves, with a fate that may still change
	deadLettered             // a dead-letter or failure link lies behind it
	visible                  // in a queue, ready to be taken
	leased                   // handed out, its lease running
	countedInDepth           // counted in its node's depth
	writing                  // a write of it is under way
	expiring                 // its retention ended while a run works on it
	begun                    // its first run has started
	deletion                 // the event of a deletion
	update                   // the event of a row that was there before
	unread                   // in a partition, not yet taken by its reader
	again                    // read before, and set back by an incident
	duplicate                // a second delivery of a copy: it is run and sends, and has no fate
	heldBack                 // its group is blocked by another message
	blocks                   // it holds back its group: out, waiting for its next try, or in a late run
	crashed                  // a crash gave it back, so that its next delivery is a redelivery
)

// copyRecord is one message held for one consumer. Index 0 stands for none.
type copyRecord struct {
	born     int64  // when it came in at its node
	age      uint64 // sequence of its coming in: its name, and its place among the old
	journey  uint32
	content  uint32
	next     uint32 // in the visible or the leased list
	prev     uint32
	older    uint32 // in the list by age
	younger  uint32
	via      int32 // delivery
	node     int32
	inFlight uint32 // what is known of it while somebody handles it; 0: nobody does
	flags    copyFlags
	tries    uint16
	hops     uint16
	passes   uint16
	class    uint8 // of links that match, in a queue
}

// journey is an origin message with all that descends from it.
type journey struct {
	name   uint64 // number << 24 | entry; of a free record, the next one
	born   int64
	refs   int32 // copies and runs that name it
	open   int32 // copies under way
	copies int32
	hops   uint16
	failed bool // some copy ended badly
}

func (j *journey) id() uint64   { return j.name >> arena.IndexBits }
func (j *journey) entry() int32 { return int32(j.name & arena.MaxIndex) }

// content is what a message says; copies share it.
type content struct {
	subject    []byte
	kind       string // CloudEvents type; empty: what its source says
	source     int32  // node, or -1 for outside
	size       int64
	made       int64
	data       any
	serial     uint64      // the number of an event that a node makes
	attributes *Attributes // of an event from outside; nil: it has none of its own
	notice     bool        // it names an object, whose size it has, and does not hold it [PE-13]
	refs       int32
	next       uint32
}

func (c *content) key() string { return unsafe.String(unsafe.SliceData(c.subject), len(c.subject)) }

// message is what a run or an outsider sends on: where it comes from.
type message struct {
	journey uint32
	content uint32
	hops    uint16
	passes  uint16
	tries   uint16
	aside   bool
	wrap    envelope // how its payload reaches the run that looks at it
	node    int32    // where it was, -1 outside
}

// delivery is how copies reach a node: a link, or the node's own way for
// traffic and dead letters.
type delivery struct {
	offered int64
	matched int64
	copies  int64
	policy  graph.Policy
	to      int32
	dead    int32 // node or -1
	link    int32 // or -1
	refused bool
	paused  bool // by an incident, or since a reader link is switched off or its target is stopped
	halted  bool // by an incident
	off     bool // the link is switched off
	rejects bool // settle: reject
	wrap    envelope
	except  []int16
	held    []uint32 // copies that wait for the link to be resumed
	jitter  *random.Stream
}

// newJourney makes the record of a message that comes in at a node now.
func (e *engine) newJourney(entry int32) (uint32, *journey) {
	i := e.freeJour
	if i != 0 {
		e.freeJour = uint32(e.journeys.At(i).name)
	} else {
		i = e.journeys.Add()
	}
	e.nextJour++
	j := e.journeys.At(i)
	*j = journey{name: e.nextJour<<arena.IndexBits | uint64(entry), born: e.Now}
	return i, j
}

func (e *engine) releaseJourney(i uint32) {
	if j := e.journeys.At(i); j.refs > 1 {
		j.refs--
	} else {
		e.closeJourney(j)
		j.refs, j.name = 0, uint64(e.freeJour)
		e.freeJour = i
	}
}

func (e *engine) closeJourney(j *journey) {
	if e.sampled != nil {
		e.sampled.note(j)
	}
	switch {
	case j.failed:
		e.tally.failed++
	case j.open > 0:
		e.tally.inFlight++
	default:
		e.tally.complete++
	}
	if j.copies > e.tally.largestCopies {
		e.tally.largestCopies = j.copies
	}
	if hops := int32(j.hops); hops > e.tally.largestHops {
		e.tally.largestHops = hops
	}
}

func (e *engine) newContent() uint32 {
	i := e.freeCont
	if i != 0 {
		e.freeCont = e.contents[i].next
	} else {
		e.contents = append(e.contents, content{})
		i = uint32(len(e.contents) - 1)
	}
	c := &e.contents[i]
	e.lastEvent++
	*c = content{subject: c.subject[:0], source: -1, made: e.Now, serial: e.lastEvent, refs: 1}
	return i
}

func (e *engine) dropContent(i uint32) {
	if i <= e.lasting {
		return
	}
	c := &e.contents[i]
	if c.refs--; c.refs == 0 {
		c.data, c.attributes, c.next = nil, nil, e.freeCont
		e.freeCont = i
	}
}

// copySlot takes a record for a copy, which holds what it held before.
func (e *engine) copySlot() uint32 {
	i := e.freeCopy
	if i != 0 {
		e.freeCopy = e.copies.At(i).next
		return i
	}
	return e.copies.Add()
}

// comes lets a record, whatever it held before, be that of a copy that comes to a
// node now; what message it is a copy of is still to be said.
func (c *copyRecord) comes(now int64, age uint64, via, node int32) {
	c.born, c.age = now, age
	c.next, c.prev, c.older, c.younger, c.via, c.node = 0, 0, 0, 0, via, node
	c.inFlight, c.tries, c.class = 0, 0, 0
}

// newCopy makes a copy of a message at a node; it takes a reference of its own
// to the content.
func (e *engine) newCopy(n *node, via int32, m *message, con uint32, flags copyFlags) uint32 {
	i := e.copySlot()
	c := e.copies.At(i)
	c.comes(e.Now, e.Sequence(), via, int32(n.id))
	c.journey, c.content, c.hops, c.passes, c.flags = m.journey, con, m.hops, m.passes, flags
	if m.aside {
		c.flags |= deadLettered
	}
	e.contents[con].refs++
	j := e.journeys.At(m.journey)
	j.refs++
	if flags&duplicate != 0 {
		return i
	}
	if e.inLoop[n.id] >= 0 {
		c.passes = e.countPass(n, m.node, c.passes)
	}
	j.open++
	j.copies++
	j.hops = max(j.hops, m.hops)
	n.copies++
	e.live++
	if via >= 0 {
		e.deliveries[via].copies++
	}
	return i
}

// finish gives a copy its fate. A copy at rest keeps its record, since its
// fate may still change.
func (e *engine) finish(i uint32, f Fate) {
	c := e.copies.At(i)
	n := &e.nodes[c.node]
	if c.flags&duplicate != 0 {
		e.vanish(i)
		return
	}
	if c.flags&atRest != 0 {
		e.journeys.At(c.journey).open++
		e.live++
		n.fates[n.restFate(c)]--
		c.flags &^= atRest
	}
	n.fates[f]++
	e.standsNoMore(n, c)
	j := e.journeys.At(c.journey)
	j.open--
	e.live--
	if f.Loss() || f == Returned || f == Parked {
		e.endsBadly(j)
		if f.Loss() && e.firstLoss < 0 {
			e.firstLoss = e.Now
		}
	}
	if e.Now >= e.warm {
		n.time.Add(e.Now - c.born)
		switch {
		case f == Handled && n.queue != nil:
			e.arrivedAt(&e.nodes[e.handledBy], j)
		case f == Handled || f == Stored || f == Parked:
			e.arrivedAt(n, j)
		}
	}
	if e.trace != nil {
		e.trace.fate(e, i, f)
	}
	c.flags |= done
	if e.inFlightOf(c).held == 0 {
		e.releaseCopy(c, i)
	}
}

// standsNoMore takes a copy out of its node's depth.
func (e *engine) standsNoMore(n *node, c *copyRecord) {
	if c.flags&countedInDepth == 0 {
		return
	}
	c.flags &^= countedInDepth
	n.depth.Fall(e.Now)
	if n.home != nil {
		n.home.depth.Fall(e.Now)
	}
	if e.storage {
		n.byteSeconds += float64(e.contents[c.content].size) * float64(e.Now-c.born) * 1e-9
	}
}

// countDepth counts a copy in its node's depth, but no second delivery of one [L-46].
func (e *engine) countDepth(n *node, c *copyRecord) {
	if c.flags&duplicate != 0 {
		return
	}
	c.flags |= countedInDepth
	n.depth.Rise(e.Now)
	if n.home != nil {
		n.home.depth.Rise(e.Now)
	}
}

// vanish ends a second delivery, which has no fate.
func (e *engine) vanish(i uint32) {
	c := e.copies.At(i)
	e.standsNoMore(&e.nodes[c.node], c)
	c.flags |= done
	if e.inFlightOf(c).held == 0 {
		e.releaseCopy(c, i)
	}
}

// rest lets a copy lie where nothing leaves: arrived, or parked.
func (e *engine) rest(i uint32) {
	c := e.copies.At(i)
	n := &e.nodes[c.node]
	if c.flags&duplicate != 0 {
		e.leaveQueue(n, i, noFate)
		return
	}
	c.flags |= atRest
	f := n.restFate(c)
	n.fates[f]++
	j := e.journeys.At(c.journey)
	j.open--
	e.live--
	if f == Parked {
		e.endsBadly(j)
	}
	if e.Now >= e.warm {
		e.arrivedAt(n, j)
	}
	if e.trace != nil {
		e.trace.fate(e, i, f)
	}
}

func (n *node) restFate(c *copyRecord) Fate {
	if c.flags&deadLettered != 0 {
		return Parked
	}
	return Arrived
}

// arrivedAt notes how long a message took from where it came in to a node.
func (e *engine) arrivedAt(n *node, j *journey) {
	e.latencyTo(n, j.entry()).Add(e.Now - j.born)
}

func (e *engine) latencyTo(n *node, entry int32) *stats.LiveHistogram {
	row := e.latency[entry]
	if row == nil {
		row = make([]*stats.LiveHistogram, len(e.g.Nodes))
		e.latency[entry] = row
	}
	if row[n.id] == nil {
		t := e.histograms.New()
		row[n.id] = &t
	}
	return row[n.id]
}

// releaseCopy gives the record of a copy that is done with back.
func (e *engine) releaseCopy(c *copyRecord, i uint32) {
	e.dropInFlight(c)
	e.releaseUnhandled(c, i)
}

// releaseUnhandled gives back that of a copy that nobody handles any more.
func (e *engine) releaseUnhandled(c *copyRecord, i uint32) {
	e.releaseJourney(c.journey)
	e.dropContent(c.content)
	c.next = e.freeCopy
	e.freeCopy = i
}

// letGo drops a batch's hold on a copy.
func (e *engine) letGo(i uint32) {
	c := e.copies.At(i)
	h := e.inFlightFor(c)
	h.held--
	if h.held == 0 && c.flags&done != 0 {
		e.releaseCopy(c, i)
	}
}

func (e *engine) messageOf(c *copyRecord) message {
	return message{
		journey: c.journey,
		content: c.content,
		hops:    c.hops,
		passes:  c.passes,
		tries:   c.tries,
		aside:   c.flags&deadLettered != 0,
		node:    c.node,
	}
}

// eventOfMessage fills the scratch event with what an expression or filter sees of a
// message; kind is its type where it states none.
func (e *engine) eventOfMessage(m *message, kind string) *expr.Event {
	c := &e.contents[m.content]
	ev := &e.event
	ev.Subject, ev.Type, ev.Size, ev.Data = c.key(), c.kind, c.size, c.data
	if ev.Type == "" {
		ev.Type = kind
	}
	ev.Source = e.sourceOf(c)
	if m.wrap != unwrapped {
		ev.Data, ev.Size = e.wrapped(m, ev.Type)
	}
	ev.Hops, ev.Try = int(m.hops), int(m.tries)
	ev.Time = e.timeOf(c)
	j := e.journeys.At(m.journey)
	ev.Age = e.instant(e.Now).Sub(e.instant(j.born))
	ev.ID, ev.Number = e.eventID(m)
	return ev
}

// kindOfEvent is the type of an event that states none, by where it comes from.
func kindOfEvent(from *graph.Node, flags copyFlags) string {
	switch {
	case from == nil:
		return "message"
	case flags&deletion != 0 && from.Kind.Keeps():
		return "deleted"
	case flags&update != 0 && from.Kind == model.Table:
		return "updated"
	}
	return from.Kind.Event()
}
