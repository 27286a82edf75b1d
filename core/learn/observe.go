package learn

import (
	"errors"
	"sort"
	"strconv"

	"ironweir/core/model"
)

// Observed is what spans say about a system, by the names that it uses itself.
type Observed struct {
	Nodes   map[string]*Node
	Links   map[LinkKey]*Link
	Entries map[string]*Entry
	// seconds from an entry to the end of a run, or to the answer of the entry itself
	Latency     map[[2]string][]float64
	Held        map[string]Held   // by channel that is read
	DeadLetters map[string]string // by the channel or function that gave a message up
	Spans       int
	Traces      int
	Skipped     map[string]int // spans that were not used, by reason
	From, Until int64          // of the first and the last span, nanoseconds since 1970
}

// Node is something that was seen.
type Node struct {
	Name     string
	Kind     model.Kind
	Why      string // the evidence for its kind
	Runs     int
	Failures int            // by itself, not by a call
	Failed   int            // by itself or by a call
	Delay    float64        // seconds that every message waits in it; 0: none is seen
	Errors   map[string]int // of its own failures
	Times    []float64      // seconds of its own work, of runs that went well; a sample where it was kept for long
	Timed    Moments        // of all of them
	Handover Handover       // of the messages that wait for its runs
	Stops    []Stop         // in which it took none
	Cron     string
	Fires    []int64 // starts, of a schedule
	Method   string
	Path     string
	Keys     []string // objects seen, up to mostKeys
	Types    map[string]bool
	// of a stream, those that were seen
	Partitions map[string]bool
	first      int64
	batches    []batch           // what was put together
	handovers  map[int64]float64 // those that were seen, in seconds, by the start of the run before
	seen       []seenRun
}

// Handover is how long it takes, while messages wait, from the end of a run to the start of the next: the consumer
// confirms one message, and the broker hands over the next. It is in no span, and keeps the consumer from other work.
type Handover struct {
	Mean  float64 // seconds
	Count int     // of runs by which it is known; 0: it is not
}

// batch is what was observed of a node in one of several whiles.
type batch struct {
	runs, failures int
	timed          Moments
}

// LinkKey names a link that was seen.
type LinkKey struct {
	From string `json:"from"`
	To   string `json:"to"`
	Type string `json:"type"`
}

// Link is a way that messages or calls were seen to take.
type Link struct {
	Wait, Async bool // a call that is waited for; one that is not
	Messages    int
	PerRun      map[int]int    // how many runs of its source that went well made so many
	PerFailed   map[int]int    // how many that failed
	When        string         // the outcome on which its source says that it sends; empty: it does not say
	Batch       int            // the largest seen
	Tries       int            // the most deliveries of one message of which none went well
	RetryWait   float64        // seconds before the second try, at least; 0: not seen
	Returned    bool           // failed messages came back through a queue that returns them
	Parallel    int            // the most runs at the same time
	GaveUp      int            // messages that failed for good
	Types       map[string]int // of what was taken
	Keys        []string       // objects taken, or written by it, up to mostKeys
}

// Entry is where messages come in from outside.
type Entry struct {
	Times []int64
	Count int // where the times are no longer known
	Keys  []string
}

// Held is what a channel held: messages from when they were sent until the end of their
// last run there.
type Held struct {
	Mean float64 // over the time that was observed
	Max  int
}

const mostKeys = 100_000

// observer gathers what spans say.
type observer struct {
	*Observed
	spans    []Span // as their conventions are understood
	roles    []role
	byID     map[Reference]int
	children map[Reference][]int
	runs     []int             // by span: the run that it is a part of, itself included; -1: none
	worker   map[string]bool   // services that run for something
	serving  map[string]string // services, by the address at which they are called
	orphans  map[string]bool   // services that are called by what sends no spans
	entered  map[string]start  // traces, by what entered first
}

// start is where and when a trace began.
type start struct {
	entry string
	at    int64
}

// ErrNothing says that spans tell of no node.
var ErrNothing = errors.New(
	"the traces hold no producer, consumer, server or client spans, so there is nothing to draw",
)

func newObserved() *Observed {
	return &Observed{
		Nodes:       map[string]*Node{},
		Links:       map[LinkKey]*Link{},
		Entries:     map[string]*Entry{},
		DeadLetters: map[string]string{},
		Skipped:     map[string]int{},
		Latency:     map[[2]string][]float64{},
		Held:        map[string]Held{},
	}
}

