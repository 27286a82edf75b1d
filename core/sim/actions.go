package sim

import (
	"ironweir/core/model"
	"ironweir/core/sim/internal/random"
)

// advance goes through the actions of a run's phases until one takes time.
func (e *engine) advance(i uint32) {
	for {
		r := &e.runs[i]
		n := &e.nodes[r.node]
		steps := n.steps[r.phase]
		if r.why == forMove {
			steps = e.deliveriesStep(r)
		}
		if int(r.step) >= len(steps) {
			switch r.phase {
			case atStart:
				e.work(i)
				return
			case calling:
				if n.together {
					e.planSends(i)
					return
				}
				r.phase, r.step, r.index, r.reps = sending, 0, 0, -1
				continue
			}
			e.endRun(i, noError)
			return
		}
		s := &e.sends[steps[r.step]]
		if int(r.index) >= e.messages(r) || s.perRun && r.index > 0 {
			r.step, r.index, r.reps = r.step+1, 0, -1
			continue
		}
		if r.reps >= 0 && r.rep >= r.reps { // all of this message are made
			r.index, r.reps = r.index+1, -1
			continue
		}
		m, takesPart := e.message(r, int(r.index))
		if !takesPart && !s.perRun && !(r.phase == atStart && e.startsWith(r)) {
			r.index, r.reps = r.index+1, -1
			continue
		}
		if r.reps < 0 {
			r.rep, r.reps = 0, max(e.repetitions(i, r, s, &m), 0)
			r.tries = 0
			if r.reps == 0 {
				continue
			}
		}
		if !e.act(i, s, &m) {
			return
		}
		e.runs[i].rep++
		e.runs[i].tries = 0
	}
}

// repetitions reports how often a send or call happens for a message.
func (e *engine) repetitions(i uint32, r *run, s *send, m *message) int32 {
	l := s.link
	r.items = r.items[:0]
	if e.deliveries[l.ID].off {
		return 0
	}
	if e.observer != nil {
		if events, says := e.observer.returned(i, r, s); says {
			r.items = append(r.items, events...)
			return int32(len(events))
		}
	}
	if s.plain {
		return 1
	}
	kind := e.kindAt(r, int(r.index))
	if r.why == forRequest && !l.Filter.Takes(e.eventOfMessage(m, "request")) {
		return 0
	}
	if l.If != nil {
		if ok, err := l.If.Truth(e.eventOfMessage(m, kind)); !ok {
			if e.trace != nil {
				e.trace.skipped(e, m.journey, l, "the condition "+l.If.Source+" does not hold", err)
			}
			return 0
		}
	}
	if l.Chance < 1 && e.plan.follow == nil && s.rng.Unit() >= l.Chance {
		return 0
	}
	n := int32(1)
	switch {
	case l.CountExpr != nil:
		x, err := l.CountExpr.Number(e.eventOfMessage(m, kind))
		if err != nil || x < 0 {
			x = 0
		}
		n = int32(min(x, 1e6))
	case s.count.Shape != random.Constant || s.count.A != 1:
		x := s.count.Draw(s.rng)
		n = int32(x)
		if frac := x - float64(n); frac > 0 && s.rng.Unit() < frac {
			n++ // 2.5 is 2 or 3, 2.5 in the mean
		}
	}
	if l.ForEach != nil {
		list, _ := l.ForEach.List(e.eventOfMessage(m, kind))
		if s.readsItem {
			r.items = append(r.items, list...)
		}
		n *= int32(min(len(list), 1e6))
		if e.trace != nil && len(list) == 0 {
			e.trace.skipped(e, m.journey, l, "for-each "+l.ForEach.Source+" gives no items", nil)
		}
	}
	return n
}

