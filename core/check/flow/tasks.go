package flow

import (
	"maps"
	"math"
	"slices"

	"ironweir/core/check/internal/dist"
	"ironweir/core/expr"
	"ironweir/core/graph"
)

// failure is a run, or part of one, that ended with an error.
type failure struct {
	at   dist.Law
	name string
}

// taskWalk follows a workflow's tasks; errors are what nothing has caught so far.
type taskWalk struct {
	*walker
	errors []failure
	ended  dist.Law // left by `then: end`
	steps  int
}

// maxTaskSteps bounds the tasks that are followed, so that jumps back end.
const maxTaskSteps = 2_000

// doTasks follows the tasks of a workflow, if the node is one.
func (w *walker) doTasks(alive dist.Law) dist.Law {
	if w.n.Tasks == nil {
		return alive
	}
	before, visits := alive, maps.Clone(w.out.visits)
	alive = w.goThrough(w, alive)
	// A message that some callee never processes: either the tasks catch that, or the
	// whole execution never succeeds.
	for _, e := range w.a.States.Leaving(w.state) {
		o := w.a.States.outcomes[w.mode][e.To]
		if e.Kind != Calls || o == nil || len(o.dooms) == 0 || !w.a.Link(e.Link).ByTask || before.Mass == 0 {
			continue
		}
		scratch := *w
		scratch.asked = nil
		scratch.out = &RunOutcome{
			errors: map[string]float64{},
			visits: map[int]float64{},
			again:  map[int]float64{},
			dooms:  map[int]float64{},
			sent:   map[int]float64{},
		}
		scratch.doomed = e.Link
		d := &taskWalk{walker: &scratch}
		left := d.list(w.n.Tasks, before)
		if left = left.Or(d.ended); left.Mass < 1e-9*before.Mass {
			seconds := d.endsAfter(w.limit)
			for _, node := range slices.Sorted(maps.Keys(o.dooms)) {
				w.doom(node, o.dooms[node], seconds)
			}
			more := (scratch.out.visits[e.Link] - w.out.visits[e.Link]) / before.Mass
			w.out.again[e.Link] = before.Mass * o.never * max(more, 0)
			continue
		}
		share := 0.0
		for _, x := range o.dooms {
			share = max(share, x)
		}
		w.fail(alive.Times(share*(1-min(left.Mass/before.Mass, 1))), "call-failed")
		alive = alive.Times(1 - share).Or(left.Times(share * alive.Mass / before.Mass))
	}
	if w.a.readsBatches(w.at) {
		alive = w.tasksOfOthers(before, alive, visits)
	}
	return alive
}

// goThrough follows the tasks once, for a message of a walker whose errors are those of the run.
func (w *walker) goThrough(of *walker, alive dist.Law) dist.Law {
	t := &taskWalk{walker: of}
	late, failed := of.out.Late, of.out.errors["timeout"]
	alive = t.list(w.n.Tasks, alive)
	if of != w { // what it was late for is late for the run
		w.out.Late += of.out.Late - late
		w.fail(dist.Constant(w.limit).Times(of.out.errors["timeout"]-failed), "timeout")
		w.out.guessed = w.out.guessed || of.out.guessed
	}
	for _, e := range t.errors {
		w.fail(e.at, e.name)
	}
	return alive.Or(t.ended)
}

// tasksOfOthers follows the tasks for the other messages of a batch, one after the other within one run. Before is how
// the run stood before the tasks for its own message, and alive after them; visits are the calls before them.
func (w *walker) tasksOfOthers(before, alive dist.Law, visits map[int]float64) dist.Law {
	w.out.batched = w.out.batched || alive.Mass < before.Mass || alive.Mean() > before.Mean()
	first, own, others := before.Mass, w.out.visits, w.taskMates()
	turns, mass := 1.0, first // turns so far, and the runs alive at the beginning of each
	for rest := w.batch - 1; rest > 1e-9 && alive.Mass > 1e-12; {
		messages, entered := min(rest, 1), alive
		if turns > manyTimes { // those left take as long and fail as often as the last
			messages = rest
			passed := math.Pow(min(alive.Mass/before.Mass, 1), rest)
			w.fail(alive.Times(1-passed), "call-failed")
			more := dist.Constant(rest * max(alive.Mean()-before.Mean(), 0))
			alive = w.cut(alive.Times(passed).Plus(more))
			mass += rest * alive.Mass
		} else {
			alive = alive.Times(1 - messages)
			for _, x := range others {
				alive = alive.Or(w.goThrough(x.of, entered.Times(messages*x.share)))
			}
			mass += messages * entered.Mass
		}
		turns, rest, before = turns+messages, rest-messages, entered
	}
	// Its own turn comes at any place among those of the others.
	for link, visited := range own {
		if w.a.Link(link).ByTask && first > 0 {
			own[link] = visits[link] + (visited-visits[link])*mass/turns/first
		}
	}
	return alive
}