// Observe reads spans. They may come in any order.
func Observe(spans []Span) *Observed {
	o := &observer{
		spans:    make([]Span, len(spans)),
		roles:    make([]role, len(spans)),
		byID:     map[Reference]int{},
		children: map[Reference][]int{},
		worker:   map[string]bool{},
		serving:  map[string]string{},
		orphans:  map[string]bool{},
		entered:  map[string]start{},
		Observed: newObserved(),
	}
	o.Spans = len(spans)
	traces := map[string]bool{}
	for i := range spans {
		s, is, why := understand(spans[i])
		o.spans[i], o.roles[i] = s, is
		if why != "" {
			o.Skipped[why]++
		}
		o.byID[Reference{s.Trace, s.ID}] = i
		if s.Parent != "" {
			at := Reference{s.Trace, s.Parent}
			o.children[at] = append(o.children[at], i)
		}
		traces[s.Trace] = true
		if o.From == 0 || s.Start < o.From {
			o.From = s.Start
		}
		o.Until = max(o.Until, s.End)
	}
	o.Traces = len(traces)
	o.findRuns()
	o.findPeers()
	for i := range o.spans {
		o.see(i)
	}
	o.measure()
	o.countPerRun()
	o.countTries()
	o.countParallel()
	o.findRetries()
	o.findDeadLetters()
	o.findCallRetries()
	o.findDelays()
	o.findHandovers()
	o.findStops()
	o.findTopics()
	for _, n := range o.Nodes {
		n.Timed = momentsOf(n.Times)
	}
	return o.Observed
}

// findRuns finds the run that each span is a part of. A receive counts as a run where its
// service has no span of the processing.
func (o *observer) findRuns() {
	processed := map[[2]string]bool{}
	for i := range o.spans {
		if o.roles[i] == processes {
			processed[[2]string{o.spans[i].Service, o.spans[i].Attributes[Destination]}] = true
		}
	}
	for i := range o.spans {
		if s := &o.spans[i]; o.roles[i] == receives && !processed[[2]string{s.Service, s.Attributes[Destination]}] {
			o.roles[i] = processes
			s.Attributes[untimed] = "true"
		}
		if is := o.roles[i]; is == processes || is == serves {
			o.worker[o.spans[i].Service] = true
		}
	}
	o.runs = make([]int, len(o.spans))
	for i := range o.spans {
		o.runs[i] = -1
		at := i
		for range maxNesting {
			if is := o.roles[at]; is == processes || is == serves {
				o.runs[i] = at
				break
			}
			up, ok := o.byID[Reference{o.spans[at].Trace, o.spans[at].Parent}]
			if !ok || o.spans[at].Parent == "" || o.spans[up].Service != o.spans[i].Service {
				break
			}
			at = up
		}
		if s := &o.spans[i]; o.roles[i] == settles && s.Attributes[refused] != "" {
			if run := o.runs[i]; run >= 0 && o.spans[run].Error == "" {
				o.spans[run].Error = "rejected"
			}
		}
	}
}

// maxNesting bounds how deep a span is looked for in a run.
const maxNesting = 100

// untimed marks a run of which the span says nothing about its time.
const untimed = "ironweir.untimed"

// findPeers learns which service answers at which address, and which services are called
// by something without spans of its own.
func (o *observer) findPeers() {
	votes := map[string]map[string]int{}
	lone, all := map[string]int{}, map[string]int{}
	for i := range o.spans {
		s := &o.spans[i]
		if o.roles[i] != serves {
			continue
		}
		all[s.Service]++
		p, ok := o.byID[Reference{s.Trace, s.Parent}]
		switch {
		case s.Parent == "":
		case !ok:
			lone[s.Service]++
		case o.roles[p] == calls:
			name := o.spans[p].peer()
			if votes[name] == nil {
				votes[name] = map[string]int{}
			}
			votes[name][s.Service]++
		}
	}
	for name, services := range votes {
		best := ""
		for service, n := range services {
			if best == "" || n > services[best] || n == services[best] && service < best {
				best = service
			}
		}
		o.serving[name] = best
	}
	for service, n := range lone {
		o.orphans[service] = float64(n) > mostLost*float64(all[service])
	}
}

// mostLost is the share of spans that may be missing from traces: fewer spans than that
// without their parent are lost ones, more come from a caller that is not traced.
const mostLost = 0.1