// act performs one repetition; false: the run waits, or has ended.
func (e *engine) act(i uint32, s *send, m *message) bool {
	r := &e.runs[i]
	l := s.link
	switch {
	case r.why == forMove:
		return e.actMove(i, s, m)
	case l.Relation == model.WaitingCall:
		return e.call(i, s, m)
	case l.Op == "read":
		r.tries++
		if takes := e.nodes[l.To].drawTakes(); takes > 0 {
			e.wait(i, takes)
			return false
		}
		return e.read(i, s)
	case l.Relation == model.RunIntake || l.Relation == model.RunPush || l.Relation == model.Intake ||
		l.Relation == model.Push:
		con := e.contentFor(l, m, s, e.itemOf(i), int(r.rep))
		e.emit(i, s, m, con)
		e.dropContent(con)
		return true
	}
	// A write, part of the run.
	if takes := e.nodes[l.To].drawTakes(); takes > 0 {
		r.tries++
		e.wait(i, takes)
		return false
	}
	r.tries++
	return e.write(i, s, m)
}

// acted goes on after an action that took time.
func (e *engine) acted(i uint32) {
	r := &e.runs[i]
	n := &e.nodes[r.node]
	steps := n.steps[r.phase]
	if r.why == forMove {
		steps = e.deliveriesStep(r)
	}
	s := &e.sends[steps[r.step]]
	m, _ := e.message(r, int(r.index))
	next := true
	switch {
	case r.cause == backingOff:
		r.cause = noFate
		next = e.act(i, s, &m)
	case r.why == forMove:
		next = e.moved(i, s, &m)
	case s.link.Relation == model.WaitingCall:
	case s.link.Op == "read":
		next = e.read(i, s)
	default:
		next = e.write(i, s, &m)
	}
	if !next {
		return
	}
	e.runs[i].rep++
	e.runs[i].tries = 0
	e.advance(i)
}

// backingOff marks a run that waits before it tries its call or write again.
const backingOff = fates + 1

// write lets a run's write stand, or deals with its rejection.
func (e *engine) write(i uint32, s *send, m *message) bool {
	r := &e.runs[i]
	l := s.link
	target := &e.nodes[l.To]
	before := s.sequence
	con := e.contentFor(l, m, s, e.itemOf(i), int(r.rep))
	defer e.dropContent(con)
	cause := e.rejects(target, m, con, e.deliveries[l.ID].refused)
	if cause == noFate {
		e.emit(i, s, m, con)
		return true
	}
	p := &e.deliveries[l.ID].policy
	if cause != Refused && int(r.tries) < p.Tries {
		s.sequence = before // nothing of it stands
		r.cause = backingOff
		e.wait(i, p.Backoff(int(r.tries)))
		return false
	}
	if l.Ignore {
		lost := e.newCopy(target, int32(l.ID), m, con, 0)
		e.finish(lost, cause)
		return true
	}
	e.endRun(i, errRejected)
	return false
}

// startsWith reports whether the message in hand of a batch counts for sends at the
// start of a run: also one that is about to fail by itself [S-15], but none that has
// succeeded before.
func (e *engine) startsWith(r *run) bool {
	return r.batch != 0 && !e.batches[r.batch].entries[r.index].known
}

// read ends a read; false: the run waits for another try, or has ended. A read fails
// only by an incident that says so [IN-19].
func (e *engine) read(i uint32, s *send) bool {
	n := &e.nodes[s.link.To]
	if n.readsFail > 0 && n.rng.Happens(n.readsFail) {
		return e.callFailed(i, errRejected, false)
	}
	return true
}

// emit makes the copy that a send is.
func (e *engine) emit(i uint32, s *send, m *message, con uint32) {
	r := &e.runs[i]
	l := s.link
	out := *m
	out.node, out.wrap = r.node, unwrapped
	if e.nodes[l.From].invoked {
		out.hops++
	}
	if e.trace != nil {
		e.trace.sends(e, i, m.journey, l)
	}
	d := &e.deliveries[l.ID]
	if r.why != forMove { // a reader's message has been counted as it came
		d.offered++
		d.matched++
	}
	target := &e.nodes[l.To]
	if !target.channel {
		e.deliver(int32(l.ID), &out, con, 0)
	} else {
		var flags copyFlags
		if l.Op == "delete" {
			flags = deletion
		}
		c := e.newCopy(target, int32(l.ID), &out, con, flags)
		if e.trace != nil {
			e.trace.comes(e, c, &out)
		}
		e.stand(target, c)
	}
}

func (e *engine) itemOf(i uint32) any {
	r := &e.runs[i]
	if int(r.rep) < len(r.items) {
		return r.items[r.rep]
	}
	return nil
}
