package sim

import (
	"fmt"
	"time"

	"ironweir/core/model"
	"ironweir/core/sim/internal/clock"
	"ironweir/core/sim/internal/engine"
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
	Fails                     float64       // of an active incident; -1: none
	Slow                      float64       // times as slow
	Concurrency               int64         // of an active incident; -1: none
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
		Entered:  e.Tally.Entered,
		Underway: int64(e.Live),
		Events:   e.Tally.Events,
		Stopped:  e.Stopped,
		Nodes:    make([]LiveNode, len(e.Graph.Nodes)),
		Links:    make([]LiveLink, len(e.Graph.Links)),
	}
	for i := range s.Nodes {
		n := &e.Nodes[i]
		x := &s.Nodes[i]
		*x = LiveNode{
			Copies:      n.Copies,
			Depth:       n.Depth.Count,
			Active:      n.Active.Count,
			Runs:        n.Runs,
			Failures:    n.Failures,
			Throttled:   n.Throttled,
			Handled:     n.Fates[engine.Handled],
			Parked:      n.Fates[engine.Parked],
			Lost:        e.LostAt(n),
			Oldest:      time.Duration(e.OldestIn(n)),
			Fails:       n.FailsNowShare,
			Slow:        n.Slow,
			Concurrency: n.ConcurrencyNow,
			Off:         n.Off,
			Stopped:     n.Stopped,
		}
		s.Parked += x.Parked
		s.Lost += x.Lost
	}
	for i := range s.Links {
		d := &e.Deliveries[i]
		s.Links[i] = LiveLink{d.Matched, d.Halted, d.Off}
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
	list, all := l.e.resting(n.ID)
	return list, all, nil
}

// Message gives a message that lies in a node as a CloudEvent.
func (l *Live) Message(id uint64) (map[string]any, error) {
	i := l.e.copyNamed(id)
	if i == 0 {
		return nil, gone(id)
	}
	return l.e.Describe(l.e.Copies.At(i)), nil
}

func gone(id uint64) error { return fmt.Errorf("message %d is not there (any more)", id) }

// copyNamed finds the copy of a name; 0: none.
func (e *replication) copyNamed(name uint64) uint32 {
	for i := uint32(1); i < e.Copies.Count; i++ {
		c := e.Copies.At(i)
		if c.Age == name && c.Journey != 0 && c.Flags&(engine.Done|engine.Duplicate) == 0 && c.Age > 0 {
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
	c := e.Copies.At(i)
	n := &e.Nodes[c.Node]
	switch {
	case e.InFlightOf(c).Busy > 0:
		return 0, fmt.Errorf("message %d is worked on just now; wait, or fail %s first", id, n.Name)
	case n.Queue == nil && e.InFlightOf(c).Timer == 0:
		return 0, fmt.Errorf(
			"message %d cannot be taken out of %s just now: it is on its way, or its link is paused",
			id,
			n.Name,
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
	n := &e.Nodes[e.Copies.At(i).Node]
	fate := engine.Handled
	if m.To != "" {
		fate = engine.Passed
		e.incidents.SendOn(i, &e.Nodes[e.Graph.NodeID(m.To)])
	}
	e.HandledBy = n.ID
	if n.Home != nil {
		e.HandledBy = n.Home.ID
	}
	if n.Queue != nil {
		e.LeaveQueue(n, i, fate)
		return
	}
	e.Finish(i, fate)
}

// SendBackTargets are the nodes from which what lies in a node was given up:
// where it can be sent back to.
func (l *Live) SendBackTargets(node string) []string {
	var out []string
	seen := map[string]bool{}
	for _, n := range l.e.Graph.Topology.Nodes {
		add := func(name string) {
			if to := l.e.Graph.Topology.Node(name); to != nil && !seen[name] && !to.Kind.Fires() {
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
	engine.EvArrive:   "a message arrives at %s",
	engine.EvReplay:   "a message arrives at %s",
	engine.EvFire:     "%s fires",
	engine.EvFan:      "%s passes a message to its links",
	engine.EvOffer:    "a message is offered to %s",
	engine.EvTry:      "%s retries a message",
	engine.EvWritten:  "a write to %s is complete",
	engine.EvPull:     "the readers of %s receive what is visible",
	engine.EvFill:     "a batch window of %s ends",
	engine.EvVisible:  "a message becomes visible in %s",
	engine.EvLease:    "a lease of %s ends",
	engine.EvAge:      "a retention of %s ends",
	engine.EvReader:   "a reader of %s continues",
	engine.EvFeed:     "a reader of %s polls its partition",
	engine.EvLife:     "an object in %s expires",
	engine.EvFastRun:  "a run for %s ends",
	engine.EvBatch:    "a run for a batch of %s ends",
	engine.EvTask:     "a task of %s continues",
	engine.EvRun:      "a run of %s continues",
	engine.EvTimeout:  "a run of %s times out",
	engine.EvIncident: "an incident starts or ends",
	engine.EvSendBack: "a message is sent back",
	engine.EvSample:   "the series are sampled",
	engine.EvWarm:     "the warm-up ends",
}

// nextInWords says what the next event is.
func (e *replication) nextInWords() string {
	next := e.Upcoming()
	kind, i := next.Kind(), next.Index()
	at := -1
	switch kind {
	case engine.EvArrive, engine.EvReplay:
		at = e.sources.NodeOf(i)
	case engine.EvPull, engine.EvLease, engine.EvAge, engine.EvFire, engine.EvLife:
		at = int(i)
	case engine.EvFan, engine.EvOffer, engine.EvTry, engine.EvWritten, engine.EvVisible, engine.EvFastRun:
		at = int(e.Copies.At(i).Node)
	case engine.EvRun, engine.EvTimeout:
		at = int(e.Runs[i].Node)
	case engine.EvFill, engine.EvBatch:
		at = int(e.Batches[i].Node)
	case engine.EvReader, engine.EvFeed:
		at = int(e.Readers[i].Queue)
	case engine.EvTask:
		at = int(e.Runs[e.workflows.RunOf(i)].Node)
	}
	words := eventWords[kind]
	if at < 0 {
		return words
	}
	return fmt.Sprintf(words, e.Nodes[at].Name)
}
