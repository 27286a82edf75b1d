package sim

import "ironweir/core/graph"

// taskCalls calls what a task names; false: the thread waits, or has ended.
func (e *engine) taskCalls(i uint32, task *graph.Task) bool {
	t := &e.threads[i]
	l := &e.g.Links[task.Link]
	d := &e.deliveries[l.ID]
	callee := &e.nodes[l.To]
	if d.off {
		return e.taskEnds(i) // a call that is switched off is not made
	}
	t.tries++
	d.offered++
	r := &e.runs[t.run]
	m, _ := e.message(r, int(r.index))
	if failure, final := e.turnedAway(d, callee, &m); failure != noError {
		if e.trace != nil {
			e.trace.calls(e, t.run, &m, l, int(t.tries), failure)
		}
		return e.taskCallFailed(i, task, failure, final)
	}
	d.matched++
	con := e.taskContent(t, task, l, &m)
	if e.trace != nil {
		sent := m
		sent.content, sent.wrap = con, unwrapped
		e.trace.calls(e, t.run, &sent, l, int(t.tries), noError)
	}
	run, turn, threadTurn := t.run, r.turn, t.turn
	c := e.newRun(callee, forCall)
	cr := &e.runs[c]
	cr.caller, cr.callOf, cr.thread, cr.threadTurn, cr.link = run, turn, i, threadTurn, int32(l.ID)
	cr.own = m
	cr.own.content, cr.own.node, cr.own.wrap = con, e.runs[run].node, unwrapped
	cr.own.hops++
	if e.inLoop[l.To] >= 0 {
		cr.own.passes = e.countCall(callee, cr.own.node, &m)
	}
	e.journeys.At(m.journey).refs++
	e.begin(c)
	return false
}

// taskContent makes what a call hands over: `with`, else the payload as it is.
func (e *engine) taskContent(t *thread, task *graph.Task, l *graph.Link, m *message) uint32 {
	con := e.contentFor(l, m, &e.sends[l.ID], nil, 0)
	if !e.g.UsesData && e.trace == nil || l.Payload != nil {
		return con
	}
	data := t.data
	if task.With != nil {
		data, _ = task.With.Value(e.seen(t))
	}
	own := e.newContent()
	c, old := &e.contents[own], &e.contents[con]
	c.subject = append(c.subject, old.subject...)
	c.kind, c.source, c.made, c.size, c.data = old.kind, old.source, old.made, old.size, data
	e.dropContent(con)
	return own
}

// taskAnswered comes when a call of a task has ended.
func (e *engine) taskAnswered(i uint32, failure int16, final bool) {
	t := &e.threads[i]
	f := &t.frames[len(t.frames)-1]
	goesOn := true
	if failure != noError {
		goesOn = e.taskCallFailed(i, f.list[f.at], failure, final)
	} else {
		goesOn = e.taskEnds(i)
	}
	if goesOn {
		e.step(i)
	}
}

// taskCallFailed tries a call again after its link's `retry`, or raises the
// callee's error.
func (e *engine) taskCallFailed(i uint32, task *graph.Task, failure int16, final bool) bool {
	t := &e.threads[i]
	d := &e.deliveries[task.Link]
	if wait, again := e.callAgainAfter(d, failure, final, t.tries); again {
		t.after = callAgain
		t.timer = e.Schedule(e.Now+wait, evTask, i)
		return false
	}
	if e.g.Links[task.Link].Link.Ignore {
		return e.taskEnds(i) // with the payload as it was
	}
	return e.throw(i, failure)
}