// taskMate is another message of a batch, of a share of them, with a walker of its own, which counts no calls.
type taskMate struct {
	of    *walker
	share float64
}

// taskMates lists what the others of a batch may be; in the worst case they are as this one.
func (w *walker) taskMates() []taskMate {
	mates := w.mates()
	if w.mode == Worst || len(mates) == 0 {
		mates = []mate{{w.state, 1}}
	}
	sum := 0.0
	for _, x := range mates {
		sum += x.share
	}
	out := make([]taskMate, len(mates))
	for k, x := range mates {
		for _, e := range w.a.States.Leaving(x.state) {
			if e.Kind == Calls && x.state != w.state {
				w.a.Outcome(e.To, w.mode) // which a walk finds worked out
			}
		}
		other := w.a.newWalker(x.state, w.mode)
		other.limit, other.fault, other.depth = w.limit, w.fault, w.depth
		other.admitted, other.asked = w.admitted, w.asked
		out[k] = taskMate{other, x.share / sum}
		w.out.guessed = w.out.guessed || other.out.guessed
	}
	return out
}

// endsAfter returns the mean time, in seconds, after which tasks end that all fail.
func (t *taskWalk) endsAfter(limit float64) float64 {
	sum, mass := 0.0, 0.0
	for _, e := range t.errors {
		sum += e.at.Mean() * e.at.Mass
		mass += e.at.Mass
	}
	switch {
	case mass > 0:
		return sum / mass
	case math.IsInf(limit, 1):
		return 0
	}
	return limit // all are late
}

func (t *taskWalk) throw(at dist.Law, name string) {
	if at.Mass > 0 {
		t.errors = append(t.errors, failure{at, name})
	}
}

// list follows a list of tasks and returns the time at its end.
func (t *taskWalk) list(tasks []*graph.Task, alive dist.Law) dist.Law {
	places := map[string]int{}
	for k, task := range tasks {
		places[task.Name] = k
	}
	here := make([]dist.Law, len(tasks)+1)
	here[0] = alive
	jump := func(from int, to string, l dist.Law) {
		switch to {
		case "", "continue":
			here[from+1] = here[from+1].Or(l)
		case "exit":
			here[len(tasks)] = here[len(tasks)].Or(l)
		case "end":
			t.ended = t.ended.Or(l)
		default:
			here[places[to]] = here[places[to]].Or(l)
		}
	}
	for k := 0; k < len(tasks); {
		l := here[k]
		here[k] = dist.Law{}
		if l.Mass < 1e-12 {
			k++
			continue
		}
		if t.steps++; t.steps > maxTaskSteps {
			t.throw(l, "too-many-tasks")
			k++
			continue
		}
		task := tasks[k]
		if task.If != nil {
			switch v := t.holds(task.If); {
			case v == expr.Impossible:
				jump(k, "", l)
				k++
				continue
			case v == expr.Possible && t.mode == Best:
				jump(k, "", l) // both ways are possible: the one that does nothing cannot fail
				k++
				continue
			}
		}
		before := lowest(here)
		if task.Switch != nil {
			t.branch(task, k, l, jump)
		} else {
			jump(k, task.Then, t.one(task, l))
		}
		if k = lowest(here); k > before && before < len(tasks) {
			k = min(k, before)
		}
	}
	return here[len(tasks)]
}

// lowest returns the first place that something waits at.
func lowest(here []dist.Law) int {
	for k, l := range here {
		if l.Mass >= 1e-12 {
			return k
		}
	}
	return len(here)
}

