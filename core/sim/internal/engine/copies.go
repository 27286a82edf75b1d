package engine

import (
	"unsafe"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim/internal/arena"
	"ironweir/core/sim/internal/random"
	"ironweir/core/sim/internal/stats"
)

type Flags uint32

const (
	Done           Flags = 1 << iota
	AtRest               // it lies where nothing leaves, with a fate that may still change
	deadLettered         // a dead-letter or failure link lies behind it
	visible              // in a queue, ready to be taken
	Leased               // handed out, its lease running
	CountedInDepth       // counted in its node's depth
	Writing              // a write of it is in progress
	expiring             // its retention ended while a run works on it
	begun                // its first run has started
	Deletion             // the event of a deletion
	update               // the event of a row that was there before
	unread               // in a partition, not yet taken by its reader
	again                // read before, and rewound by an incident
	Duplicate            // a second delivery of a copy: it is run and sends, and has no fate
	HeldBack             // its group is blocked by another message
	blocks               // it holds back its group: out, waiting for its next try, or in a late run
	crashed              // a crash gave it back, so that its next delivery is a redelivery
)

// Copy is one message held for one consumer. Index 0 stands for none.
type Copy struct {
	Born     int64  // when it came in at its node
	Age      uint64 // sequence of its coming in: its name, and its place among the old
	Journey  uint32
	Content  uint32
	next     uint32 // in the visible or the leased list
	prev     uint32
	older    uint32 // in the list by age
	Younger  uint32
	Via      int32 // delivery
	Node     int32
	inFlight uint32 // what is known of it while a consumer handles it; 0: none does
	Flags    Flags
	Tries    uint16
	hops     uint16
	passes   uint16
	class    uint8 // of links that match, in a queue
}

// Journey is an origin message with all that descends from it.
type Journey struct {
	name   uint64 // number << 24 | entry; of a free record, the next one
	Born   int64
	Refs   int32 // copies and runs that name it
	Open   int32 // copies in flight
	Copies int32
	hops   uint16
	Failed bool // some copy ended badly
}

func (j *Journey) ID() uint64   { return j.name >> arena.IndexBits }
func (j *Journey) Entry() int32 { return int32(j.name & arena.MaxIndex) }

// Content is what a message says; copies share it.
type Content struct {
	Subject    []byte
	Kind       string // CloudEvents type; empty: what its source says
	Source     int32  // node, or -1 for outside
	Size       int64
	Made       int64
	Data       any
	serial     uint64      // the number of an event that a node makes
	Attributes *Attributes // of an event from outside; nil: it has none of its own
	notice     bool        // it names an object, whose size it has, and does not hold it [PE-13]
	Refs       int32
	next       uint32
}

func (c *Content) key() string { return unsafe.String(unsafe.SliceData(c.Subject), len(c.Subject)) }

// Message is what a run or an outsider sends on: where it comes from.
type Message struct {
	Journey uint32
	Content uint32
	Hops    uint16
	Passes  uint16
	Tries   uint16
	aside   bool
	Wrap    envelope // how its payload reaches the run that looks at it
	Node    int32    // where it was, -1 outside
}

// Delivery is how copies reach a node: a link, or the node's own way for
// traffic and dead letters.
type Delivery struct {
	Offered int64
	Matched int64
	Copies  int64
	policy  graph.Policy
	to      int32
	dead    int32 // node or -1
	Link    int32 // or -1
	refused bool
	Paused  bool // by an incident, or since a reader link is switched off or its target is stopped
	Halted  bool // by an incident
	Off     bool // the link is switched off
	rejects bool // settle: reject
	wrap    envelope
	except  []int16
	Held    []uint32 // copies that wait for the link to be resumed
	jitter  *random.Stream
}

// NewJourney makes the record of a message that comes in at a node now.
func (e *Engine) NewJourney(entry int32) (uint32, *Journey) {
	i := e.freeJour
	if i != 0 {
		e.freeJour = uint32(e.Journeys.At(i).name)
	} else {
		i = e.Journeys.Add()
	}
	e.NextJour++
	j := e.Journeys.At(i)
	*j = Journey{name: e.NextJour<<arena.IndexBits | uint64(entry), Born: e.Now}
	return i, j
}

func (e *Engine) releaseJourney(i uint32) {
	if j := e.Journeys.At(i); j.Refs > 1 {
		j.Refs--
	} else {
		e.CloseJourney(j)
		j.Refs, j.name = 0, uint64(e.freeJour)
		e.freeJour = i
	}
}

// endsBadly notes that a copy of a journey has been lost, parked or returned.
func (e *Engine) endsBadly(j *Journey) {
	j.Failed = true
	if e.Sampler != nil {
		e.Sampler.JourneyFails(j)
	}
}

