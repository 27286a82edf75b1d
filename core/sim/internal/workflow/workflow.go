// Package workflow takes runs of workflows through their tasks: lists, loops, branches, tries and calls.
package workflow

import (
	"fmt"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/random"
)

// Interpreter takes runs of workflows through their tasks.
type Interpreter struct {
	*engine.Engine
	executions []*execution // by run
	threads    []thread
	freeThread uint32
	luck       *random.Stream
}

// New makes the interpreter of a replication.
func New(e *engine.Engine) *Interpreter {
	return &Interpreter{Engine: e, luck: e.Stream("", "tasks")}
}

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

// Start begins the execution of a workflow for the message in hand.
func (e *Interpreter) Start(i uint32) {
	r := &e.Runs[i]
	r.Phase = engine.Tasking
	if int(r.Index) >= e.Messages(r) {
		r.Phase, r.Step, r.Index, r.Reps = engine.Calling, 0, 0, -1
		e.Advance(i)
		return
	}
	m, takesPart := e.Message(r, int(r.Index))
	if !takesPart {
		r.Index++
		e.Start(i)
		return
	}
	for len(e.executions) <= int(i) {
		e.executions = append(e.executions, nil)
	}
	e.executions[i] = &execution{}
	_, data := e.dataOf(&m)
	t := e.newThread(i, data)
	e.threads[t].frames = append(e.threads[t].frames, frame{list: e.Graph.Nodes[r.Node].Tasks})
	e.step(t)
}

func (e *Interpreter) dataOf(m *engine.Message) (string, any) {
	ev := e.EventOfMessage(m, "message")
	return ev.Type, ev.Data
}

func (e *Interpreter) newThread(run uint32, data any) uint32 {
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
	x := e.executions[run]
	x.threads = append(x.threads, i)
	return i
}

func (e *Interpreter) dropThread(i uint32) {
	t := &e.threads[i]
	x := e.executions[t.run]
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

// Drop ends all threads of a run.
func (e *Interpreter) Drop(i uint32) {
	if int(i) >= len(e.executions) {
		return
	}
	x := e.executions[i]
	for x != nil && len(x.threads) > 0 {
		e.dropThread(x.threads[len(x.threads)-1])
	}
	e.executions[i] = nil
}

// seen fills the scratch event with what an expression of a task sees.
func (e *Interpreter) seen(t *thread) *expr.Event {
	r := &e.Runs[t.run]
	m, _ := e.Message(r, int(r.Index))
	ev := e.EventOfMessage(&m, e.KindAt(r, int(r.Index)))
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
func (e *Interpreter) step(i uint32) {
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
		x := e.executions[t.run]
		if x.tasks++; x.tasks > maxTasks {
			e.EndRun(t.run, engine.ErrTasks)
			return
		}
		if task.If != nil {
			if ok, err := task.If.Truth(e.seen(t)); !ok {
				if e.Trace != nil {
					e.noteSkipped(t, task, err)
				}
				f.at++
				continue
			}
		}
		if e.Trace != nil {
			e.note(t, "runs", "task "+task.Name)
		}
		if !e.do(i, task) {
			return
		}
	}
}

// goesOn reports whether a `for` goes on by its `while`; owner is the frame that
// the `for` is a task of.
func (e *Interpreter) goesOn(t *thread, owner frame) bool {
	w := owner.list[owner.at].While
	if w == nil {
		return true
	}
	ok, _ := w.Truth(e.seen(t))
	return ok
}

// do performs a task; false: the thread waits, or has ended.
func (e *Interpreter) do(i uint32, task *graph.Task) bool {
	t := &e.threads[i]
	push := func(f frame) { t.frames = append(t.frames, f) }
	switch {
	case task.Link != graph.None:
		t.tries = 0
		return e.taskCalls(i, task)
	case task.For != nil:
		items, err := task.In.List(e.seen(t))
		if err != nil {
			return e.throw(i, engine.ErrFails)
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
		t.timer = e.Schedule(e.Now+int64(task.Wait), engine.EvTask, i)
		if e.Trace != nil {
			e.note(t, "waits", model.FormatDuration(task.Wait))
		}
		return false
	case task.Raise != "":
		return e.throw(i, e.ErrorNumber(task.Raise))
	case task.Set != nil:
		if v, err := task.Set.Value(e.seen(t)); err == nil {
			t.data = v
		} else {
			return e.throw(i, engine.ErrFails)
		}
		return e.taskEnds(i)
	default: // an empty list
		return e.taskEnds(i)
	}
	return true
}

// taskEnds goes on behind the task in hand.
func (e *Interpreter) taskEnds(i uint32) bool {
	t := &e.threads[i]
	f := &t.frames[len(t.frames)-1]
	task := f.list[f.at]
	if e.Trace != nil {
		e.note(t, "ends", "task "+task.Name)
	}
	return e.jump(i, task.Then)
}

// jump goes on where `then` says.
func (e *Interpreter) jump(i uint32, then string) bool {
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
func (e *Interpreter) threadEnds(i uint32) {
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
func (e *Interpreter) taskingDone(run uint32) {
	e.Drop(run)
	e.Runs[run].Index++
	e.Start(run)
}

// fork starts the branches of a task.
func (e *Interpreter) fork(i uint32, task *graph.Task) bool {
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
func (e *Interpreter) dropBranches(run, parent uint32) {
	x := e.executions[run]
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

// Waits reports whether a thread waits for a timer.
func (e *Interpreter) Waits(i uint32, timer uint64) bool { return e.threads[i].timer == timer }

// Resume comes when what a thread waited for is over.
func (e *Interpreter) Resume(i uint32) {
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

// note records a step of a thread, with its payload at that moment.
func (e *Interpreter) note(t *thread, what, why string) { e.Trace.Task(t.run, t.data, what, why) }

func (e *Interpreter) noteSkipped(t *thread, task *graph.Task, err error) {
	why := fmt.Sprintf("task %s: its `if` does not hold", task.Name)
	if err != nil {
		why = fmt.Sprintf("task %s: %v", task.Name, err)
	}
	e.note(t, "declined", why)
}

// RunOf gives the run that a thread belongs to.
func (e *Interpreter) RunOf(thread uint32) uint32 { return e.threads[thread].run }
