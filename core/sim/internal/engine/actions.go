package engine

import (
	"ironweir/core/model"
	"ironweir/core/sim/internal/random"
)

// Advance goes through the actions of a run's phases until one takes time.
func (e *Engine) Advance(i uint32) {
	for {
		r := &e.Runs[i]
		n := &e.Nodes[r.Node]
		steps := n.steps[r.Phase]
		if r.Why == ForMove {
			steps = e.deliveriesStep(r)
		}
		if int(r.Step) >= len(steps) {
			switch r.Phase {
			case atStart:
				e.work(i)
				return
			case Calling:
				if n.together {
					e.planSends(i)
					return
				}
				r.Phase, r.Step, r.Index, r.Reps = Sending, 0, 0, -1
				continue
			}
			e.EndRun(i, NoError)
			return
		}
		s := &e.Sends[steps[r.Step]]
		if int(r.Index) >= e.Messages(r) || s.perRun && r.Index > 0 {
			r.Step, r.Index, r.Reps = r.Step+1, 0, -1
			continue
		}
		if r.Reps >= 0 && r.rep >= r.Reps { // all of this message are made
			r.Index, r.Reps = r.Index+1, -1
			continue
		}
		m, takesPart := e.Message(r, int(r.Index))
		if !takesPart && !s.perRun && !(r.Phase == atStart && e.startsWith(r)) {
			r.Index, r.Reps = r.Index+1, -1
			continue
		}
		if r.Reps < 0 {
			r.rep, r.Reps = 0, max(e.repetitions(i, r, s, &m), 0)
			r.tries = 0
			if r.Reps == 0 {
				continue
			}
		}
		if !e.act(i, s, &m) {
			return
		}
		e.Runs[i].rep++
		e.Runs[i].tries = 0
	}
}

// repetitions reports how often a send or call happens for a message.
func (e *Engine) repetitions(i uint32, r *Run, s *Send, m *Message) int32 {
	l := s.Link
	r.items = r.items[:0]
	if e.Deliveries[l.ID].Off {
		return 0
	}
	if e.Observer != nil {
		if events, says := e.Observer.Returns(i, r, s); says {
			r.items = append(r.items, events...)
			return int32(len(events))
		}
	}
	if s.plain {
		return 1
	}
	kind := e.KindAt(r, int(r.Index))
	if r.Why == forRequest && !l.Filter.Takes(e.EventOfMessage(m, "request")) {
		return 0
	}
	if l.If != nil {
		if ok, err := l.If.Truth(e.EventOfMessage(m, kind)); !ok {
			if e.Trace != nil {
				e.Trace.Skips(m.Journey, l, "the condition "+l.If.Source+" does not hold", err)
			}
			return 0
		}
	}
	if l.Chance < 1 && !e.Follows() && s.rng.Unit() >= l.Chance {
		return 0
	}
	n := int32(1)
	switch {
	case l.CountExpr != nil:
		x, err := l.CountExpr.Number(e.EventOfMessage(m, kind))
		if err != nil || x < 0 {
			x = 0
		}
		n = int32(min(x, 1e6))
	case s.count.Shape != random.Constant || s.count.A != 1:
		x := s.count.Draw(s.rng)
		n = int32(x)
		if frac := x - float64(n); frac > 0 && s.rng.Unit() < frac {
			n++ // 2.5 is 2 or 3, 2.5 on average
		}
	}
	if l.ForEach != nil {
		list, _ := l.ForEach.List(e.EventOfMessage(m, kind))
		if s.readsItem {
			r.items = append(r.items, list...)
		}
		n *= int32(min(len(list), 1e6))
		if e.Trace != nil && len(list) == 0 {
			e.Trace.Skips(m.Journey, l, "for-each "+l.ForEach.Source+" gives no items", nil)
		}
	}
	return n
}

// act performs one repetition; false: the run waits, or has ended.
func (e *Engine) act(i uint32, s *Send, m *Message) bool {
	r := &e.Runs[i]
	l := s.Link
	switch {
	case r.Why == ForMove:
		return e.actMove(i, s, m)
	case l.Relation == model.WaitingCall:
		return e.call(i, s, m)
	case l.Op == "read":
		r.tries++
		if takes := e.Nodes[l.To].drawTakes(); takes > 0 {
			e.Wait(i, takes)
			return false
		}
		return e.read(i, s)
	case l.Relation == model.RunIntake || l.Relation == model.RunPush || l.Relation == model.Intake ||
		l.Relation == model.Push:
		con := e.ContentFor(l, m, s, e.itemOf(i), int(r.rep))
		e.emit(i, s, m, con)
		e.DropContent(con)
		return true
	}
	// A write, part of the run.
	if takes := e.Nodes[l.To].drawTakes(); takes > 0 {
		r.tries++
		e.Wait(i, takes)
		return false
	}
	r.tries++
	return e.write(i, s, m)
}

