package engine

// call starts what a waiting call asks for; false: the run waits.
func (e *Engine) call(i uint32, s *Send, m *Message) bool {
	l := s.Link
	callee := &e.Nodes[l.To]
	e.Runs[i].tries++
	d := &e.Deliveries[l.ID]
	d.Offered++
	failure, final := e.TurnedAway(d, callee, m)
	if failure != NoError {
		if e.Trace != nil {
			e.Trace.Calls(i, *m, l, int(e.Runs[i].tries), failure)
		}
		return e.callFailed(i, failure, final)
	}
	d.Matched++
	con := e.ContentFor(l, m, s, e.itemOf(i), int(e.Runs[i].rep))
	if e.Trace != nil {
		sent := *m
		sent.Content = con
		e.Trace.Calls(i, sent, l, int(e.Runs[i].tries), NoError)
	}
	c := e.NewRun(callee, ForCall)
	r := &e.Runs[c]
	r.Caller, r.CallOf, r.Link = i, e.Runs[i].Turn, int32(l.ID)
	r.Own = *m
	r.Own.Content, r.Own.Node = con, e.Runs[i].Node
	r.Own.Hops += uint16(callHops(&e.Nodes[l.From]))
	if e.InLoop[l.To] >= 0 {
		r.Own.Passes = e.CountCall(callee, r.Own.Node, m)
	}
	e.Journeys.At(m.Journey).Refs++
	e.Runs[i].Timer = 0
	e.Begin(c)
	return false
}

// callHops returns how many hops a waiting call of a node adds: one for a function
// or workflow, none for an endpoint or an outside system.
func callHops(caller *Node) int {
	if caller.invoked {
		return 1
	}
	return 0
}

// TurnedAway reports why a callee does not take a call now, and whether another try
// would help nothing; noError: there is room, and it is taken.
func (e *Engine) TurnedAway(d *Delivery, callee *Node, m *Message) (failure int16, final bool) {
	switch {
	case d.refused:
		return ErrRefused, true
	case callee.overHops(int(m.Hops) + callHops(&e.Nodes[e.Graph.Links[d.Link].From])):
		return errHopLimit, true
	case callee.Stopped:
		return errStopped, false
	case !e.free(callee):
		callee.Throttled++
		return errThrottled, false
	}
	return NoError, false
}

// CallAgainAfter reports whether a failed call is tried again, and after how long.
func (e *Engine) CallAgainAfter(d *Delivery, failure int16, final bool, tries uint16) (wait int64, again bool) {
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
func (e *Engine) answered(i uint32, failure int16, final bool) {
	switch {
	case e.Runs[i].Why == ForMove:
		e.pushed(i, failure)
	case failure != NoError && !e.callFailed(i, failure, final):
		return
	}
	r := &e.Runs[i]
	r.rep++
	r.tries = 0
	e.Advance(i)
}

// callFailed tries a failed call again, ignores it, or fails the run; true:
// the run goes on.
func (e *Engine) callFailed(i uint32, failure int16, final bool) bool {
	r := &e.Runs[i]
	n := &e.Nodes[r.Node]
	s := &e.Sends[n.steps[r.Phase][r.Step]]
	d := &e.Deliveries[s.Link.ID]
	if wait, again := e.CallAgainAfter(d, failure, final, r.tries); again {
		r.cause = backingOff
		e.Wait(i, wait)
		return false
	}
	switch {
	case s.Link.Ignore:
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
	e.EndRun(i, failure)
	return false
}
