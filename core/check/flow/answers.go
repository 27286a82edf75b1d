package flow

import (
	"cmp"
	"maps"
	"slices"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Answers is what is known of the answers that an endpoint gives to requests.
type Answers struct {
	Fails    float64            // share that is answered as failed with nothing broken, as it probably is
	Possible bool               // some may be, though nothing says so for sure
	Over     float64            // share that comes over the rate limit, by chance, and is answered so
	Declined expr.Verdict       // whether no link accepts some request, which is answered so
	Errors   map[string]float64 // that share by the error of the run
	Lasting  []string           // faults, any one of which fails every request while it lasts
	Full     []string           // faults after which a queue is full some day, which the answer depends on
	Crashes  []string           // faults that fail the requests in hand
	Typical  float64            // seconds, the mean of those that succeed
}

// AnswersOf works out the answers of an endpoint, over the states in which requests come.
func (a *Analysis) AnswersOf(endpoint int) *Answers {
	out := &Answers{Errors: map[string]float64{}, Over: a.overRequests(a.Node(endpoint))}
	var lasting, full faultSet
	crashes := map[string]bool{}
	weight := 0.0
	for _, in := range a.Spread(endpoint) {
		usual := a.Outcome(in.State, Usual)
		out.Fails += in.share * usual.Bad()
		out.Possible = out.Possible || a.Outcome(in.State, Worst).Bad() >= Negligible
		for name, share := range usual.errors {
			out.Errors[name] += in.share * share
		}
		if usual.Why != "" && usual.never > 0 {
			out.Errors[usual.Why] += in.share * usual.never
		}
		out.Typical += in.share * usual.success.Mass * usual.success.Mean()
		weight += in.share * usual.success.Mass
		out.Declined = max(out.Declined, a.declined(in.State))
		set := a.closure(in.State)
		for _, e := range a.States.Leaving(in.State) {
			if e.Link != graph.None && a.Link(e.Link).Relation == model.Write {
				only := a.faults.only(a.Link(e.Link).To)
				lasting.merge(only)
				set = slices.Clone(set)
				set.merge(only)
			}
		}
		lasting.merge(set)
		for _, q := range a.limited {
			if !set.has(q) {
				continue
			}
			for _, fill := range a.faults.fills[q] {
				full.merge(fill.faults)
			}
		}
		a.crashesOnce(in.State, crashes)
	}
	if weight > 0 {
		out.Typical /= weight
	}
	for _, f := range lasting.list() {
		out.Lasting = append(out.Lasting, a.faults.names[f])
	}
	_, later := full.both(lasting)
	for _, f := range later.list() {
		out.Full = append(out.Full, a.faults.names[f])
	}
	out.Crashes = slices.Sorted(maps.Keys(crashes))
	return out
}

// declined judges whether no link accepts a request.
func (a *Analysis) declined(s int) expr.Verdict {
	accepted := expr.Impossible
	for _, e := range a.States.Leaving(s) {
		if e.Link != graph.None && e.Kind != GaveUp {
			accepted = max(accepted, e.Verdict)
		}
	}
	return expr.Certain - accepted
}

// MostFrequent gives the error that most of the failed answers have; empty: none is known.
func (x *Answers) MostFrequent() string {
	names := slices.SortedFunc(maps.Keys(x.Errors), func(p, q string) int {
		return cmp.Or(cmp.Compare(x.Errors[q], x.Errors[p]), cmp.Compare(p, q))
	})
	if len(names) == 0 {
		return ""
	}
	return names[0]
}

// crashesOnce gathers the crashes that fail what waits at a state: those of what it calls, where no further try
// follows.
func (a *Analysis) crashesOnce(s int, out map[string]bool) {
	seen := map[int]bool{}
	for work := []int{s}; len(work) > 0; work = work[1:] {
		at := work[0]
		if seen[at] {
			continue
		}
		seen[at] = true
		if n := a.Node(a.States.All[at].Node); n.Kind.Invoked() {
			out[n.Name+"/crash"] = true
		}
		for _, e := range a.States.Leaving(at) {
			if e.Kind == Calls && !a.Link(e.Link).Forgiven() && a.Link(e.Link).Policy.Tries == 1 {
				work = append(work, e.To)
			}
		}
	}
}