// acted goes on after an action that took time.
func (e *Engine) acted(i uint32) {
	r := &e.Runs[i]
	n := &e.Nodes[r.Node]
	steps := n.steps[r.Phase]
	if r.Why == ForMove {
		steps = e.deliveriesStep(r)
	}
	s := &e.Sends[steps[r.Step]]
	m, _ := e.Message(r, int(r.Index))
	next := true
	switch {
	case r.cause == backingOff:
		r.cause = noFate
		next = e.act(i, s, &m)
	case r.Why == ForMove:
		next = e.moved(i, s, &m)
	case s.Link.Relation == model.WaitingCall:
	case s.Link.Op == "read":
		next = e.read(i, s)
	default:
		next = e.write(i, s, &m)
	}
	if !next {
		return
	}
	e.Runs[i].rep++
	e.Runs[i].tries = 0
	e.Advance(i)
}

// backingOff marks a run that waits before it tries its call or write again.
const backingOff = FateCount + 1

// write lets a run's write stand, or deals with its rejection.
func (e *Engine) write(i uint32, s *Send, m *Message) bool {
	r := &e.Runs[i]
	l := s.Link
	target := &e.Nodes[l.To]
	before := s.sequence
	con := e.ContentFor(l, m, s, e.itemOf(i), int(r.rep))
	defer e.DropContent(con)
	cause := e.rejects(target, m, con, e.Deliveries[l.ID].refused)
	if cause == noFate {
		e.emit(i, s, m, con)
		return true
	}
	p := &e.Deliveries[l.ID].policy
	if cause != Refused && int(r.tries) < p.Tries {
		s.sequence = before // nothing of it stands
		r.cause = backingOff
		e.Wait(i, p.Backoff(int(r.tries)))
		return false
	}
	if l.Ignore {
		lost := e.NewCopy(target, int32(l.ID), m, con, 0)
		e.Finish(lost, cause)
		return true
	}
	e.EndRun(i, errRejected)
	return false
}

// startsWith reports whether the message in hand of a batch counts for sends at the
// start of a run: also one that is about to fail by itself [S-15], but none that has
// succeeded before.
func (e *Engine) startsWith(r *Run) bool {
	return r.Batch != 0 && !e.Batches[r.Batch].Entries[r.Index].known
}

// read ends a read; false: the run waits for another try, or has ended. A read fails
// only by an incident that says so [IN-19].
func (e *Engine) read(i uint32, s *Send) bool {
	n := &e.Nodes[s.Link.To]
	if n.ReadsFail > 0 && n.rng.Happens(n.ReadsFail) {
		return e.callFailed(i, errRejected, false)
	}
	return true
}

// emit makes the copy that a send is.
func (e *Engine) emit(i uint32, s *Send, m *Message, con uint32) {
	r := &e.Runs[i]
	l := s.Link
	out := *m
	out.Node, out.Wrap = r.Node, Unwrapped
	if e.Nodes[l.From].invoked {
		out.Hops++
	}
	if e.Trace != nil {
		e.Trace.Sends(i, m.Journey, l)
	}
	d := &e.Deliveries[l.ID]
	if r.Why != ForMove { // a reader's message has been counted as it came
		d.Offered++
		d.Matched++
	}
	target := &e.Nodes[l.To]
	if !target.channel {
		e.Deliver(int32(l.ID), &out, con, 0)
	} else {
		var flags Flags
		if l.Op == "delete" {
			flags = Deletion
		}
		c := e.NewCopy(target, int32(l.ID), &out, con, flags)
		if e.Trace != nil {
			e.Trace.Comes(c, out)
		}
		e.stand(target, c)
	}
}

func (e *Engine) itemOf(i uint32) any {
	r := &e.Runs[i]
	if int(r.rep) < len(r.items) {
		return r.items[r.rep]
	}
	return nil
}
