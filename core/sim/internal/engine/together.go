package engine

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
func (e *Engine) planSends(i uint32) {
	n := &e.Nodes[e.Runs[i].Node]
	for _, id := range n.steps[Sending] {
		s := &e.Sends[id]
		for k := range e.Messages(&e.Runs[i]) {
			m, takesPart := e.Message(&e.Runs[i], k)
			if !takesPart && !s.perRun || s.perRun && k > 0 {
				continue
			}
			r := &e.Runs[i]
			r.Index = int32(k)
			for rep := range e.repetitions(i, r, s, &m) {
				r = &e.Runs[i]
				r.rep = rep
				con := e.ContentFor(s.Link, &m, s, e.itemOf(i), int(rep))
				e.Runs[i].plan = append(e.Runs[i].plan, plannedSend{id, int32(k), con})
			}
		}
	}
	r := &e.Runs[i]
	r.Step, r.Index, r.rep, r.tries = 0, 0, 0, 0
	e.roundOfWrites(i)
}

// roundOfWrites lets the time of all writes that must stand together pass [S-18].
func (e *Engine) roundOfWrites(i uint32) {
	r := &e.Runs[i]
	r.Phase = joining
	r.tries++
	takes := int64(0)
	for _, p := range r.plan {
		if l := e.Sends[p.send].Link; l.Relation == model.RunWrite && !l.Ignore {
			takes += e.Nodes[l.To].drawTakes()
		}
	}
	if takes > 0 {
		e.Wait(i, takes)
		return
	}
	e.joinSends(i)
}

// joinSends ends a round of writes: all of them stand, or none does [S-08].
func (e *Engine) joinSends(i uint32) {
	if rejected, cause := e.checkTogether(i); cause != noFate {
		r := &e.Runs[i]
		p := &e.Deliveries[rejected.ID].policy
		if cause != Refused && int(r.tries) < p.Tries {
			r.Phase = rejoining
			e.Wait(i, p.Backoff(int(r.tries)))
			return
		}
		e.EndRun(i, errRejected)
		return
	}
	for k := range e.Runs[i].plan {
		r := &e.Runs[i]
		p := r.plan[k]
		s := &e.Sends[p.send]
		if s.Link.Relation == model.RunWrite && s.Link.Ignore {
			continue
		}
		m, _ := e.Message(r, int(p.index))
		e.emit(i, s, &m, p.content)
	}
	r := &e.Runs[i]
	r.Phase, r.Step, r.tries = trailing, 0, 0
	e.writeRest(i)
}

// checkTogether returns the link of the first planned write that would be rejected
// now, and why: each is counted against its target before the next [S-09] [S-11].
func (e *Engine) checkTogether(i uint32) (rejected *graph.Link, cause Fate) {
	e.planned = map[place]int64{}
	turns := map[*stream]int{}
	defer func() {
		e.planned = nil
		for s, turn := range turns {
			s.turn = turn
		}
	}()
	for _, p := range e.Runs[i].plan {
		l := e.Sends[p.send].Link
		if l.Relation != model.RunWrite || l.Ignore {
			continue
		}
		m, _ := e.Message(&e.Runs[i], int(p.index))
		m.Content = p.content
		n := &e.Nodes[l.To]
		if cause := e.rejects(n, &m, p.content, e.Deliveries[l.ID].refused); cause != noFate {
			return l, cause
		}
		e.planned[place{n.ID, -1}]++
		if st := n.stream; st != nil {
			if _, seen := turns[st]; !seen {
				turns[st] = st.turn
			}
			at := e.partitionOf(n, &m)
			e.planned[place{n.ID, at}]++
			st.turn = at + 1
		}
	}
	return nil, noFate
}

// writeRest writes the messages whose rejection is ignored, one by one, after the
// others stand [S-13].
func (e *Engine) writeRest(i uint32) {
	for {
		r := &e.Runs[i]
		if int(r.Step) == len(r.plan) {
			e.EndRun(i, NoError)
			return
		}
		p := r.plan[r.Step]
		l := e.Sends[p.send].Link
		if l.Relation != model.RunWrite || !l.Ignore {
			r.Step++
			continue
		}
		r.tries++
		if takes := e.Nodes[l.To].drawTakes(); takes > 0 {
			e.Wait(i, takes)
			return
		}
		if !e.restWritten(i) {
			return
		}
	}
}

// restWritten ends one such write; false: it waits for another try.
func (e *Engine) restWritten(i uint32) bool {
	r := &e.Runs[i]
	p := r.plan[r.Step]
	s := &e.Sends[p.send]
	d := &e.Deliveries[s.Link.ID]
	m, _ := e.Message(r, int(p.index))
	target := &e.Nodes[s.Link.To]
	cause := e.rejects(target, &m, p.content, d.refused)
	switch {
	case cause == noFate:
		e.emit(i, s, &m, p.content)
	case cause != Refused && int(r.tries) < d.policy.Tries:
		r.cause = backingOff
		e.Wait(i, d.policy.Backoff(int(r.tries)))
		return false
	default:
		e.Finish(e.NewCopy(target, int32(s.Link.ID), &m, p.content, 0), cause)
	}
	r = &e.Runs[i]
	r.Step++
	r.tries = 0
	return true
}

// restAgain goes on with such a write when its time is over, or its wait.
func (e *Engine) restAgain(i uint32) {
	if r := &e.Runs[i]; r.cause == backingOff {
		r.cause = noFate
	} else if !e.restWritten(i) {
		return
	}
	e.writeRest(i)
}

// dropPlan forgets what a run was about to send.
func (e *Engine) dropPlan(r *Run) {
	for _, p := range r.plan {
		e.DropContent(p.content)
	}
	r.plan = r.plan[:0]
}
