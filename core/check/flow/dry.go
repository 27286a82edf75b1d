package flow

import (
	"math"

	"ironweir/core/model"
)

// findDry works out the faults by which nothing new comes to a state: all that sends there fails by them, or receives
// nothing itself. Of a message at such a state only those are concerned that were on their way when the fault began, so
// that the time within which one is lost has no end.
func (a *Analysis) findDry() {
	f := a.faults
	f.dry = make([]faultSet, len(a.States.All))
	known := make([]bool, len(f.dry)) // those that are not are taken to hold every fault
	queued := make([]bool, len(f.dry))
	var work []int
	for s := range f.dry {
		if a.IsEntry[s] || len(a.Into[s]) == 0 {
			known[s] = true
			work, queued[s] = append(work, s), true
		}
	}
	for len(work) > 0 {
		from := work[0]
		work, queued[from] = work[1:], false
		for _, e := range a.States.Leaving(from) {
			s := e.To
			if known[s] && f.dry[s].empty() {
				continue
			}
			set := f.dry[from]
			switch {
			case e.Kind == GaveUp || e.Kind == Result && a.Link(e.Link).When == model.Failure:
				set = nil
			case e.Kind == Sends || e.Kind == Result:
				set.merge(a.alwaysFails(from))
			}
			if known[s] {
				if f.dry[s].within(set) {
					continue
				}
				set, _ = f.dry[s].both(set)
			}
			f.dry[s], known[s] = set, true
			if !queued[s] {
				work, queued[s] = append(work, s), true
			}
		}
	}
}

// fewOf splits a delivery into that of what was on its way when a fault began by which nothing new comes, and the rest;
// either may have no faults.
func (a *Analysis) fewOf(d delivery) (few, rest delivery) {
	few, rest = d, d
	few.faults, rest.faults = d.faults.both(a.faults.dry[d.state])
	few.pairs, few.others, few.after.high = nil, nil, math.Inf(1)
	return few, rest
}
