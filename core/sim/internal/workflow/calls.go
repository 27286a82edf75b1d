package workflow

import (
	"ironweir/core/graph"
	"ironweir/core/sim/internal/engine"
)

// taskCalls calls what a task names; false: the thread waits, or has ended.
func (e *Interpreter) taskCalls(i uint32, task *graph.Task) bool {
	t := &e.threads[i]
	l := &e.Graph.Links[task.Link]
	d := &e.Deliveries[l.ID]
	callee := &e.Nodes[l.To]
	if d.Off {
		return e.taskEnds(i) // a call that is switched off is not made
	}
	t.tries++
	d.Offered++
	r := &e.Runs[t.run]
	m, _ := e.Message(r, int(r.Index))
	if failure, final := e.TurnedAway(d, callee, &m); failure != engine.NoError {
		if e.Trace != nil {
			e.Trace.Calls(t.run, m, l, int(t.tries), failure)
		}
		return e.taskCallFailed(i, task, failure, final)
	}
	d.Matched++
	con := e.taskContent(t, task, l, &m)
	if e.Trace != nil {
		sent := m
		sent.Content, sent.Wrap = con, engine.Unwrapped
		e.Trace.Calls(t.run, sent, l, int(t.tries), engine.NoError)
	}
	run, turn, threadTurn := t.run, r.Turn, t.turn
	c := e.NewRun(callee, engine.ForCall)
	cr := &e.Runs[c]
	cr.Caller, cr.CallOf, cr.Thread, cr.ThreadTurn, cr.Link = run, turn, i, threadTurn, int32(l.ID)
	cr.Own = m
	cr.Own.Content, cr.Own.Node, cr.Own.Wrap = con, e.Runs[run].Node, engine.Unwrapped
	cr.Own.Hops++
	if e.InLoop[l.To] >= 0 {
		cr.Own.Passes = e.CountCall(callee, cr.Own.Node, &m)
	}
	e.Journeys.At(m.Journey).Refs++
	e.Begin(c)
	return false
}

// taskContent makes what a call hands over: `with`, else the payload as it is.
func (e *Interpreter) taskContent(t *thread, task *graph.Task, l *graph.Link, m *engine.Message) uint32 {
	con := e.ContentFor(l, m, &e.Sends[l.ID], nil, 0)
	if !e.Graph.UsesData && e.Trace == nil || l.Payload != nil {
		return con
	}
	data := t.data
	if task.With != nil {
		data, _ = task.With.Value(e.seen(t))
	}
	own := e.NewContent()
	c, old := &e.Contents[own], &e.Contents[con]
	c.Subject = append(c.Subject, old.Subject...)
	c.Kind, c.Source, c.Made, c.Size, c.Data = old.Kind, old.Source, old.Made, old.Size, data
	e.DropContent(con)
	return own
}

// Answer comes when a call of a task has ended, unless its thread has ended before.
func (e *Interpreter) Answer(i, turn uint32, failure int16, final bool) {
	t := &e.threads[i]
	if t.turn != turn {
		return
	}
	f := &t.frames[len(t.frames)-1]
	goesOn := true
	if failure != engine.NoError {
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
func (e *Interpreter) taskCallFailed(i uint32, task *graph.Task, failure int16, final bool) bool {
	t := &e.threads[i]
	d := &e.Deliveries[task.Link]
	if wait, again := e.CallAgainAfter(d, failure, final, t.tries); again {
		t.after = callAgain
		t.timer = e.Schedule(e.Now+wait, engine.EvTask, i)
		return false
	}
	if e.Graph.Links[task.Link].Link.Ignore {
		return e.taskEnds(i) // with the payload as it was
	}
	return e.throw(i, failure)
}
