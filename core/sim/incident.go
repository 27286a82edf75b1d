package sim

import (
	"fmt"

	"ironweir/core/graph"
	"ironweir/core/model"
)

// incident is something that happens to nodes or a link for a while.
type incident struct {
	spec   *model.Incident
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
		e.first(int64(spec.At), evIncident, uint32(k))
		if spec.For > 0 && int64(spec.At+spec.For) < e.end {
			e.first(int64(spec.At+spec.For), evIncident, uint32(k))
		}
	}
	return nil
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
		return fmt.Errorf("incident %s: %q is not a link that reads a stream or a table; only such a reader can be set back", spec.Name, rw.Link)
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
		e.applyPauses(in.link)
	}
	e.inForce()
}

// applyIncidents sets what is in force at a node, from all incidents that are
// on, the latest last.
func (e *engine) applyIncidents(id int) {
	n := &e.nodes[id]
	n.failsNowShare, n.slow, n.concurrencyNow = -1, 1, -1
	if n.schedule != nil {
		n.off = !n.schedule.enabled
	}
	var fails, slow, concurrency, enabled int = -1, -1, -1, -1
	for k := range e.incidents {
		in := &e.incidents[k]
		if !in.on || !in.hits(id) {
			continue
		}
		if in.spec.Fails != nil && in.order > fails {
			fails, n.failsNowShare = in.order, *in.spec.Fails
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

// applyPauses sets whether a link is paused; what it held goes on when it is
// resumed.
func (e *engine) applyPauses(link int32) {
	paused, order := false, -1
	for k := range e.incidents {
		in := &e.incidents[k]
		if in.on && in.link == link && in.spec.Paused != nil && in.order > order {
			order, paused = in.order, *in.spec.Paused
		}
	}
	d := &e.deliveries[link]
	was := d.paused
	d.paused = paused
	from := &e.nodes[e.g.Links[link].From]
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
			e.waitsNoMore(e.copies.at(i))
			e.soon(evTry, i)
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
	if e.now+in.gap < e.end {
		e.at(e.now+in.gap, evSendBack, uint32(k))
	}
	n := &e.nodes[in.back]
	i := n.queue.ages.head
	for i != 0 && (e.handOf(e.copies.at(i)).busy > 0 || e.copies.at(i).flags&ghost != 0) {
		i = e.copies.at(i).younger
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
	m := e.messageOf(e.copies.at(i))
	m.tries = 0
	e.deliver(to.ownWay, &m, m.content, 0)
}