// holds judges a condition of a task. After `set` and calls the payload is not
// known, so it is taken as unknown.
func (t *taskWalk) holds(x *expr.Expression) reach {
	e, has := t.a.Seen(t.at.Message, t.at.event)
	v := x.Judge(e, has&^expr.KnownData)
	if v == expr.Possible {
		t.out.guessed = true
	}
	return v
}

// branch follows a switch; where it is unknown which case holds, all that may get an
// equal share.
func (t *taskWalk) branch(task *graph.Task, k int, l dist.Law, jump func(int, string, dist.Law)) {
	var ways []string
	sure := false
	for i := range task.Cases {
		c := &task.Cases[i]
		v := expr.Certain
		if c.When != nil {
			v = t.holds(c.When)
		}
		if v != expr.Impossible {
			ways = append(ways, c.Then)
		}
		if v == expr.Certain {
			sure = true
			break
		}
	}
	if !sure {
		ways = append(ways, task.Then)
	}
	for _, to := range ways {
		jump(k, to, l.Times(1/float64(len(ways))))
	}
}

// one follows one task.
func (t *taskWalk) one(task *graph.Task, l dist.Law) dist.Law {
	switch {
	case task.Call != "":
		if task.Link == graph.None {
			return l
		}
		return t.call(t.a.Link(task.Link), l, t.throw)
	case task.Raise != "":
		t.throw(l, task.Raise)
		return dist.Law{}
	case task.IsWait:
		return t.cut(l.Plus(dist.Constant(task.Wait.Seconds())))
	case task.Fork != nil:
		return t.fork(task, l)
	case task.For != nil:
		return t.repeat(task, l)
	case task.Do != nil:
		return t.list(task.Do, l)
	case task.Try != nil:
		return t.try(task, l)
	}
	return l
}

// repeat follows a `for`.
func (t *taskWalk) repeat(task *graph.Task, l dist.Law) dist.Law {
	times := 1
	if task.In != nil {
		e, has := t.a.Seen(t.at.Message, t.at.event)
		length, known := task.In.ListLength(e, has)
		if known {
			times = length
		} else {
			t.out.guessed = true
		}
	}
	if task.While != nil {
		t.out.guessed = true
	}
	for k := 0; k < min(times, 50) && l.Mass > 0; k++ {
		l = t.list(task.Do, l)
	}
	return l
}

// fork follows branches side by side: it ends when the last of them does, or with
// `compete` when the first does.
func (t *taskWalk) fork(task *graph.Task, l dist.Law) dist.Law {
	joined := dist.Law{}
	for k, b := range task.Fork {
		one := t.list([]*graph.Task{b}, dist.Constant(0))
		if k == 0 {
			joined = one
			continue
		}
		joined = joined.Meet(one, task.Compete)
	}
	t.noteRandom(joined)
	return t.cut(t.sum(l, joined))
}

// try follows a `try` with its `catch`.
func (t *taskWalk) try(task *graph.Task, l dist.Law) dist.Law {
	outer := t.errors
	done := dist.Law{}
	left := l
	retry := task.Catch.Retry
	var caught, uncaught []failure
	for k := 1; left.Mass > 1e-12; k++ {
		t.errors = nil
		done = done.Or(t.list(task.Try, left))
		caught = caught[:0]
		left = dist.Law{}
		for _, e := range t.errors {
			if !t.catches(task, e.name) {
				uncaught = append(uncaught, e)
				continue
			}
			if retry != nil && (retry.Count == 0 && k < 30 || k <= retry.Count && k < 30) {
				wait := retry.Delay.Seconds() + (retry.JitterFrom+retry.JitterTo).Seconds()/2
				switch retry.Backoff {
				case "linear":
					wait *= float64(k)
				case "exponential":
					wait *= math.Pow(2, float64(k-1))
				}
				left = left.Or(t.cut(e.at.Plus(dist.Constant(wait))))
				continue
			}
			caught = append(caught, e)
		}
	}
	t.errors = append(outer, uncaught...)
	for _, e := range caught {
		done = done.Or(t.list(task.CatchDo, e.at))
	}
	return done
}

// catches reports whether a `catch` takes an error.
func (t *taskWalk) catches(task *graph.Task, name string) bool {
	if task.Catch.Type != "" && task.Catch.Type != name {
		return false
	}
	if task.CatchWhen != nil {
		t.out.guessed = true
		return t.mode != Worst
	}
	return true
}
