package flow

import (
	"ironweir/core/graph"
)

// bothFail is two sets of faults: a run fails while one of each lasts.
type bothFail [2]faultSet

// mostFallbacks bounds the pairs that are looked at for one state.
const mostFallbacks = 16

// fallbacks lists the pairs of faults by which every run at a state fails although
// neither fails it alone: a workflow that tries one call, catches its error and makes
// another, and what waits for such a workflow.
func (a *Analysis) fallbacks(s int) []bothFail {
	f := a.faults
	if pairs, known := f.fallbacks[s]; known {
		return pairs
	}
	f.fallbacks[s] = nil // where calls wait for each other in a circle
	var out []bothFail
	add := func(pairs []bothFail) { out = append(out, pairs[:min(len(pairs), mostFallbacks-len(out))]...) }
	callee := map[int]int{} // by link
	for _, e := range a.States.Leaving(s) {
		if e.Kind != Calls || a.Link(e.Link).Ignore {
			continue
		}
		callee[e.Link] = e.To
		if !a.Link(e.Link).Caught && !a.Link(e.Link).InCatch {
			add(a.fallbacks(e.To))
		}
	}
	if tasks := a.Node(a.States.All[s].Node).Tasks; tasks != nil {
		_, pairs := a.taskFaults(tasks, callee)
		add(pairs)
	}
	f.fallbacks[s] = out
	return out
}

// taskFaults returns the faults, any one of which fails a list of tasks, and the pairs
// of which that takes one of each.
func (a *Analysis) taskFaults(tasks []*graph.Task, callee map[int]int) (one faultSet, two []bothFail) {
	also := func(t []*graph.Task) {
		o, p := a.taskFaults(t, callee)
		one.merge(o)
		two = append(two, p...)
	}
	for _, t := range tasks {
		if t.If != nil || t.Switch != nil {
			continue // it need not be done
		}
		switch {
		case t.Call != "":
			if to, ok := callee[t.Link]; ok && t.Link != graph.None {
				one.merge(a.closure(to))
				two = append(two, a.fallbacks(to)...)
			}
		case t.Fork != nil && !t.Compete:
			also(t.Fork)
		case t.Do != nil && t.For == nil && t.While == nil:
			also(t.Do)
		case t.Try != nil:
			tried, _ := a.taskFaults(t.Try, callee)
			if t.Catch.Type != "" || t.CatchWhen != nil || tried.empty() {
				continue // which errors it catches is not known here
			}
			if then, _ := a.taskFaults(t.CatchDo, callee); !then.empty() {
				two = append(two, bothFail{tried, then})
			}
		}
	}
	return one, two
}

// together returns the fallbacks of a state as faults that need no second one, since
// they fail both calls, and as pairs of two.
func (a *Analysis) together(s int) (one faultSet, two []bothFail) {
	for _, p := range a.fallbacks(s) {
		common, first := p[0].both(p[1])
		_, second := p[1].both(p[0])
		one.merge(common)
		if !first.empty() && !second.empty() {
			two = append(two, bothFail{first, second})
		}
	}
	return one, two
}