func (e *Engine) CloseJourney(j *Journey) {
	if e.Sampler != nil {
		e.Sampler.JourneyEnds(j)
	}
	switch {
	case j.Failed:
		e.Tally.Failed++
	case j.Open > 0:
		e.Tally.InFlight++
	default:
		e.Tally.Complete++
	}
	if j.Copies > e.Tally.LargestCopies {
		e.Tally.LargestCopies = j.Copies
	}
	if hops := int32(j.hops); hops > e.Tally.LargestHops {
		e.Tally.LargestHops = hops
	}
}

func (e *Engine) NewContent() uint32 {
	i := e.freeCont
	if i != 0 {
		e.freeCont = e.Contents[i].next
	} else {
		e.Contents = append(e.Contents, Content{})
		i = uint32(len(e.Contents) - 1)
	}
	c := &e.Contents[i]
	e.lastEvent++
	*c = Content{Subject: c.Subject[:0], Source: -1, Made: e.Now, serial: e.lastEvent, Refs: 1}
	return i
}

func (e *Engine) DropContent(i uint32) {
	if i <= e.Lasting {
		return
	}
	c := &e.Contents[i]
	if c.Refs--; c.Refs == 0 {
		c.Data, c.Attributes, c.next = nil, nil, e.freeCont
		e.freeCont = i
	}
}

// copySlot takes a record for a copy, which holds what it held before.
func (e *Engine) copySlot() uint32 {
	i := e.freeCopy
	if i != 0 {
		e.freeCopy = e.Copies.At(i).next
		return i
	}
	return e.Copies.Add()
}

// comes lets a record, whatever it held before, be that of a copy that comes to a
// node now; what message it is a copy of is still to be said.
func (c *Copy) comes(now int64, age uint64, via, node int32) {
	c.Born, c.Age = now, age
	c.next, c.prev, c.older, c.Younger, c.Via, c.Node = 0, 0, 0, 0, via, node
	c.inFlight, c.Tries, c.class = 0, 0, 0
}

// NewCopy makes a copy of a message at a node; it takes a reference of its own
// to the content.
func (e *Engine) NewCopy(n *Node, via int32, m *Message, con uint32, flags Flags) uint32 {
	i := e.copySlot()
	c := e.Copies.At(i)
	c.comes(e.Now, e.Sequence(), via, int32(n.ID))
	c.Journey, c.Content, c.hops, c.passes, c.Flags = m.Journey, con, m.Hops, m.Passes, flags
	if m.aside {
		c.Flags |= deadLettered
	}
	e.Contents[con].Refs++
	j := e.Journeys.At(m.Journey)
	j.Refs++
	if flags&Duplicate != 0 {
		return i
	}
	if e.InLoop[n.ID] >= 0 {
		c.passes = e.countPass(n, m.Node, c.passes)
	}
	j.Open++
	j.Copies++
	j.hops = max(j.hops, m.Hops)
	n.Copies++
	e.Live++
	if via >= 0 {
		e.Deliveries[via].Copies++
	}
	return i
}

// Finish gives a copy its fate. A copy at rest keeps its record, since its
// fate may still change.
func (e *Engine) Finish(i uint32, f Fate) {
	c := e.Copies.At(i)
	n := &e.Nodes[c.Node]
	if c.Flags&Duplicate != 0 {
		e.vanish(i)
		return
	}
	if c.Flags&AtRest != 0 {
		e.Journeys.At(c.Journey).Open++
		e.Live++
		n.Fates[n.restFate(c)]--
		c.Flags &^= AtRest
	}
	n.Fates[f]++
	e.standsNoMore(n, c)
	j := e.Journeys.At(c.Journey)
	j.Open--
	e.Live--
	if f.Loss() || f == Returned || f == Parked {
		e.endsBadly(j)
		if f.Loss() && e.FirstLoss < 0 {
			e.FirstLoss = e.Now
		}
	}
	if e.Now >= e.Warm {
		n.Time.Add(e.Now - c.Born)
		switch {
		case f == Handled && n.Queue != nil:
			e.arrivedAt(&e.Nodes[e.HandledBy], j)
		case f == Handled || f == Stored || f == Parked:
			e.arrivedAt(n, j)
		}
	}
	if e.Trace != nil {
		e.Trace.Fate(i, f)
	}
	c.Flags |= Done
	if e.InFlightOf(c).Held == 0 {
		e.releaseCopy(c, i)
	}
}

// standsNoMore takes a copy out of its node's depth.
func (e *Engine) standsNoMore(n *Node, c *Copy) {
	if c.Flags&CountedInDepth == 0 {
		return
	}
	c.Flags &^= CountedInDepth
	n.Depth.Fall(e.Now)
	if n.Home != nil {
		n.Home.Depth.Fall(e.Now)
	}
	if e.Storage {
		n.ByteSeconds += float64(e.Contents[c.Content].Size) * float64(e.Now-c.Born) * 1e-9
	}
}

