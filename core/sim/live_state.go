package sim

import (
	"fmt"
	"time"

	"ironweir/core/sim/internal/clock"

	"ironweir/core/model"
)

// LiveState is how a live run stands. Counts are totals since its start.
type LiveState struct {
	Now      time.Duration
	Entered  int64
	Underway int64 // copies
	Lost     int64
	Parked   int64
	Events   int64
	Nodes    []LiveNode // in the order of the graph
	Links    []LiveLink
	Stopped  string
}

// LiveNode is how a node stands.
type LiveNode struct {
	Copies, Depth, Active     int64
	Runs, Failures, Throttled int64
	Handled, Parked, Lost     int64
	Oldest                    time.Duration // of what waits in it
	Fails                     float64       // in force by an incident; -1: none
	Slow                      float64       // times as slow
	Concurrency               int64         // in force by an incident; -1: none
	Off, Stopped              bool
}

// LiveLink is how a link stands.
type LiveLink struct {
	Matched int64 // offered to it and taken
	Paused  bool  // by an incident
	Off     bool  // switched off
}

// State reports how the run stands. It changes nothing.
func (l *Live) State() *LiveState {
	e := l.e
	s := &LiveState{
		Now:      time.Duration(e.Now),
		Entered:  e.tally.entered,
		Underway: int64(e.live),
		Events:   e.tally.events,
		Stopped:  e.stopped,
		Nodes:    make([]LiveNode, len(e.g.Nodes)),
		Links:    make([]LiveLink, len(e.g.Links)),
	}
	for i := range s.Nodes {
		n := &e.nodes[i]
		x := &s.Nodes[i]
		*x = LiveNode{
			Copies:      n.copies,
			Depth:       n.depth.Count,
			Active:      n.active.Count,
			Runs:        n.runs,
			Failures:    n.failures,
			Throttled:   n.throttled,
			Handled:     n.fates[Handled],
			Parked:      n.fates[Parked],
			Lost:        e.lostAt(n),
			Oldest:      time.Duration(e.oldestIn(n)),
			Fails:       n.failsNowShare,
			Slow:        n.slow,
			Concurrency: n.concurrencyNow,
			Off:         n.off,
			Stopped:     n.stopped,
		}
		s.Parked += x.Parked
		s.Lost += x.Lost
	}
	for i := range s.Links {
		d := &e.deliveries[i]
		s.Links[i] = LiveLink{d.matched, d.halted, d.off}
	}
	return s
}

// Resting lists what lies in a node or is worked on there, the oldest first, at
// most MaxResting, with how many there are in all.
func (l *Live) Resting(node string) ([]Resting, int, error) {
	n, err := l.node(node)
	if err != nil {
		return nil, 0, err
	}
	list, all := l.e.resting(n.id)
	return list, all, nil
}

// Message gives a message that lies in a node as a CloudEvent.
func (l *Live) Message(id uint64) (map[string]any, error) {
	i := l.e.copyNamed(id)
	if i == 0 {
		return nil, gone(id)
	}
	return l.e.describe(l.e.copies.At(i)), nil
}

func gone(id uint64) error { return fmt.Errorf("message %d is not there (any more)", id) }

// copyNamed finds the copy of a name; 0: none.
func (e *engine) copyNamed(name uint64) uint32 {
	for i := uint32(1); i < e.copies.Count; i++ {
		if c := e.copies.At(i); c.age == name && c.journey != 0 && c.flags&(done|duplicate) == 0 && c.age > 0 {
			return i
		}
	}
	return 0
}

// movable finds a message that a person may take out of where it lies.
func (l *Live) movable(id uint64) (uint32, error) {
	e := l.e
	i := e.copyNamed(id)
	if i == 0 {
		return 0, gone(id)
	}
	c := e.copies.At(i)
	n := &e.nodes[c.node]
	switch {
	case e.inFlightOf(c).busy > 0:
		return 0, fmt.Errorf("message %d is worked on just now; wait, or fail %s first", id, n.name)
	case n.queue == nil && e.inFlightOf(c).timer == 0:
		return 0, fmt.Errorf(
			"message %d cannot be taken out of %s just now: it is on its way, or its link is paused",
			id,
			n.name,
		)
	}
	return i, nil
}

// move takes a message out of where it lies and sends it to another node as it
// is, or removes it: a person has dealt with it.
func (l *Live) move(m *Move) {
	e := l.e
	i, err := l.movable(m.Message)
	if err != nil {
		return // it was there when it was asked for: see Put
	}
	n := &e.nodes[e.copies.At(i).node]
	fate := Handled
	if m.To != "" {
		fate = Passed
		e.sendOn(i, &e.nodes[e.g.NodeID(m.To)])
	}
	e.handledBy = n.id
	if n.home != nil {
		e.handledBy = n.home.id
	}
	if n.queue != nil {
		e.leaveQueue(n, i, fate)
		return
	}
	e.finish(i, fate)
}

// SendBackTargets are the nodes from which what lies in a node was given up:
// where it can be sent back to.
func (l *Live) SendBackTargets(node string) []string {
	var out []string
	seen := map[string]bool{}
	for _, n := range l.e.g.Topology.Nodes {
		add := func(name string) {
			if to := l.e.g.Topology.Node(name); to != nil && !seen[name] && !to.Kind.Fires() {
				seen[name] = true
				out = append(out, name)
			}
		}
		if n.DeadLetter == node {
			add(n.Name)
		}
		for _, link := range n.Links {
			switch {
			case link.DeadLetter == node && (n.Kind.Leases() || n.Kind == model.Stream):
				add(n.Name)
			case link.DeadLetter == node:
				add(link.To)
			case link.To == node && link.When == model.Failure:
				add(n.Name)
			}
		}
	}
	return out
}

// eventWords say what an event is; %s is the node.
var eventWords = map[clock.Kind]string{
	evArrive: "a message arrives at %s", evReplay: "a message arrives at %s", evFire: "%s fires", evFan: "%s passes a message to its links", evOffer: "a message is offered to %s", evTry: "%s retries a message",
	evWritten: "a write to %s is complete", evPull: "the readers of %s receive what is visible", evFill: "a batch window of %s ends", evVisible: "a message becomes visible in %s",
	evLease: "a lease of %s ends", evAge: "a retention of %s ends", evReader: "a reader of %s continues", evFeed: "a reader of %s polls its partition", evLife: "an object in %s expires",
	evFastRun: "a run for %s ends", evBatch: "a run for a batch of %s ends", evTask: "a task of %s continues", evRun: "a run of %s continues", evTimeout: "a run of %s times out",
	evIncident: "an incident starts or ends", evSendBack: "a message is sent back", evSample: "the series are sampled", evWarm: "the warm-up ends",
}

// nextInWords says what the next event is.
func (e *engine) nextInWords() string {
	next := e.Upcoming()
	kind, i := next.Kind(), next.Index()
	at := -1
	switch kind {
	case evArrive, evReplay:
		at = e.traffic[i].to.id
	case evPull, evLease, evAge, evFire, evLife:
		at = int(i)
	case evFan, evOffer, evTry, evWritten, evVisible, evFastRun:
		at = int(e.copies.At(i).node)
	case evRun, evTimeout:
		at = int(e.runs[i].node)
	case evFill, evBatch:
		at = int(e.batches[i].node)
	case evReader, evFeed:
		at = int(e.readers[i].queue)
	case evTask:
		at = int(e.runs[e.threads[i].run].node)
	}
	words := eventWords[kind]
	if at < 0 {
		return words
	}
	return fmt.Sprintf(words, e.nodes[at].name)
}
