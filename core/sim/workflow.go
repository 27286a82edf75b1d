package sim

import (
	"fmt"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// execution is one workflow's way through its tasks, for one message.
type execution struct {
	threads []uint32 // those that go on
	tasks   int      // begun so far
}

// maxTasks bounds the tasks of one execution, so that one that jumps back for
// ever in no time ends.
const maxTasks = 100_000

// thread goes through tasks one after the other; the branches of a fork are
// threads of their own. Index 0 stands for none.
type thread struct {
	run      uint32
	turn     uint32 // counts uses of the record
	timer    uint64
	parent   uint32
	branch   int
	frames   []frame
	data     any
	tries    uint16 // of the call in hand
	after    afterWait
	branches int   // that still go on
	outputs  []any // of branches that have ended
	forks    int   // begun so far
	next     uint32
}

type afterWait uint8

const (
	nextTask  afterWait = iota // a `wait` is over
	tryTasks                   // a `try` is tried again
	callAgain                  // a call is tried again
)

// frame is a list of tasks that a thread is in.
type frame struct {
	list  []*graph.Task
	at    int
	kind  frameKind
	items []any // of a `for`
	index int
	tries int // of a `try`
	began int64
	input any // of a `try`
	err   any // that a `catch` deals with
}

type frameKind uint8

const (
	inList frameKind = iota
	inFor
	inTry
	inCatch
)

// startTasks begins the execution of a workflow for the message in hand.
func (e *engine) startTasks(i uint32) {
	r := &e.runs[i]
	r.phase = tasking
	if int(r.index) >= e.messages(r) {
		r.phase, r.step, r.index, r.reps = calling, 0, 0, -1
		e.advance(i)
		return
	}
	m, takesPart := e.message(r, int(r.index))
	if !takesPart {
		r.index++
		e.startTasks(i)
		return
	}
	r.execution = &execution{}
	_, data := e.dataOf(&m)
	t := e.newThread(i, data)
	e.threads[t].frames = append(e.threads[t].frames, frame{list: e.g.Nodes[r.node].Tasks})
	e.step(t)
}

func (e *engine) dataOf(m *message) (string, any) {
	ev := e.eventOfMessage(m, "message")
	return ev.Type, ev.Data
}

func (e *engine) newThread(run uint32, data any) uint32 {
	i := e.freeThread
	if i != 0 {
		e.freeThread = e.threads[i].next
	} else {
		if len(e.threads) == 0 {
			e.threads = append(e.threads, thread{})
		}
		e.threads = append(e.threads, thread{})
		i = uint32(len(e.threads) - 1)
	}
	t := &e.threads[i]
	*t = thread{run: run, turn: t.turn + 1, frames: t.frames[:0], data: data}
	x := e.runs[run].execution
	x.threads = append(x.threads, i)
	return i
}

func (e *engine) dropThread(i uint32) {
	t := &e.threads[i]
	x := e.runs[t.run].execution
	for k, other := range x.threads {
		if other == i {
			x.threads = append(x.threads[:k], x.threads[k+1:]...)
			break
		}
	}
	t.turn++
	t.timer, t.data, t.outputs = 0, nil, nil
	clear(t.frames[:cap(t.frames)])
	t.next = e.freeThread
	e.freeThread = i
}

// dropExecution ends all threads of a run.
func (e *engine) dropExecution(i uint32) {
	x := e.runs[i].execution
	for x != nil && len(x.threads) > 0 {
		e.dropThread(x.threads[len(x.threads)-1])
	}
	e.runs[i].execution = nil
}

// seen fills the scratch event with what an expression of a task sees.
func (e *engine) seen(t *thread) *expr.Event {
	r := &e.runs[t.run]
	m, _ := e.message(r, int(r.index))
	ev := e.eventOfMessage(&m, e.kindAt(r, int(r.index)))
	ev.Data, ev.Item, ev.Index, ev.Error = t.data, nil, 0, nil
	for k := range t.frames {
		f := &t.frames[k]
		if f.kind == inFor && f.index < len(f.items) {
			ev.Item, ev.Index = f.items[f.index], f.index
		}
		if f.kind == inCatch {
			ev.Error = f.err
		}
	}
	return ev
}

// step goes through tasks until one takes time, or the thread ends.
func (e *engine) step(i uint32) {
	for {
		t := &e.threads[i]
		if len(t.frames) == 0 {
			e.threadEnds(i)
			return
		}
		f := &t.frames[len(t.frames)-1]
		if f.at >= len(f.list) {
			if f.kind == inFor && f.index+1 < len(f.items) {
				f.index++
				if e.goesOn(t, t.frames[len(t.frames)-2]) {
					f.at = 0
					continue
				}
			}
			t.frames = t.frames[:len(t.frames)-1]
			if len(t.frames) > 0 {
				e.taskEnds(i)
			}
			continue
		}
		task := f.list[f.at]
		x := e.runs[t.run].execution
		if x.tasks++; x.tasks > maxTasks {
			e.endRun(t.run, errTasks)
			return
		}
		if task.If != nil {
			if ok, err := task.If.Truth(e.seen(t)); !ok {
				if e.trace != nil {
					e.trace.taskSkipped(e, t, task, err)
				}
				f.at++
				continue
			}
		}
		if e.trace != nil {
			e.trace.taskBegins(e, t, task)
		}
		if !e.do(i, task) {
			return
		}
	}
}

// goesOn reports whether a `for` goes on by its `while`; owner is the frame that
// the `for` is a task of.
func (e *engine) goesOn(t *thread, owner frame) bool {
	w := owner.list[owner.at].While
	if w == nil {
		return true
	}
	ok, _ := w.Truth(e.seen(t))
	return ok
}

// do performs a task; false: the thread waits, or has ended.
func (e *engine) do(i uint32, task *graph.Task) bool {
	t := &e.threads[i]
	push := func(f frame) { t.frames = append(t.frames, f) }
	switch {
	case task.Link != graph.None:
		t.tries = 0
		return e.taskCalls(i, task)
	case task.For != nil:
		items, err := task.In.List(e.seen(t))
		if err != nil {
			return e.throw(i, errFails)
		}
		push(frame{list: task.Do, kind: inFor, items: items})
		if len(items) == 0 || !e.goesOn(t, t.frames[len(t.frames)-2]) {
			t.frames = t.frames[:len(t.frames)-1]
			return e.taskEnds(i)
		}
	case task.Do != nil:
		push(frame{list: task.Do})
	case task.Fork != nil:
		return e.fork(i, task)
	case task.Cases != nil:
		for _, c := range task.Cases {
			if c.When != nil {
				if ok, _ := c.When.Truth(e.seen(t)); !ok {
					continue
				}
			}
			return e.jump(i, c.Then)
		}
		return e.taskEnds(i)
	case task.Try != nil:
		push(frame{list: task.Try, kind: inTry, tries: 1, began: e.Now, input: t.data})
	case task.IsWait:
		t.after = nextTask
		t.timer = e.Schedule(e.Now+int64(task.Wait), evTask, i)
		if e.trace != nil {
			e.trace.task(e, t, "waits", model.FormatDuration(task.Wait))
		}
		return false
	case task.Raise != "":
		return e.throw(i, e.errorNumber(task.Raise))
	case task.Set != nil:
		if v, err := task.Set.Value(e.seen(t)); err == nil {
			t.data = v
		} else {
			return e.throw(i, errFails)
		}
		return e.taskEnds(i)
	default: // an empty list
		return e.taskEnds(i)
	}
	return true
}

// taskEnds goes on behind the task in hand.
func (e *engine) taskEnds(i uint32) bool {
	t := &e.threads[i]
	f := &t.frames[len(t.frames)-1]
	task := f.list[f.at]
	if e.trace != nil {
		e.trace.taskEnds(e, t, task)
	}
	return e.jump(i, task.Then)
}

// jump goes on where `then` says.
func (e *engine) jump(i uint32, then string) bool {
	t := &e.threads[i]
	f := &t.frames[len(t.frames)-1]
	switch then {
	case "", "continue":
		f.at++
	case "exit":
		f.at = len(f.list)
	case "end":
		t.frames = t.frames[:0]
		if t.parent != 0 { // the whole workflow ends
			e.taskingDone(t.run)
			return false
		}
	default:
		for k, other := range f.list {
			if other.Name == then {
				f.at = k
			}
		}
	}
	return true
}

// threadEnds comes when a thread has done all its tasks.
func (e *engine) threadEnds(i uint32) {
	t := &e.threads[i]
	run, parent, branch, data := t.run, t.parent, t.branch, t.data
	if parent == 0 {
		e.taskingDone(run)
		return
	}
	e.dropThread(i)
	p := &e.threads[parent]
	f := &p.frames[len(p.frames)-1]
	p.branches--
	if f.list[f.at].Compete {
		e.dropBranches(run, parent)
		p = &e.threads[parent]
		p.data = data
	} else {
		p.outputs[branch] = data
		if p.branches > 0 {
			return
		}
		p.data, p.outputs = any(p.outputs), nil
	}
	if e.taskEnds(parent) {
		e.step(parent)
	}
}

// taskingDone goes on with the next message, or with what the run sends.
func (e *engine) taskingDone(run uint32) {
	e.dropExecution(run)
	e.runs[run].index++
	e.startTasks(run)
}

// fork starts the branches of a task.
func (e *engine) fork(i uint32, task *graph.Task) bool {
	t := &e.threads[i]
	t.branches, t.outputs = len(task.Fork), make([]any, len(task.Fork))
	t.forks++
	run, turn, forks, data := t.run, t.turn, t.forks, t.data
	for k := range task.Fork {
		b := e.newThread(run, data)
		c := &e.threads[b]
		c.parent, c.branch = i, k
		c.frames = append(c.frames, frame{list: task.Fork[k : k+1]})
		e.step(b)
		if p := &e.threads[i]; p.turn != turn || p.forks != forks || p.branches == 0 {
			return false // it has ended, or an error has been caught, on the way
		}
	}
	return false
}

// dropBranches ends what still goes on of a fork.
func (e *engine) dropBranches(run, parent uint32) {
	x := e.runs[run].execution
	for k := len(x.threads) - 1; k >= 0; k-- {
		if k < len(x.threads) && e.threads[x.threads[k]].parent == parent {
			child := x.threads[k]
			e.dropBranches(run, child)
			e.dropThread(child)
			k = len(x.threads)
		}
	}
	e.threads[parent].branches = 0
}

// taskTime comes when what a thread waited for is over.
func (e *engine) taskTime(i uint32) {
	t := &e.threads[i]
	t.timer = 0
	f := &t.frames[len(t.frames)-1]
	goesOn := true
	switch t.after {
	case nextTask:
		goesOn = e.taskEnds(i)
	case callAgain:
		goesOn = e.taskCalls(i, f.list[f.at])
	}
	if goesOn {
		e.step(i)
	}
}

func (t *tracer) taskBegins(e *engine, th *thread, task *graph.Task) {
	t.task(e, th, "runs", "task "+task.Name)
}

func (t *tracer) taskEnds(e *engine, th *thread, task *graph.Task) {
	t.task(e, th, "ends", "task "+task.Name)
}

func (t *tracer) taskSkipped(e *engine, th *thread, task *graph.Task, err error) {
	why := fmt.Sprintf("task %s: its `if` does not hold", task.Name)
	if err != nil {
		why = fmt.Sprintf("task %s: %v", task.Name, err)
	}
	t.task(e, th, "declined", why)
}
