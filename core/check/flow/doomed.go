package flow

import "ironweir/core/expr"

// findDoomedCalls works out which share of the calls that come to a state is for messages
// that it never processes: callers make those again and again. It reports whether that has
// changed.
func (a *Analysis) findDoomedCalls() bool {
	before := a.doomedCalls
	a.doomedCalls = map[int]float64{}
	for _, s := range a.States.Order { // callers come before what they call
		o := a.Outcome(int(s), Usual)
		if a.States.All[s].How != AsCall || o.never == 0 {
			continue
		}
		calls, doomed := 0.0, 0.0
		for from, e := range a.edgesInto(int(s)) {
			if e.Kind == Calls && e.Verdict != expr.Impossible {
				calls += a.stateRates[from] * e.expected
				doomed += a.stateRates[from] * min(a.doomedBy(from, e, o.never), e.expected)
			}
		}
		if calls > 0 {
			a.doomedCalls[int(s)] = max(doomed/calls, o.never)
		}
	}
	return !alike(before, a.doomedCalls)
}

// doomedBy returns the calls by an edge, for each message at its caller, that are for
// messages which the callee, with a chance of never, does not process.
func (a *Analysis) doomedBy(caller int, e *Edge, never float64) float64 {
	o := a.Outcome(caller, Usual)
	if o.mayMeet > 0 && a.Link(e.Link).Chance < 1 {
		return never * o.visits[e.Link] * a.FateOf(caller, Usual).met
	}
	if l := a.Link(e.Link); o.never == 0 || l.Forgiven() && !l.ByTask { // its caller does not call again for them
		return never * e.expected
	}
	by := min(o.never, never*a.Link(e.Link).Chance) // share of its messages that the callee dooms
	calls := (by*o.visits[e.Link] + o.again[e.Link]) * (1 - a.endsBefore(caller, e.Link, Usual))
	if a.States.All[caller].How == AsCall {
		return calls * a.doomedShare(caller, Usual) / o.never
	}
	return calls * a.FateOf(caller, Usual).doomed
}

// doomedShare returns the share of the calls to a state that it never processes, as it does of
// their messages with some chance.
func (a *Analysis) doomedShare(s int, m Mode) float64 {
	never := a.Outcome(s, m).never
	if share, known := a.doomedCalls[s]; known && never > 0 {
		return max(share, never)
	}
	return never
}
