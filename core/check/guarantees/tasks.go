package guarantees

import (
	"ironweir/core/check/flow"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// taskOrder is the order of a workflow's calls: positions of its tasks as written, and
// the ranges of positions that may be done more than once.
type taskOrder struct {
	at      map[int][]int // by call link
	loops   [][2]int      // from, below: tasks of a loop or of a fork, in any order
	retries [][2]int      // tasks that are tried again after an error
	raises  []int         // tasks that end in an error
	catches [][2][2]int   // tasks, and those that are done after an error of them
	mayFail map[int]bool  // positions of calls and of raised errors
	count   int
}

// tasksOf returns the order of a workflow's calls; nil: it has no tasks.
func (q *guarantor) tasksOf(n *graph.Node) *taskOrder {
	if len(n.Tasks) == 0 {
		return nil
	}
	o := q.tasks[n.ID]
	if o == nil {
		o = &taskOrder{at: map[int][]int{}, mayFail: map[int]bool{}}
		o.list(n.Tasks)
		q.tasks[n.ID] = o
	}
	return o
}

func (o *taskOrder) list(tasks []*graph.Task) {
	begin := o.count
	jumps := false
	for _, t := range tasks {
		from := o.count
		o.count++
		if t.Link != graph.None {
			o.at[t.Link] = append(o.at[t.Link], from)
			o.mayFail[from] = true
		}
		if t.Raise != "" {
			o.raises = append(o.raises, from)
			o.mayFail[from] = true
		}
		jumps = jumps || t.Switch != nil || t.Then != "" && t.Then != "continue" && t.Then != "end" && t.Then != "exit"
		o.list(t.Do)
		if t.For != nil {
			o.loops = append(o.loops, [2]int{from, o.count})
		}
		if len(t.Fork) > 0 {
			o.list(t.Fork)
			o.loops = append(o.loops, [2]int{from, o.count})
		}
		if len(t.Try) > 0 {
			from := o.count
			o.list(t.Try)
			tried := [2]int{from, o.count}
			o.list(t.CatchDo)
			o.catches = append(o.catches, [2][2]int{tried, {tried[1], o.count}})
			if t.Catch != nil && t.Catch.Retry != nil {
				o.retries = append(o.retries, tried)
			}
		}
	}
	if jumps { // it may jump back
		o.loops = append(o.loops, [2]int{begin, o.count})
	}
}

func inRange(r [2]int, p int) bool { return p >= r[0] && p < r[1] }

// after reports whether the task at a position may be done after one that has succeeded.
func (o *taskOrder) after(done, next int) bool {
	for _, l := range o.loops {
		if inRange(l, done) && inRange(l, next) {
			return true
		}
	}
	if next <= done {
		return false
	}
	for _, c := range o.catches { // only an error of a later task leads there
		if tried := c[0]; inRange(tried, done) && inRange(c[1], next) && !o.failsAfter(done, tried) {
			return false
		}
	}
	return true
}

// failsAfter reports whether, of some tasks, one is done after another that may fail.
func (o *taskOrder) failsAfter(done int, in [2]int) bool {
	for k := in[0]; k < in[1]; k++ {
		if o.mayFail[k] && o.after(done, k) {
			return true
		}
	}
	return false
}

// follows reports whether a call may come after another, or after itself.
func (o *taskOrder) follows(own, other int) bool {
	for _, p := range o.at[own] {
		for _, r := range o.at[other] {
			if o.after(p, r) {
				return true
			}
		}
	}
	return false
}

// raisesAfter reports whether a task may end in an error after a call, within a range.
func (o *taskOrder) raisesAfter(own int, in [2]int) bool {
	for _, p := range o.at[own] {
		for _, r := range o.raises {
			if inRange(in, r) && o.after(p, r) {
				return true
			}
		}
	}
	return false
}

// retriedTask returns a task after whose error the tasks before it, the one of an edge
// among them, are done again, and whether it can fail with nothing broken.
func (q *guarantor) retriedTask(s int, e *flow.Edge) (*graph.Link, bool) {
	o := q.tasksOf(q.a.Node(q.g.All[s].Node))
	if o == nil || e.Link == graph.None || !q.a.Link(e.Link).ByTask {
		return nil, false
	}
	var found *graph.Link
	for _, retry := range o.retries {
		for _, p := range o.at[e.Link] {
			if !inRange(retry, p) {
				continue
			}
			if o.raisesAfter(e.Link, retry) {
				return q.a.Link(e.Link), true
			}
			for _, next := range q.g.Leaving(s) {
				if next.Kind != flow.Calls || !q.a.Link(next.Link).ByTask || !o.follows(e.Link, next.Link) {
					continue
				}
				l := q.a.Link(next.Link)
				for _, r := range o.at[next.Link] {
					if inRange(retry, r) && found == nil {
						found = l
					}
					if inRange(retry, r) && q.callFails(&next) {
						return l, true
					}
				}
			}
			if found == nil && q.a.Outcome(s, flow.Worst).Late > 0 {
				found = q.a.Link(e.Link)
			}
		}
	}
	return found, false
}

// callFails reports whether a call can fail with nothing broken.
func (q *guarantor) callFails(e *flow.Edge) bool {
	n := q.a.Node(q.g.All[e.To].Node)
	if n.Kind == model.Outside || n.Kind.Runs() {
		return q.a.Outcome(e.To, flow.Worst).Bad() > 0 || n.Concurrency > 0 || n.Pool != "" || n.RateLimit > 0
	}
	return n.Fails.EachTry > 0 || n.Fails.ForGood > 0
}
