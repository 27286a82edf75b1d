package learn

import (
	"errors"
	"sort"
	"strconv"

	"ironweir/core/model"
)

// Observed is what spans say about a system, by the names that it uses itself.
type Observed struct {
	Nodes       map[string]*Node
	Links       map[LinkKey]*Link
	Entries     map[string]*Entry
	DeadLetters map[string]string // by the channel or function that gave a message up
	Spans       int
	Traces      int
	From, Until int64 // of the first and the last span, nanoseconds since 1970
}

// Node is something that was seen.
type Node struct {
	Name     string
	Kind     model.Kind
	Why      string // the evidence for its kind
	Runs     int
	Failures int            // by itself, not by a call
	Errors   map[string]int // of its own failures
	Times    []float64      // seconds of its own work, of runs that went well
	Cron     string
	Fires    []int64 // starts, of a schedule
	Method   string
	Path     string
	Keys     []string // objects seen, up to mostKeys
	Types    map[string]bool
	first    int64
}

// LinkKey names a link that was seen.
type LinkKey struct{ From, To, Type string }

// Link is a way that messages or calls were seen to take.
type Link struct {
	Wait, Async bool // a call that is waited for; one that is not
	Messages    int
	PerRun      map[int]int    // how many runs of its source made so many
	Batch       int            // the largest seen
	Tries       int            // the most hand-outs of one message that never went well
	Types       map[string]int // of what was taken
	Keys        []string       // objects taken, or written by it, up to mostKeys
}

// Entry is where messages come in from outside.
type Entry struct {
	Times []int64
	Keys  []string
}

const mostKeys = 100_000

// observer gathers what spans say.
type observer struct {
	*Observed
	spans    []Span
	byID     map[Reference]int
	children map[Reference][]int
	worker   map[string]bool // services that take or answer something
}

// ErrNothing says that spans tell of no node.
var ErrNothing = errors.New("the traces hold no producer, consumer, server or client spans, so there is nothing to draw")

// Observe reads spans. They may come in any order.
func Observe(spans []Span) *Observed {
	o := &observer{spans: spans, byID: map[Reference]int{}, children: map[Reference][]int{}, worker: map[string]bool{},
		Observed: &Observed{Nodes: map[string]*Node{}, Links: map[LinkKey]*Link{}, Entries: map[string]*Entry{}, DeadLetters: map[string]string{}, Spans: len(spans)}}
	traces := map[string]bool{}
	for i := range spans {
		s := &spans[i]
		o.byID[Reference{s.Trace, s.ID}] = i
		if s.Parent != "" {
			at := Reference{s.Trace, s.Parent}
			o.children[at] = append(o.children[at], i)
		}
		if s.Kind == Consumer || s.Kind == Server {
			o.worker[s.Service] = true
		}
		traces[s.Trace] = true
		if o.From == 0 || s.Start < o.From {
			o.From = s.Start
		}
		o.Until = max(o.Until, s.End)
	}
	o.Traces = len(traces)
	for i := range spans {
		o.see(&spans[i])
	}
	o.countPerRun()
	o.countTries()
	o.guessTopics()
	return o.Observed
}

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

