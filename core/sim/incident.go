package sim

import (
	"fmt"
	"maps"
	"slices"

	"ironweir/core/sim/internal/random"

	"ironweir/core/graph"
	"ironweir/core/model"
)

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

func (e *engine) setUpIncidents() error {
	for k, spec := range e.scenario.Incidents {
		if err := e.setUpRewind(spec); err != nil {
			return err
		}
		in := e.newIncident(spec, k)
		for _, id := range append(in.nodes, max(int(in.back), 0), max(int(in.backTo), 0)) {
			if id == graph.None {
				return fmt.Errorf("incident %s: it names a node that the model does not have", spec.Name)
			}
		}
		e.incidents = append(e.incidents, in)
		if int64(spec.At) >= e.end {
			continue
		}
		e.First(int64(spec.At), evIncident, uint32(k))
		if spec.For > 0 && int64(spec.At+spec.For) < e.end {
			e.First(int64(spec.At+spec.For), evIncident, uint32(k))
		}
	}
	if e.scenario.Breakdowns && e.plan.follow == nil {
		e.setUpBreakdowns()
	}
	return nil
}

// breakdown is how a node or group breaks down by itself.
type breakdown struct {
	every, lasts random.Sampler
	random       *random.Stream
}

// next draws the instant after a time of one distribution; it is past the end where
// nothing happens in the run any more.
func (b *breakdown) next(e *engine, s *random.Sampler) int64 {
	if t := s.Draw(b.random); t < float64(e.end-e.Now)*1e-9 {
		return e.Now + max(random.Nanos(t), 1)
	}
	return e.end
}

// setUpBreakdowns draws the first breakdown of each node and group that has `breaks`
// [IN-24].
func (e *engine) setUpBreakdowns() {
	add := func(spec *model.Incident, b *model.Breaks) {
		all := 1.0
		spec.Fails = &all
		in := e.newIncident(spec, len(e.incidents))
		luck := e.stream(spec.Node+spec.Group, "breakdowns")
		in.breaks = &breakdown{random.NewSampler(b.Every), random.NewSampler(b.For), luck}
		e.incidents = append(e.incidents, in)
		if at := in.breaks.next(e, &in.breaks.every); at < e.end {
			e.First(at, evIncident, uint32(len(e.incidents)-1))
		}
	}
	for _, n := range e.g.Nodes {
		if n.Breaks != nil {
			add(&model.Incident{Name: n.Name, Node: n.Name}, n.Breaks)
		}
	}
	groups := e.g.Topology.GroupBreaks
	for _, name := range slices.Sorted(maps.Keys(groups)) {
		add(&model.Incident{Name: name, Group: name}, groups[name])
	}
}

// continues schedules the end of a breakdown that has begun, or the next one.
func (e *engine) continues(k int) {
	in := &e.incidents[k]
	s := &in.breaks.every
	if in.on {
		s = &in.breaks.lasts
	}
	if at := in.breaks.next(e, s); at < e.end {
		e.Schedule(at, evIncident, uint32(k))
	}
}

// newIncident finds what an incident bears on.
func (e *engine) newIncident(spec *model.Incident, order int) incident {
	in := incident{spec: spec, link: -1, order: order}
	if spec.Node != "" {
		in.nodes = append(in.nodes, e.g.NodeID(spec.Node))
	}
	for _, name := range e.g.Topology.FailsTogether[spec.Group] {
		in.nodes = append(in.nodes, e.g.NodeID(name))
	}
	if spec.Link != "" {
		in.link = int32(e.g.LinkID(spec.Link))
	}
	if sb := spec.SendBack; sb != nil {
		in.back, in.backTo, in.gap = int32(e.g.NodeID(sb.From)), int32(e.g.NodeID(sb.To)), int64(1e9/sb.Rate)
	}
	return in
}

// setUpRewind lets the reader that an incident sets back remember what it read.
func (e *engine) setUpRewind(spec *model.Incident) error {
	rw := spec.Rewind
	if rw == nil {
		return nil
	}
	link := e.g.LinkID(rw.Link)
	if link == graph.None || e.feedOf[link] < 0 {
		return fmt.Errorf(
			"incident %s: %q is not a link that reads a stream or a table; only such a reader can be rewound",
			spec.Name,
			rw.Link,
		)
	}
	f := e.nodes[e.feedOf[link]].queue.feed
	if f.history == nil {
		f.history = &history{}
	}
	f.history.span = max(f.history.span, int64(rw.By))
	f.history.until = max(f.history.until, int64(spec.At))
	return nil
}

