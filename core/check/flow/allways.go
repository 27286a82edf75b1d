package flow

import (
	"math"
	"slices"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// onAllWays works out for each state the nodes or faults that are met on all ways by which messages come there: adds
// gives those of a way over an edge, from those of the state that it leaves.
func (a *Analysis) onAllWays(adds func(from int, e *Edge, set faultSet) faultSet) []faultSet {
	sets := make([]faultSet, len(a.States.All))
	known := make([]bool, len(sets)) // of one that is not, every way is still to come
	queued := make([]bool, len(sets))
	var work []int
	for s := range sets {
		if a.IsEntry[s] || len(a.Into[s]) == 0 {
			known[s], queued[s] = true, true
			work = append(work, s)
		}
	}
	for len(work) > 0 {
		from := work[0]
		work, queued[from] = work[1:], false
		edges := a.States.Leaving(from)
		for k := range edges {
			s := edges[k].To
			if known[s] && sets[s].empty() {
				continue
			}
			set := adds(from, &edges[k], sets[from])
			if known[s] {
				if sets[s].within(set) {
					continue
				}
				set, _ = sets[s].both(set)
			}
			sets[s], known[s] = set, true
			if !queued[s] {
				work, queued[s] = append(work, s), true
			}
		}
	}
	return sets
}

// findDry works out the faults by which nothing new comes to a state: all that sends there fails by them, or receives
// nothing itself, or it is at a channel that rejects by them what is written. Of a message at such a state only those
// are concerned that were on their way when the fault began, so that the time within which one is lost has no end.
func (a *Analysis) findDry() {
	a.faults.dry = a.onAllWays(func(from int, e *Edge, set faultSet) faultSet {
		switch {
		case e.Kind == GaveUp || e.Kind == Result && a.Link(e.Link).When == model.Failure:
			set = nil
		case e.Kind == Sends || e.Kind == Result:
			set.merge(a.alwaysFails(from))
		}
		if to := a.States.All[e.To].Node; a.Node(to).Kind.Channel() {
			set.add(to)
		}
		return set
	})
}

// dryAt gives the faults by which nothing new comes to any state of a node.
func (a *Analysis) dryAt(node int) faultSet {
	var dry faultSet
	for k, s := range a.States.Of[node] {
		if k == 0 {
			dry = a.faults.dry[s]
			continue
		}
		dry, _ = dry.both(a.faults.dry[s])
	}
	return dry
}

// onTheWay bounds the messages that may still come to a node, at its rate per second, when nothing new does.
func onTheWay(rate float64) float64 { return 60*rate + 5 }

// fewOf splits a delivery into that of what was on its way when a fault began by which nothing new comes, and the rest;
// either may have no faults.
func (a *Analysis) fewOf(d delivery) (few, rest delivery) {
	few, rest = d, d
	few.faults, rest.faults = d.faults.both(a.faults.dry[d.state])
	few.pairs, few.others, few.after.high = nil, nil, math.Inf(1)
	return few, rest
}

// findPassed works out the callees that messages at a state have surely been processed by. What a callee never
// processes is the same for all calls that come of one message, so that no later call fails for good there.
func (a *Analysis) findPassed() {
	calls := map[int]faultSet{} // by node: those of each of its runs
	for i := range a.Graph.Links {
		l := a.Link(i)
		if l.Relation == model.WaitingCall && l.Chance >= 1 && !l.Forgiven() && !l.InCatch && a.sureTask(l) &&
			l.When == model.OfRun && a.Node(l.To).Fails.ForGood > 0 {
			set := calls[l.From]
			set.add(l.To)
			calls[l.From] = set
		}
	}
	a.passed = nil
	if len(calls) == 0 {
		return
	}
	a.findEntryStates()
	a.passed = a.onAllWays(func(from int, e *Edge, set faultSet) faultSet {
		if e.Kind != Sends && (e.Kind != Result || a.Link(e.Link).When != model.Success) {
			return set
		}
		for _, node := range calls[a.States.All[from].Node].list() {
			if a.surelyCalls(from, node) {
				set.add(node)
			}
		}
		return set
	})
}

// sureTask reports whether a call, if a task makes it, is made on every way through the tasks, and nothing catches that
// it fails.
func (a *Analysis) sureTask(l *graph.Link) bool {
	return !l.ByTask || !l.Sometimes && !l.Caught && !tries(a.Node(l.From).Do)
}

// tries reports whether any of some tasks catches what fails in others.
func tries(tasks []*model.Task) bool {
	found := false
	model.Walk(tasks, model.Place{}, func(t *model.Task, _ model.Place) { found = found || t.Try != nil })
	return found
}

// surelyCalls reports whether every run at a state that succeeds has called a node.
func (a *Analysis) surelyCalls(s, node int) bool {
	return slices.ContainsFunc(a.States.Leaving(s), func(e Edge) bool {
		return e.Kind == Calls && e.Verdict == expr.Certain && a.Link(e.Link).To == node
	})
}

// spared gives the answer of a callee to a message that it has processed before.
func (w *walker) spared(to int, o *RunOutcome) *RunOutcome {
	if w.a.passed == nil || len(o.dooms) != 1 || o.dooms[to] == 0 || !w.a.passed[w.state].has(to) {
		return o
	}
	spared := *o
	spared.never, spared.dooms, spared.doomTime, spared.doomShare = 0, map[int]float64{}, 0, 0
	return &spared
}
