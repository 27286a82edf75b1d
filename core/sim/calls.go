package sim

import (
	"time"

	"ironweir/core/model"
)

// call starts what a waiting call asks for; false: the run waits.
func (e *engine) call(i uint32, s *send, m *message) bool {
	l := s.link
	callee := &e.nodes[l.To]
	e.runs[i].tries++
	d := &e.deliveries[l.ID]
	d.offered++
	if e.trace != nil {
		e.trace.calls(e, i, m.journey, l, int(e.runs[i].tries))
	}
	failure := noError
	switch {
	case d.refused:
		failure = errRefused
	case callee.hopLimit > 0 && int(m.hops)+1 > callee.hopLimit:
		failure = errHopLimit
	case !e.free(callee):
		callee.throttled++
		failure = errThrottled
	}
	if failure != noError {
		return e.callFailed(i, failure, failure == errRefused || failure == errHopLimit)
	}
	d.matched++
	con := e.contentFor(l, m, s, e.itemOf(i), int(e.runs[i].rep))
	c := e.newRun(callee, forCall)
	r := &e.runs[c]
	r.caller, r.callOf, r.link = i, e.runs[i].turn, int32(l.ID)
	r.own = *m
	r.own.content, r.own.node = con, e.runs[i].node
	r.own.hops++
	e.journeys[m.journey].refs++
	e.runs[i].timer = 0
	e.begin(c)
	return false
}

// answered comes when a call that a run waits for has ended.
func (e *engine) answered(i uint32, failure int16, final bool) {
	switch {
	case e.runs[i].why == forMove:
		e.pushed(i, failure)
	case failure != noError && !e.callFailed(i, failure, final):
		return
	}
	r := &e.runs[i]
	r.rep++
	r.tries = 0
	e.advance(i)
}

// callFailed tries a failed call again, ignores it, or fails the run; true:
// the run goes on.
func (e *engine) callFailed(i uint32, failure int16, final bool) bool {
	r := &e.runs[i]
	n := &e.nodes[r.node]
	s := &e.sends[n.steps[r.phase][r.step]]
	d := &e.deliveries[s.link.ID]
	p := &d.policy
	switch {
	case !final && !d.isExcept(failure) && int(r.tries) < p.Tries:
		r.cause = backingOff
		wait := e.jittered(p.Backoff(int(r.tries)), d)
		if failure == errThrottled {
			wait = max(wait, int64(100*time.Millisecond))
		}
		e.wait(i, wait)
		return false
	case s.link.Ignore:
		return true
	case n.kind == model.Endpoint:
		r.status = 500
		if failure == errThrottled {
			r.status = 429
		}
	}
	// The callee's error is the caller's: `except` may name it.
	if failure < int16(len(builtinErrors)) {
		failure = errCall
	}
	e.endRun(i, failure)
	return false
}