func (o *observer) parent(s *Span) *Span {
	if i, ok := o.byID[Reference{s.Trace, s.Parent}]; ok && s.Parent != "" {
		return &o.spans[i]
	}
	for _, l := range s.Links { // messaging may link instead of nesting
		if i, ok := o.byID[Reference(l)]; ok {
			return &o.spans[i]
		}
	}
	return nil
}

// sentBy returns the span that sent the message of a run; -1: it is not there.
func (o *observer) sentBy(s *Span) int {
	led := append([]Reference{{s.Trace, s.Parent}}, s.Links...)
	for k := 0; k < len(led) && k < maxNesting; k++ {
		i, ok := o.byID[led[k]]
		switch {
		case !ok || led[k].ID == "":
		case o.roles[i] == sends:
			return i
		case o.roles[i] == receives || o.roles[i] == works:
			led = append(led, Reference{o.spans[i].Trace, o.spans[i].Parent})
			led = append(led, o.spans[i].Links...)
		}
	}
	return -1
}

func (o *observer) node(name string, kind model.Kind, why string, at int64) *Node {
	n := o.Nodes[name]
	if n == nil {
		n = &Node{Name: name, Kind: kind, Why: why, Errors: map[string]int{}, Types: map[string]bool{},
			Partitions: map[string]bool{}, first: at}
		o.Nodes[name] = n
	}
	n.first = min(n.first, at)
	return n
}

// service gives the node of a service: a function, unless it says otherwise.
func (o *observer) service(s *Span) *Node {
	if k := model.Kind(s.Attributes[OwnKind]); k != "" {
		return o.node(s.Service, k, "it says so", s.Start)
	}
	return o.node(s.Service, model.Function, "it takes messages or answers calls", s.Start)
}

func channelOf(s *Span) string {
	if name := s.Attributes[Destination]; name != "" {
		return name
	}
	return s.Attributes[Collection]
}

// channel gives the node of a destination.
func (o *observer) channel(s *Span) *Node {
	name := channelOf(s)
	if name == "" {
		return nil
	}
	kind, why := model.Queue, "a destination of messages of unknown kind"
	switch {
	case s.Attributes[SourceKind] != "":
		kind, why = model.Kind(s.Attributes[SourceKind]), "it says so"
	case s.Attributes[Trigger] == "datasource":
		kind, why = model.Bucket, "a function is triggered by its documents"
	case s.Attributes[Partition] != "":
		kind, why = model.Stream, "it has partitions"
	case s.Attributes[Group] != "":
		kind, why = model.Stream, "it has consumer groups"
	}
	n := o.node(name, kind, why, s.Start)
	if !kind.Leases() && n.Kind.Leases() && n.Why != "it says so" {
		n.Kind, n.Why = kind, why
	}
	if p := s.Attributes[Partition]; p != "" {
		n.Partitions[p] = true
	}
	return n
}

func (o *observer) link(from, to, kind string) *Link {
	key := LinkKey{from, to, kind}
	l := o.Links[key]
	if l == nil {
		l = &Link{PerRun: map[int]int{}, PerFailed: map[int]int{}, Types: map[string]int{}}
		o.Links[key] = l
	}
	return l
}

func (o *observer) enter(name string, s *Span) {
	e := o.Entries[name]
	if e == nil {
		e = &Entry{}
		o.Entries[name] = e
	}
	e.Times = append(e.Times, s.Start)
	if first, ok := o.entered[s.Trace]; !ok || s.Start < first.at {
		o.entered[s.Trace] = start{name, s.Start}
	}
	if key := s.Attributes[DocumentName]; key != "" && len(e.Keys) < mostKeys {
		e.Keys = append(e.Keys, key)
	}
}

func (o *observer) see(i int) {
	s := &o.spans[i]
	switch o.roles[i] {
	case sends:
		o.sent(s)
	case processes:
		o.processed(i)
	case serves:
		o.served(i)
	case calls:
		o.called(s)
	}
}

