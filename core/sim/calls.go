package sim

// call starts what a waiting call asks for; false: the run waits.
func (e *engine) call(i uint32, s *send, m *message) bool {
	l := s.link
	callee := &e.nodes[l.To]
	e.runs[i].tries++
	d := &e.deliveries[l.ID]
	d.offered++
	failure, final := e.turnedAway(d, callee, m)
	if failure != noError {
		if e.trace != nil {
			e.trace.calls(e, i, m, l, int(e.runs[i].tries), failure)
		}
		return e.callFailed(i, failure, final)
	}
	d.matched++
	con := e.contentFor(l, m, s, e.itemOf(i), int(e.runs[i].rep))
	if e.trace != nil {
		sent := *m
		sent.content = con
		e.trace.calls(e, i, &sent, l, int(e.runs[i].tries), noError)
	}
	c := e.newRun(callee, forCall)
	r := &e.runs[c]
	r.caller, r.callOf, r.link = i, e.runs[i].turn, int32(l.ID)
	r.own = *m
	r.own.content, r.own.node = con, e.runs[i].node
	r.own.hops += uint16(callHops(&e.nodes[l.From]))
	if e.inLoop[l.To] >= 0 {
		r.own.passes = e.countCall(callee, r.own.node, m)
	}
	e.journeys.At(m.journey).refs++
	e.runs[i].timer = 0
	e.begin(c)
	return false
}

// callHops returns how many hops a waiting call of a node adds: one for a function
// or workflow, none for an endpoint or an outside system.
func callHops(caller *node) int {
	if caller.invoked {
		return 1
	}
	return 0
}

// turnedAway reports why a callee does not take a call now, and whether another try
// would help nothing; noError: there is room, and it is taken.
func (e *engine) turnedAway(d *delivery, callee *node, m *message) (failure int16, final bool) {
	switch {
	case d.refused:
		return errRefused, true
	case callee.overHops(int(m.hops) + callHops(&e.nodes[e.g.Links[d.link].From])):
		return errHopLimit, true
	case callee.stopped:
		return errStopped, false
	case !e.free(callee):
		callee.throttled++
		return errThrottled, false
	}
	return noError, false
}

// callAgainAfter reports whether a failed call is tried again, and after how long.
func (e *engine) callAgainAfter(d *delivery, failure int16, final bool, tries uint16) (wait int64, again bool) {
	if final || d.isExcept(failure) || int(tries) >= d.policy.Tries {
		return 0, false
	}
	wait = e.jittered(d.policy.Backoff(int(tries)), d)
	if failure == errThrottled {
		wait = max(wait, minThrottleWait)
	}
	return wait, true
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
	if wait, again := e.callAgainAfter(d, failure, final, r.tries); again {
		r.cause = backingOff
		e.wait(i, wait)
		return false
	}
	switch {
	case s.link.Ignore:
		return true
	case n.endpoint:
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