// countDepth counts a copy in its node's depth, but no second delivery of one [L-46].
func (e *Engine) countDepth(n *Node, c *Copy) {
	if c.Flags&Duplicate != 0 {
		return
	}
	c.Flags |= CountedInDepth
	n.Depth.Rise(e.Now)
	if n.Home != nil {
		n.Home.Depth.Rise(e.Now)
	}
}

// vanish ends a second delivery, which has no fate.
func (e *Engine) vanish(i uint32) {
	c := e.Copies.At(i)
	e.standsNoMore(&e.Nodes[c.Node], c)
	c.Flags |= Done
	if e.InFlightOf(c).Held == 0 {
		e.releaseCopy(c, i)
	}
}

// rest lets a copy lie where nothing leaves: arrived, or parked.
func (e *Engine) rest(i uint32) {
	c := e.Copies.At(i)
	n := &e.Nodes[c.Node]
	if c.Flags&Duplicate != 0 {
		e.LeaveQueue(n, i, noFate)
		return
	}
	c.Flags |= AtRest
	f := n.restFate(c)
	n.Fates[f]++
	j := e.Journeys.At(c.Journey)
	j.Open--
	e.Live--
	if f == Parked {
		e.endsBadly(j)
	}
	if e.Now >= e.Warm {
		e.arrivedAt(n, j)
	}
	if e.Trace != nil {
		e.Trace.Fate(i, f)
	}
}

func (n *Node) restFate(c *Copy) Fate {
	if c.Flags&deadLettered != 0 {
		return Parked
	}
	return Arrived
}

// arrivedAt notes how long a message took from where it came in to a node.
func (e *Engine) arrivedAt(n *Node, j *Journey) {
	e.latencyTo(n, j.Entry()).Add(e.Now - j.Born)
}

func (e *Engine) latencyTo(n *Node, entry int32) *stats.LiveHistogram {
	row := e.Latency[entry]
	if row == nil {
		row = make([]*stats.LiveHistogram, len(e.Graph.Nodes))
		e.Latency[entry] = row
	}
	if row[n.ID] == nil {
		t := e.histograms.New()
		row[n.ID] = &t
	}
	return row[n.ID]
}

// releaseCopy gives the record of a copy that is done with back.
func (e *Engine) releaseCopy(c *Copy, i uint32) {
	e.dropInFlight(c)
	e.releaseUnhandled(c, i)
}

// releaseUnhandled gives back that of a copy that no consumer handles any more.
func (e *Engine) releaseUnhandled(c *Copy, i uint32) {
	e.releaseJourney(c.Journey)
	e.DropContent(c.Content)
	c.next = e.freeCopy
	e.freeCopy = i
}

// letGo drops a batch's hold on a copy.
func (e *Engine) letGo(i uint32) {
	c := e.Copies.At(i)
	h := e.inFlightFor(c)
	h.Held--
	if h.Held == 0 && c.Flags&Done != 0 {
		e.releaseCopy(c, i)
	}
}

func (e *Engine) MessageOf(c *Copy) Message {
	return Message{
		Journey: c.Journey,
		Content: c.Content,
		Hops:    c.hops,
		Passes:  c.passes,
		Tries:   c.Tries,
		aside:   c.Flags&deadLettered != 0,
		Node:    c.Node,
	}
}

// EventOfMessage fills the scratch event with what an expression or filter sees of a
// message; kind is its type where it states none.
func (e *Engine) EventOfMessage(m *Message, kind string) *expr.Event {
	c := &e.Contents[m.Content]
	ev := &e.event
	ev.Subject, ev.Type, ev.Size, ev.Data = c.key(), c.Kind, c.Size, c.Data
	if ev.Type == "" {
		ev.Type = kind
	}
	ev.Source = e.sourceOf(c)
	if m.Wrap != Unwrapped {
		ev.Data, ev.Size = e.Wrapped(m, ev.Type)
	}
	ev.Hops, ev.Try = int(m.Hops), int(m.Tries)
	ev.Time = e.timeOf(c)
	j := e.Journeys.At(m.Journey)
	ev.Age = e.Instant(e.Now).Sub(e.Instant(j.Born))
	ev.ID, ev.Number = e.eventID(m)
	return ev
}

// KindOfEvent is the type of an event that states none, by where it comes from.
func KindOfEvent(from *graph.Node, flags Flags) string {
	switch {
	case from == nil:
		return "message"
	case flags&Deletion != 0 && from.Kind.Keeps():
		return "deleted"
	case flags&update != 0 && from.Kind == model.Table:
		return "updated"
	}
	return from.Kind.Event()
}
