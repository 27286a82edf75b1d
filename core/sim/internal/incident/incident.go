// Package incident changes what nodes and links do for a while: the incidents of a scenario, and breakdowns.
package incident

import (
	"fmt"
	"maps"
	"slices"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/random"
)

// Incidents change what nodes and links do for a while.
type Incidents struct {
	*engine.Engine
	list []incident
}

// New makes the incidents of a replication.
func New(e *engine.Engine) *Incidents { return &Incidents{Engine: e} }

// incident is something that happens to nodes or a link for a while; a breakdown
// happens again and again.
type incident struct {
	spec   *model.Incident
	breaks *breakdown // nil: the scenario states when
	nodes  []int
	link   int32
	on     bool
	order  int // of those that are on, the latest start holds
	back   int32
	backTo int32
	gap    int64
}

func (e *Incidents) SetUp() error {
	for k, spec := range e.Scenario.Incidents {
		if err := e.setUpRewind(spec); err != nil {
			return err
		}
		in := e.newIncident(spec, k)
		for _, id := range append(in.nodes, max(int(in.back), 0), max(int(in.backTo), 0)) {
			if id == graph.None {
				return fmt.Errorf("incident %s: it names a node that the model does not have", spec.Name)
			}
		}
		e.list = append(e.list, in)
		if int64(spec.At) >= e.End {
			continue
		}
		e.First(int64(spec.At), engine.EvIncident, uint32(k))
		if spec.For > 0 && int64(spec.At+spec.For) < e.End {
			e.First(int64(spec.At+spec.For), engine.EvIncident, uint32(k))
		}
	}
	if e.Scenario.Breakdowns && !e.Follows() {
		e.setUpBreakdowns()
	}
	return nil
}

// Begin starts an incident that the scenario does not have, now, and gives its number.
func (e *Incidents) Begin(spec *model.Incident) int {
	e.list = append(e.list, e.newIncident(spec, len(e.list)))
	k := len(e.list) - 1
	e.Turn(k)
	return k
}

// Active reports whether an incident is on now.
func (e *Incidents) Active(k int) bool { return e.list[k].on }

// breakdown is how a node or group breaks down by itself.
type breakdown struct {
	every, lasts random.Sampler
	random       *random.Stream
}

// next draws the instant after a time of one distribution; it is past the end where
// nothing happens in the run any more.
func (b *breakdown) next(e *Incidents, s *random.Sampler) int64 {
	if t := s.Draw(b.random); t < float64(e.End-e.Now)*1e-9 {
		return e.Now + max(random.Nanos(t), 1)
	}
	return e.End
}

// setUpBreakdowns draws the first breakdown of each node and group that has `breaks`
// [IN-24].
func (e *Incidents) setUpBreakdowns() {
	add := func(spec *model.Incident, b *model.Breaks) {
		all := 1.0
		spec.Fails = &all
		in := e.newIncident(spec, len(e.list))
		luck := e.Stream(spec.Node+spec.Group, "breakdowns")
		in.breaks = &breakdown{random.NewSampler(b.Every), random.NewSampler(b.For), luck}
		e.list = append(e.list, in)
		if at := in.breaks.next(e, &in.breaks.every); at < e.End {
			e.First(at, engine.EvIncident, uint32(len(e.list)-1))
		}
	}
	for _, n := range e.Graph.Nodes {
		if n.Breaks != nil {
			add(&model.Incident{Name: n.Name, Node: n.Name}, n.Breaks)
		}
	}
	groups := e.Graph.Topology.GroupBreaks
	for _, name := range slices.Sorted(maps.Keys(groups)) {
		add(&model.Incident{Name: name, Group: name}, groups[name])
	}
}

// continues schedules the end of a breakdown that has begun, or the next one.
func (e *Incidents) continues(k int) {
	in := &e.list[k]
	s := &in.breaks.every
	if in.on {
		s = &in.breaks.lasts
	}
	if at := in.breaks.next(e, s); at < e.End {
		e.Schedule(at, engine.EvIncident, uint32(k))
	}
}

// newIncident finds what an incident bears on.
func (e *Incidents) newIncident(spec *model.Incident, order int) incident {
	in := incident{spec: spec, link: -1, order: order}
	if spec.Node != "" {
		in.nodes = append(in.nodes, e.Graph.NodeID(spec.Node))
	}
	for _, name := range e.Graph.Topology.FailsTogether[spec.Group] {
		in.nodes = append(in.nodes, e.Graph.NodeID(name))
	}
	if spec.Link != "" {
		in.link = int32(e.Graph.LinkID(spec.Link))
	}
	if sb := spec.SendBack; sb != nil {
		in.back, in.backTo, in.gap = int32(e.Graph.NodeID(sb.From)), int32(e.Graph.NodeID(sb.To)), int64(1e9/sb.Rate)
	}
	return in
}

// setUpRewind lets the reader that an incident sets back remember what it read.
func (e *Incidents) setUpRewind(spec *model.Incident) error {
	rw := spec.Rewind
	if rw == nil {
		return nil
	}
	link := e.Graph.LinkID(rw.Link)
	if link == graph.None || e.FeedOf[link] < 0 {
		return fmt.Errorf(
			"incident %s: %q is not a link that reads a stream or a table; only such a reader can be rewound",
			spec.Name,
			rw.Link,
		)
	}
	f := e.Nodes[e.FeedOf[link]].Queue.Feed
	if f.History == nil {
		f.History = &engine.History{}
	}
	f.History.Span = max(f.History.Span, int64(rw.By))
	f.History.Until = max(f.History.Until, int64(spec.At))
	return nil
}