func (o *observer) sent(s *Span) {
	if s.Attributes[DeadLetter] == "true" {
		if to := o.channel(s); to != nil {
			o.DeadLetters[s.Service] = to.Name
		} else if to := s.Attributes[PeerService]; to != "" {
			o.DeadLetters[s.Service] = to
		}
		return
	}
	to := o.channel(s)
	if to == nil {
		if peer := s.Attributes[PeerService]; peer != "" {
			o.service(s)
			l := o.link(s.Service, peer, s.Attributes[EventType])
			l.Async, l.When = true, s.Attributes[Outcome]
		}
		return
	}
	kind := s.Attributes[EventType]
	to.Types[kind] = true
	if key := s.Attributes[DocumentName]; key != "" && len(to.Keys) < mostKeys {
		to.Keys = append(to.Keys, key)
	}
	if !o.worker[s.Service] { // it only ever sends
		o.enter(to.Name, s)
		return
	}
	o.service(s)
	l := o.link(s.Service, to.Name, kind)
	l.Messages++
	l.When = s.Attributes[Outcome]
	if key := s.Attributes[DocumentName]; key != "" && len(l.Keys) < mostKeys {
		l.Keys = append(l.Keys, key)
	}
}

func (o *observer) processed(i int) {
	s := &o.spans[i]
	n := o.service(s)
	o.ran(n, i)
	from := o.channel(s)
	if from == nil {
		return
	}
	l := o.link(from.Name, s.Service, "")
	l.Messages++
	if batch, err := strconv.Atoi(s.Attributes[BatchCount]); err == nil {
		l.Batch = max(l.Batch, batch)
	}
	kind := s.Attributes[EventType]
	first := s.Attributes[Exchange]
	if k := o.sentBy(s); k >= 0 {
		p := &o.spans[k]
		if kind == "" {
			kind = p.Attributes[EventType]
		}
		if p.Attributes[DeadLetter] == "" && channelOf(p) != "" {
			first = channelOf(p)
		}
		if key := p.Attributes[DocumentName]; key != "" && len(l.Keys) < mostKeys {
			l.Keys = append(l.Keys, key)
		}
	}
	if first != "" && first != from.Name {
		at := *s
		at.Attributes = map[string]string{Destination: first}
		o.channel(&at)
		o.link(first, from.Name, "").Messages++ // the broker passes it on
	}
	l.Types[kind]++
}

func (o *observer) served(i int) {
	s := &o.spans[i]
	p := o.parent(s)
	kind := model.Kind(s.Attributes[OwnKind])
	switch {
	case kind.Answers():
		n := o.service(s)
		n.Method, n.Path = s.Attributes[Method], s.Attributes[Route]
		o.enter(n.Name, s)
		return
	case s.Attributes[Trigger] == "timer":
		o.ran(o.service(s), i)
		name := s.Attributes[Destination]
		if name == "" {
			name = s.Service + "-schedule"
		}
		t := o.node(name, model.Schedule, "a timer starts "+s.Service, s.Start)
		t.Cron = s.Attributes[Cron]
		t.Fires = append(t.Fires, s.Start)
		o.link(name, s.Service, "").Messages++
		return
	}
	o.ran(o.service(s), i)
	if p != nil {
		switch is := o.roles[o.byID[Reference{p.Trace, p.ID}]]; {
		case is == serves && model.Kind(p.Attributes[OwnKind]).Answers(), is == calls && p.Service != s.Service:
			o.link(p.Service, s.Service, "").Wait = true
		case is == sends && p.Service != s.Service:
			o.link(p.Service, s.Service, p.Attributes[EventType]).Async = true
		}
		return
	}
	if s.Attributes[Route] == "" && s.Attributes[URLPath] == "" {
		return
	}
	if s.Parent != "" && !o.orphans[s.Service] {
		o.Skipped["the caller of a request is missing from the traces; it is taken for a lost span"]++
		return
	}
	name := s.Service + "-requests"
	n := o.node(name, model.Endpoint, s.Service+" answers HTTP requests", s.Start)
	n.Method, n.Path = s.Attributes[Method], s.Attributes[Route]
	if n.Path == "" {
		n.Path = s.Attributes[URLPath]
	}
	o.enter(name, s)
	o.link(name, s.Service, "").Wait = true
}

