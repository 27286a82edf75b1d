package workflow

import (
	"fmt"
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/random"
)

// throw raises an error: the nearest `try` that catches it deals with it, else
// the execution fails. It gives true when the thread goes on at once.
func (e *Interpreter) throw(i uint32, failure int16) bool {
	t := &e.threads[i]
	for len(t.frames) > 0 {
		f := &t.frames[len(t.frames)-1]
		if f.kind != inTry {
			t.frames = t.frames[:len(t.frames)-1]
			continue
		}
		owner := t.frames[len(t.frames)-2]
		task := owner.list[owner.at]
		name := e.Errors[failure]
		problem := map[string]any{"type": name}
		if task.Catch.Type != "" && task.Catch.Type != name || !e.catches(t, task, problem) {
			t.frames = t.frames[:len(t.frames)-1]
			continue
		}
		if wait, again := e.againAfter(task, f); again {
			f.at, t.data = 0, f.input
			f.tries++
			t.after = tryTasks
			t.timer = e.Schedule(e.Now+wait, engine.EvTask, i)
			if e.Trace != nil {
				e.note(
					t,
					"waits",
					fmt.Sprintf(
						"%s before try %d of task %s, since it failed: %s",
						model.FormatDuration(time.Duration(wait)),
						f.tries,
						task.Name,
						name,
					),
				)
			}
			return false
		}
		if e.Trace != nil {
			e.note(t, "runs", fmt.Sprintf("task %s: its catch, since it failed: %s", task.Name, name))
		}
		*f = frame{list: task.CatchDo, kind: inCatch, err: problem}
		return true
	}
	if t.parent == 0 {
		e.EndRun(t.run, failure)
		return false
	}
	parent, run := t.parent, t.run
	e.dropBranches(run, parent)
	if e.throw(parent, failure) {
		e.step(parent)
	}
	return false
}

func (e *Interpreter) catches(t *thread, task *graph.Task, problem any) bool {
	if task.CatchWhen == nil {
		return true
	}
	ev := e.seen(t)
	ev.Error = problem
	ok, _ := task.CatchWhen.Truth(ev)
	return ok
}

// againAfter reports whether a try is tried again, and after how long.
func (e *Interpreter) againAfter(task *graph.Task, f *frame) (int64, bool) {
	r := task.Catch.Retry
	if r == nil || r.Count > 0 && f.tries > r.Count {
		return 0, false
	}
	wait := float64(r.Delay)
	switch r.Backoff {
	case "linear":
		wait *= float64(f.tries)
	case "exponential":
		for k := 1; k < f.tries && wait < float64(random.MaxWait); k++ {
			wait *= 2
		}
	}
	w := max(int64(min(wait, float64(random.MaxWait))), engine.MinWait)
	if r.JitterTo > 0 {
		w += int64(r.JitterFrom) + int64(e.luck.Unit()*float64(r.JitterTo-r.JitterFrom))
	}
	if r.Within > 0 && e.Now+w-f.began > int64(r.Within) {
		return 0, false
	}
	return w, true
}