func (o *observer) node(name string, kind model.Kind, why string, at int64) *Node {
	n := o.Nodes[name]
	if n == nil {
		n = &Node{Name: name, Kind: kind, Why: why, Errors: map[string]int{}, Types: map[string]bool{}, first: at}
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

// channel gives the node of a destination.
func (o *observer) channel(s *Span) *Node {
	name := s.Attributes[Destination]
	if name == "" {
		name = s.Attributes[Collection]
	}
	if name == "" {
		return nil
	}
	kind, why := model.Queue, "a destination of messages; nothing tells what it is"
	switch {
	case s.Attributes[SourceKind] != "":
		kind, why = model.Kind(s.Attributes[SourceKind]), "it says so"
	case s.Attributes[Trigger] == "datasource":
		kind, why = model.Bucket, "a function is triggered by its documents"
	case s.Attributes[Partition] != "":
		kind, why = model.Stream, "it has partitions"
	}
	n := o.node(name, kind, why, s.Start)
	if kind != model.Queue && n.Kind == model.Queue && n.Why != "it says so" {
		n.Kind, n.Why = kind, why
	}
	return n
}

func (o *observer) link(from, to, kind string) *Link {
	key := LinkKey{from, to, kind}
	l := o.Links[key]
	if l == nil {
		l = &Link{PerRun: map[int]int{}, Types: map[string]int{}}
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
	if key := s.Attributes[DocumentName]; key != "" && len(e.Keys) < mostKeys {
		e.Keys = append(e.Keys, key)
	}
}

func (o *observer) see(s *Span) {
	switch s.Kind {
	case Producer:
		o.produced(s)
	case Consumer:
		o.consumed(s)
	case Server:
		o.served(s)
	case Client:
		o.called(s)
	}
}

func (o *observer) produced(s *Span) {
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
			o.link(s.Service, peer, s.Attributes[EventType]).Async = true
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
	if key := s.Attributes[DocumentName]; key != "" && len(l.Keys) < mostKeys {
		l.Keys = append(l.Keys, key)
	}
}

func (o *observer) consumed(s *Span) {
	n := o.service(s)
	o.ran(n, s)
	from := o.channel(s)
	if from == nil {
		return
	}
	l := o.link(from.Name, s.Service, "")
	l.Messages++
	if batch, err := strconv.Atoi(s.Attributes[BatchCount]); err == nil {
		l.Batch = max(l.Batch, batch)
	}
	p := o.parent(s)
	kind := s.Attributes[EventType]
	if p != nil && p.Kind == Producer {
		if kind == "" {
			kind = p.Attributes[EventType]
		}
		if first := p.Attributes[Destination]; first != "" && first != from.Name && p.Attributes[DeadLetter] == "" {
			o.link(first, from.Name, "").Messages++ // the platform moves it on
		}
		if key := p.Attributes[DocumentName]; key != "" && len(l.Keys) < mostKeys {
			l.Keys = append(l.Keys, key)
		}
	}
	l.Types[kind]++
}

func (o *observer) served(s *Span) {
	p := o.parent(s)
	kind := model.Kind(s.Attributes[OwnKind])
	switch {
	case kind == model.Endpoint:
		n := o.service(s)
		n.Method, n.Path = s.Attributes[Method], s.Attributes[Route]
		o.enter(n.Name, s)
		return
	case s.Attributes[Trigger] == "timer":
		o.ran(o.service(s), s)
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
	o.ran(o.service(s), s)
	switch {
	case p != nil && p.Kind == Server && model.Kind(p.Attributes[OwnKind]) == model.Endpoint:
		o.link(p.Service, s.Service, "").Wait = true
	case p != nil && p.Kind == Client && p.Service != s.Service:
		o.link(p.Service, s.Service, "").Wait = true
	case p != nil && p.Kind == Producer && p.Service != s.Service:
		o.link(p.Service, s.Service, p.Attributes[EventType]).Async = true
	case p == nil && (s.Attributes[Route] != "" || s.Attributes[URLPath] != ""):
		name := s.Service + "-requests"
		n := o.node(name, model.Endpoint, s.Service+" answers HTTP requests", s.Start)
		n.Method, n.Path = s.Attributes[Method], s.Attributes[Route]
		if n.Path == "" {
			n.Path = s.Attributes[URLPath]
		}
		o.enter(name, s)
		o.link(name, s.Service, "").Wait = true
	}
}

// called sees a client: what it calls is outside if it has no spans of its own.
func (o *observer) called(s *Span) {
	peer := s.Attributes[PeerService]
	if peer == "" {
		peer = s.Attributes[ServerAddress]
	}
	if peer == "" {
		return
	}
	if o.worker[peer] {
		return // its own span says more
	}
	for _, i := range o.children[Reference{s.Trace, s.ID}] {
		if c := &o.spans[i]; c.Kind == Server {
			return
		}
	}
	o.service(s)
	n := o.node(peer, model.Outside, "it is called and sends no spans itself", s.Start)
	n.Runs++
	if s.Error != "" {
		n.Failures++
		n.Errors[s.Error]++
	} else {
		n.Times = append(n.Times, float64(s.End-s.Start)*1e-9)
	}
	o.link(s.Service, peer, "").Wait = true
}

// ran counts a run: its own time is its span less the calls that it waits for;
// its failure is its own unless a call of it failed.
func (o *observer) ran(n *Node, s *Span) {
	n.Runs++
	var waits [][2]int64
	calledBadly := false
	for _, i := range o.children[Reference{s.Trace, s.ID}] {
		if c := &o.spans[i]; c.Kind == Client {
			waits = append(waits, [2]int64{max(c.Start, s.Start), min(c.End, s.End)})
			calledBadly = calledBadly || c.Error != ""
		}
	}
	sort.Slice(waits, func(i, j int) bool { return waits[i][0] < waits[j][0] })
	own, until := s.End-s.Start, s.Start
	for _, w := range waits {
		if from := max(w[0], until); w[1] > from {
			own -= w[1] - from
			until = w[1]
		}
	}
	switch {
	case s.Error == "":
		n.Times = append(n.Times, float64(own)*1e-9)
	case !calledBadly:
		n.Failures++
		n.Errors[s.Error]++
	}
}

// countPerRun counts how many messages each run that went well made by each
// link, and how many runs made a call.
func (o *observer) countPerRun() {
	for i := range o.spans {
		s := &o.spans[i]
		if s.Error != "" || s.Kind != Consumer && s.Kind != Server || model.Kind(s.Attributes[OwnKind]) == model.Endpoint {
			continue
		}
		made := map[LinkKey]int{}
		for _, k := range o.children[Reference{s.Trace, s.ID}] {
			c := &o.spans[k]
			to := c.Attributes[Destination]
			if to == "" {
				if to = c.Attributes[PeerService]; to == "" {
					to = c.Attributes[ServerAddress]
				}
			}
			switch {
			case c.Kind == Producer && c.Attributes[DeadLetter] == "":
				made[LinkKey{s.Service, to, c.Attributes[EventType]}]++
			case c.Kind == Client:
				made[LinkKey{s.Service, to, ""}] = 1 // its tries are one call
			}
		}
		for key, n := range made {
			if l := o.Links[key]; l != nil {
				l.PerRun[n]++
			}
		}
	}
}

// countTries finds the most hand-outs of one message that never went well.
func (o *observer) countTries() {
	type taken struct{ from, to, id string }
	failed, well := map[taken]int{}, map[taken]bool{}
	for i := range o.spans {
		s := &o.spans[i]
		if s.Kind != Consumer || s.Attributes[MessageID] == "" {
			continue
		}
		from := s.Attributes[Destination]
		if from == "" {
			from = s.Attributes[Collection]
		}
		key := taken{from, s.Service, s.Trace + s.Attributes[MessageID]}
		if s.Error != "" {
			failed[key]++
		} else {
			well[key] = true
		}
	}
	for key, n := range failed {
		if l := o.Links[LinkKey{key.from, key.to, ""}]; l != nil && !well[key] {
			l.Tries = max(l.Tries, n)
		}
	}
}

// guessTopics takes a destination for a topic where one message was processed by
// several services.
func (o *observer) guessTopics() {
	takers := map[[2]string]map[string]bool{}
	for i := range o.spans {
		s := &o.spans[i]
		if p := o.parent(s); s.Kind == Consumer && p != nil && p.Kind == Producer {
			key := [2]string{s.Attributes[Destination], p.Trace + p.ID}
			if takers[key] == nil {
				takers[key] = map[string]bool{}
			}
			takers[key][s.Service] = true
		}
	}
	for key, services := range takers {
		if n := o.Nodes[key[0]]; n != nil && len(services) > 1 && n.Kind == model.Queue && n.Why != "it says so" {
			n.Kind, n.Why = model.Topic, "one message was taken by several services"
		}
	}
}