// called sees a client: what it calls is outside if it has no spans of its own.
func (o *observer) called(s *Span) {
	peer := s.peer()
	if o.worker[peer] || o.serving[peer] != "" {
		return // its own spans say more, but for the few that are lost
	}
	for _, i := range o.children[Reference{s.Trace, s.ID}] {
		if o.roles[i] == serves {
			return
		}
	}
	o.service(s)
	why := "it is called and sends no spans itself"
	if s.Attributes[DatabaseSystem] != "" {
		why = "it is called as a database"
	}
	n := o.node(peer, model.Outside, why, s.Start)
	n.Runs++
	one := seenRun{start: s.Start, took: float64(s.End-s.Start) * 1e-9, failed: s.Error != ""}
	n.seen = append(n.seen, one)
	if one.failed {
		n.Failed++
		n.Failures++
		n.Errors[s.Error]++
	} else {
		n.Times = append(n.Times, one.took)
	}
	o.link(s.Service, peer, "").Wait = true
}

// within lists the spans that are part of a run.
func (o *observer) within(run int) []int {
	var out []int
	for list := o.children[Reference{o.spans[run].Trace, o.spans[run].ID}]; len(list) > 0 &&
		len(out) < len(o.spans); list = list[1:] {
		if i := list[0]; o.runs[i] == run {
			out = append(out, i)
			if o.roles[i] == works {
				list = append(append([]int(nil), list...), o.children[Reference{o.spans[i].Trace, o.spans[i].ID}]...)
			}
		}
	}
	return out
}

// underway gives how long a call and its answer were underway: what the call took longer than the run that served it,
// where that was seen. Clocks of two machines may differ, lengths do not.
func (o *observer) underway(call *Span) int64 {
	for _, i := range o.children[Reference{call.Trace, call.ID}] {
		if served := &o.spans[i]; o.roles[i] == serves {
			return max(call.End-call.Start-(served.End-served.Start), 0)
		}
	}
	return 0
}

// ran counts a run: its own time is its span less the runs that it waits for, wherever
// in it they are called, and the pauses before a failed call is made again; its failure
// is its own unless the last call to somebody failed.
func (o *observer) ran(n *Node, run int) {
	n.Runs++
	s := &o.spans[run]
	var waits [][2]int64
	var made []*Span
	for _, i := range o.within(run) {
		if o.roles[i] == calls {
			made = append(made, &o.spans[i])
		}
	}
	sort.Slice(made, func(i, j int) bool { return made[i].Start < made[j].Start })
	last := map[string]*Span{}
	for _, c := range made {
		peer := c.peer()
		from := max(c.Start, s.Start)
		if before := last[peer]; before != nil && before.Error != "" {
			from = min(from, before.End) // the pause before another try is no work
		}
		waits = append(waits, [2]int64{from, min(c.End-o.underway(c), s.End)})
		last[peer] = c
	}
	calledBadly := false
	for _, c := range last {
		calledBadly = calledBadly || c.Error != ""
	}
	sort.Slice(waits, func(i, j int) bool { return waits[i][0] < waits[j][0] })
	own, until := s.End-s.Start, s.Start
	for _, w := range waits {
		if from := max(w[0], until); w[1] > from {
			own -= w[1] - from
			until = w[1]
		}
	}
	if s.Error != "" {
		n.Failed++
	}
	one := seenRun{start: s.Start, took: float64(own) * 1e-9}
	switch {
	case s.Error == "" && s.Attributes[untimed] != "":
		one.untimed = true
	case s.Error == "":
		n.Times = append(n.Times, one.took)
	case calledBadly:
		one.byCall = true
	default:
		n.Failures++
		n.Errors[s.Error]++
		one.failed = true
	}
	n.seen = append(n.seen, one)
}

// countPerRun counts how many messages each run made by each link, and how many runs made a call.
func (o *observer) countPerRun() {
	for run := range o.spans {
		s := &o.spans[run]
		if o.runs[run] != run || model.Kind(s.Attributes[OwnKind]).Answers() {
			continue
		}
		made := map[LinkKey]int{}
		for _, i := range o.within(run) {
			c := &o.spans[i]
			switch {
			case o.roles[i] == sends && c.Attributes[DeadLetter] == "":
				to := channelOf(c)
				if to == "" {
					to = c.Attributes[PeerService]
				}
				made[LinkKey{s.Service, to, c.Attributes[EventType]}]++
			case o.roles[i] == calls:
				to := c.peer()
				if service := o.serving[to]; service != "" {
					to = service
				}
				made[LinkKey{s.Service, to, ""}] = 1 // its tries are one call
			}
		}
		for key, n := range made {
			switch l := o.Links[key]; {
			case l == nil:
			case s.Error != "":
				l.PerFailed[n]++
			default:
				l.PerRun[n]++
			}
		}
	}
}
