package sim

import (
	"ironweir/core/graph"
	"ironweir/core/model"
)

// plannedSend is one message that a run with `sends: together` is about to send: drawn
// once, before the first round of writes.
type plannedSend struct {
	send    int32
	index   int32  // the message of the batch that it is for
	content uint32 // with a reference of its own
}

// place is where a planned write is counted: a channel, or a partition of a stream.
type place struct {
	node      int
	partition int // -1: the channel as a whole
}

// planSends draws what a run sends [S-10] and starts the first round of writes.
func (e *engine) planSends(i uint32) {
	n := &e.nodes[e.runs[i].node]
	for _, id := range n.steps[sending] {
		s := &e.sends[id]
		for k := range e.messages(&e.runs[i]) {
			m, takesPart := e.message(&e.runs[i], k)
			if !takesPart && !s.perRun || s.perRun && k > 0 {
				continue
			}
			r := &e.runs[i]
			r.index = int32(k)
			for rep := range e.repetitions(i, r, s, &m) {
				r = &e.runs[i]
				r.rep = rep
				con := e.contentFor(s.link, &m, s, e.itemOf(i), int(rep))
				e.runs[i].plan = append(e.runs[i].plan, plannedSend{id, int32(k), con})
			}
		}
	}
	r := &e.runs[i]
	r.step, r.index, r.rep, r.tries = 0, 0, 0, 0
	e.roundOfWrites(i)
}

// roundOfWrites lets the time of all writes that must stand together pass [S-18].
func (e *engine) roundOfWrites(i uint32) {
	r := &e.runs[i]
	r.phase = joining
	r.tries++
	takes := int64(0)
	for _, p := range r.plan {
		if l := e.sends[p.send].link; l.Relation == model.RunWrite && !l.Ignore {
			takes += e.nodes[l.To].drawTakes()
		}
	}
	if takes > 0 {
		e.wait(i, takes)
		return
	}
	e.joinSends(i)
}

// joinSends ends a round of writes: all of them stand, or none does [S-08].
func (e *engine) joinSends(i uint32) {
	if rejected, cause := e.checkTogether(i); cause != noFate {
		r := &e.runs[i]
		p := &e.deliveries[rejected.ID].policy
		if cause != Refused && int(r.tries) < p.Tries {
			r.phase = rejoining
			e.wait(i, p.Backoff(int(r.tries)))
			return
		}
		e.endRun(i, errRejected)
		return
	}
	for k := range e.runs[i].plan {
		r := &e.runs[i]
		p := r.plan[k]
		s := &e.sends[p.send]
		if s.link.Relation == model.RunWrite && s.link.Ignore {
			continue
		}
		m, _ := e.message(r, int(p.index))
		e.emit(i, s, &m, p.content)
	}
	r := &e.runs[i]
	r.phase, r.step, r.tries = trailing, 0, 0
	e.writeRest(i)
}

// checkTogether returns the link of the first planned write that would be rejected
// now, and why: each is counted against its target before the next [S-09] [S-11].
func (e *engine) checkTogether(i uint32) (rejected *graph.Link, cause Fate) {
	e.planned = map[place]int64{}
	turns := map[*stream]int{}
	defer func() {
		e.planned = nil
		for s, turn := range turns {
			s.turn = turn
		}
	}()
	for _, p := range e.runs[i].plan {
		l := e.sends[p.send].link
		if l.Relation != model.RunWrite || l.Ignore {
			continue
		}
		m, _ := e.message(&e.runs[i], int(p.index))
		m.content = p.content
		n := &e.nodes[l.To]
		if cause := e.rejects(n, &m, p.content, e.deliveries[l.ID].refused); cause != noFate {
			return l, cause
		}
		e.planned[place{n.id, -1}]++
		if st := n.stream; st != nil {
			if _, seen := turns[st]; !seen {
				turns[st] = st.turn
			}
			at := e.partitionOf(n, &m)
			e.planned[place{n.id, at}]++
			st.turn = at + 1
		}
	}
	return nil, noFate
}

// writeRest writes the messages whose rejection is ignored, one by one, after the
// others stand [S-13].
func (e *engine) writeRest(i uint32) {
	for {
		r := &e.runs[i]
		if int(r.step) == len(r.plan) {
			e.endRun(i, noError)
			return
		}
		p := r.plan[r.step]
		l := e.sends[p.send].link
		if l.Relation != model.RunWrite || !l.Ignore {
			r.step++
			continue
		}
		r.tries++
		if takes := e.nodes[l.To].drawTakes(); takes > 0 {
			e.wait(i, takes)
			return
		}
		if !e.restWritten(i) {
			return
		}
	}
}

// restWritten ends one such write; false: it waits for another try.
func (e *engine) restWritten(i uint32) bool {
	r := &e.runs[i]
	p := r.plan[r.step]
	s := &e.sends[p.send]
	d := &e.deliveries[s.link.ID]
	m, _ := e.message(r, int(p.index))
	target := &e.nodes[s.link.To]
	cause := e.rejects(target, &m, p.content, d.refused)
	switch {
	case cause == noFate:
		e.emit(i, s, &m, p.content)
	case cause != Refused && int(r.tries) < d.policy.Tries:
		r.cause = backingOff
		e.wait(i, d.policy.Backoff(int(r.tries)))
		return false
	default:
		e.finish(e.newCopy(target, int32(s.link.ID), &m, p.content, 0), cause)
	}
	r = &e.runs[i]
	r.step++
	r.tries = 0
	return true
}

// restAgain goes on with such a write when its time is over, or its wait.
func (e *engine) restAgain(i uint32) {
	if r := &e.runs[i]; r.cause == backingOff {
		r.cause = noFate
	} else if !e.restWritten(i) {
		return
	}
	e.writeRest(i)
}

// dropPlan forgets what a run was about to send.
func (e *engine) dropPlan(r *run) {
	for _, p := range r.plan {
		e.dropContent(p.content)
	}
	r.plan = r.plan[:0]
}