// incidentTurns comes when an incident starts, and again when it ends.
func (e *engine) incidentTurns(k int) {
	in := &e.incidents[k]
	in.on = !in.on
	if in.breaks != nil {
		e.continues(k)
	}
	if in.spec.Crash {
		in.on = false
		for _, id := range in.nodes {
			e.crash(id)
		}
		return
	}
	if rw := in.spec.Rewind; rw != nil {
		if in.on {
			e.rewind(&e.nodes[e.feedOf[e.g.LinkID(rw.Link)]], int64(rw.By))
		}
		return
	}
	if in.spec.SendBack != nil {
		if in.on {
			e.sendBack(k)
		}
		return
	}
	if in.on { // of two on one field the later one holds
		top := 0
		for i := range e.incidents {
			top = max(top, e.incidents[i].order)
		}
		in.order = top + 1
	}
	for _, id := range in.nodes {
		e.applyIncidents(id)
	}
	if in.link >= 0 {
		e.applyToLink(in.link)
	}
	e.bindFastPath()
}

// applyIncidents sets what is in force at a node, from all incidents that are
// on, the latest last.
func (e *engine) applyIncidents(id int) {
	n := &e.nodes[id]
	n.failsNowShare, n.readsFail, n.slow, n.concurrencyNow = -1, 0, 1, -1
	stopped := false
	if n.schedule != nil {
		n.off = !n.schedule.enabled
	}
	var fails, slow, concurrency, enabled, stops int = -1, -1, -1, -1, -1
	for k := range e.incidents {
		in := &e.incidents[k]
		if !in.on || !in.hits(id) {
			continue
		}
		if in.spec.Fails != nil && in.order > fails {
			fails, n.failsNowShare, n.readsFail = in.order, *in.spec.Fails, 0
			if in.spec.Reads {
				n.readsFail = *in.spec.Fails
			}
		}
		if in.spec.Slow != nil && in.order > slow {
			slow, n.slow = in.order, *in.spec.Slow
		}
		if in.spec.Concurrency != nil && in.order > concurrency {
			concurrency, n.concurrencyNow = in.order, int64(*in.spec.Concurrency)
		}
		if in.spec.Enabled != nil && in.order > enabled {
			enabled, n.off = in.order, !*in.spec.Enabled
		}
		if in.spec.Stopped != nil && in.order > stops {
			stops, stopped = in.order, *in.spec.Stopped
		}
	}
	e.turnProcess(id, stopped)
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
func (e *engine) applyToLink(link int32) {
	l := &e.g.Links[link]
	paused, enabled := false, !l.Disabled
	pauses, switches := -1, -1
	for k := range e.incidents {
		in := &e.incidents[k]
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
	d := &e.deliveries[link]
	was := d.paused
	d.off, d.halted = !enabled, paused
	if l.Relation.Polls() { // [IN-08] [IN-11]
		paused = paused || d.off || e.nodes[l.To].stopped
	}
	d.paused = paused
	from := &e.nodes[l.From]
	feed := e.feedOf[link]
	switch {
	case paused == was:
	case feed >= 0 && paused:
		e.pauseFeed(&e.nodes[feed])
	case feed >= 0:
		e.resumeFeed(&e.nodes[feed])
	case paused && from.queue != nil:
		// A batch that is filling runs with what it has.
		for _, rl := range from.queue.links {
			for rl.delivery == d && len(rl.filling) > 0 {
				e.startBatch(rl.filling[0])
			}
		}
	case !paused:
		if from.queue != nil {
			e.wantPull(from)
		}
		for _, i := range d.held {
			e.waitsNoMore(e.copies.At(i))
			e.ScheduleNow(evTry, i)
		}
		d.held = d.held[:0]
	}
}

// sendBack moves the oldest message of a queue on, then waits for the next.
func (e *engine) sendBack(k int) {
	in := &e.incidents[k]
	if !in.on {
		return
	}
	if e.Now+in.gap < e.end {
		e.Schedule(e.Now+in.gap, evSendBack, uint32(k))
	}
	n := &e.nodes[in.back]
	i := n.queue.ages.head
	for i != 0 && (e.inFlightOf(e.copies.At(i)).busy > 0 || e.copies.At(i).flags&duplicate != 0) {
		i = e.copies.At(i).younger
	}
	if i == 0 {
		return
	}
	e.sendOn(i, &e.nodes[in.backTo])
	e.leaveQueue(n, i, Passed)
}

// sendOn sends the message that a copy is to another node, as fresh as when it
// first came.
func (e *engine) sendOn(i uint32, to *node) {
	m := e.messageOf(e.copies.At(i))
	m.tries = 0
	e.deliver(to.ownWay, &m, m.content, 0)
}