// Turn comes when an incident starts, and again when it ends.
func (e *Incidents) Turn(k int) {
	in := &e.list[k]
	in.on = !in.on
	if in.breaks != nil {
		e.continues(k)
	}
	if in.spec.Crash {
		in.on = false
		for _, id := range in.nodes {
			e.Crash(id)
		}
		return
	}
	if rw := in.spec.Rewind; rw != nil {
		if in.on {
			e.Rewind(&e.Nodes[e.FeedOf[e.Graph.LinkID(rw.Link)]], int64(rw.By))
		}
		return
	}
	if in.spec.SendBack != nil {
		if in.on {
			e.SendBack(k)
		}
		return
	}
	if in.on { // of two on one field the later one holds
		top := 0
		for i := range e.list {
			top = max(top, e.list[i].order)
		}
		in.order = top + 1
	}
	for _, id := range in.nodes {
		e.applyIncidents(id)
	}
	if in.link >= 0 {
		e.applyToLink(in.link)
	}
	e.BindFastPath()
}

// applyIncidents sets what is active at a node, from all incidents that are
// on, the latest last.
func (e *Incidents) applyIncidents(id int) {
	n := &e.Nodes[id]
	n.FailsNowShare, n.ReadsFail, n.Slow, n.ConcurrencyNow = -1, 0, 1, -1
	stopped := false
	if n.Kind.Fires() {
		n.Off = !e.Graph.Nodes[id].Enabled
	}
	var fails, slow, concurrency, enabled, stops int = -1, -1, -1, -1, -1
	for k := range e.list {
		in := &e.list[k]
		if !in.on || !in.hits(id) {
			continue
		}
		if in.spec.Fails != nil && in.order > fails {
			fails, n.FailsNowShare, n.ReadsFail = in.order, *in.spec.Fails, 0
			if in.spec.Reads {
				n.ReadsFail = *in.spec.Fails
			}
		}
		if in.spec.Slow != nil && in.order > slow {
			slow, n.Slow = in.order, *in.spec.Slow
		}
		if in.spec.Concurrency != nil && in.order > concurrency {
			concurrency, n.ConcurrencyNow = in.order, int64(*in.spec.Concurrency)
		}
		if in.spec.Enabled != nil && in.order > enabled {
			enabled, n.Off = in.order, !*in.spec.Enabled
		}
		if in.spec.Stopped != nil && in.order > stops {
			stops, stopped = in.order, *in.spec.Stopped
		}
	}
	if n.Stopped == stopped {
		return
	}
	e.TurnProcess(id, stopped)
	for _, link := range e.Graph.Nodes[id].In {
		e.applyToLink(int32(link))
	}
}

func (in *incident) hits(id int) bool {
	for _, n := range in.nodes {
		if n == id {
			return true
		}
	}
	return false
}

// applyToLink sets whether a link is paused or switched off. Its readers take nothing
// then, nor while the process that they belong to is stopped; what it held goes on when
// it is resumed.
func (e *Incidents) applyToLink(link int32) {
	l := &e.Graph.Links[link]
	paused, enabled := false, !l.Disabled
	pauses, switches := -1, -1
	for k := range e.list {
		in := &e.list[k]
		if !in.on || in.link != link {
			continue
		}
		if in.spec.Paused != nil && in.order > pauses {
			pauses, paused = in.order, *in.spec.Paused
		}
		if in.spec.Enabled != nil && in.order > switches {
			switches, enabled = in.order, *in.spec.Enabled
		}
	}
	d := &e.Deliveries[link]
	was := d.Paused
	d.Off, d.Halted = !enabled, paused
	if l.Relation.Polls() { // [IN-08] [IN-11]
		paused = paused || d.Off || e.Nodes[l.To].Stopped
	}
	d.Paused = paused
	from := &e.Nodes[l.From]
	feed := e.FeedOf[link]
	switch {
	case paused == was:
	case feed >= 0 && paused:
		e.PauseFeed(&e.Nodes[feed])
	case feed >= 0:
		e.ResumeFeed(&e.Nodes[feed])
	case paused && from.Queue != nil:
		// A batch that is filling runs with what it has.
		for _, rl := range from.Queue.Links {
			for rl.Delivery == d && len(rl.Filling) > 0 {
				e.StartBatch(rl.Filling[0])
			}
		}
	case !paused:
		if from.Queue != nil {
			e.WantPull(from)
		}
		for _, i := range d.Held {
			e.WaitsNoMore(e.Copies.At(i))
			e.ScheduleNow(engine.EvTry, i)
		}
		d.Held = d.Held[:0]
	}
}

// SendBack moves the oldest message of a queue on, then waits for the next.
func (e *Incidents) SendBack(k int) {
	in := &e.list[k]
	if !in.on {
		return
	}
	if e.Now+in.gap < e.End {
		e.Schedule(e.Now+in.gap, engine.EvSendBack, uint32(k))
	}
	n := &e.Nodes[in.back]
	i := n.Queue.Ages.Head
	for i != 0 && (e.InFlightOf(e.Copies.At(i)).Busy > 0 || e.Copies.At(i).Flags&engine.Duplicate != 0) {
		i = e.Copies.At(i).Younger
	}
	if i == 0 {
		return
	}
	e.SendOn(i, &e.Nodes[in.backTo])
	e.LeaveQueue(n, i, engine.Passed)
}

// SendOn sends the message that a copy is to another node, as fresh as when it
// first came.
func (e *Incidents) SendOn(i uint32, to *engine.Node) {
	m := e.MessageOf(e.Copies.At(i))
	m.Tries = 0
	e.Deliver(to.OwnWay, &m, m.Content, 0)
}

// Squeezes reports whether an incident of the scenario changes a node's concurrency.
func (e *Incidents) Squeezes(id int) bool {
	for k := range e.list {
		if e.list[k].spec.Concurrency != nil && e.list[k].hits(id) {
			return true
		}
	}
	return false
}
