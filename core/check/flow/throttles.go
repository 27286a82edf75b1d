package flow

import (
	"math"
	"slices"

	"ironweir/core/model"
)

// mostAway bounds the share of offers that is said to be turned away.
const mostAway = 0.999

// rarelyAway is the share of offers that are turned away below which it is not counted.
const rarelyAway = 1e-6

// offers is what a node is asked to run by the messages at a state.
type offers struct {
	load  float64 // mean concurrent runs if nothing is turned away
	times float64 // how often a message is offered again, at most; infinite: until it runs
}

// findThrottles works out how often each node with a limit turns a run away for want of
// room, and reports whether that has changed. What is turned away comes again after a
// while, as long as its policy lets it; offers are taken to be independent of each other,
// so that a share B = E(c, A) of them finds all c runs busy (Erlang's loss formula), where
// A = Σ a·(1 + B + … + Bⁿ⁻¹) counts those that come again. Outside systems turn away what is over their rate.
func (a *Analysis) findThrottles() bool {
	found, loads := map[int]float64{}, map[int]float64{}
	limit := func(nodes []int, c int) {
		var all []offers
		most := 0.0 // that can run at once
		for _, i := range nodes {
			if a.Boundless[i] {
				return
			}
			all = append(all, a.offersTo(i)...)
			most += a.mostAtOnce(i)
		}
		total := 0.0
		for _, o := range all {
			total += o.load
		}
		away := 0.0
		if most > float64(c) {
			away = turnedAwayShare(c, all)
		}
		for _, i := range nodes {
			if away > found[i] {
				found[i] = away
			}
			loads[i] = max(loads[i], total/float64(c))
		}
	}
	pools := map[string][]int{}
	for i := range a.Graph.Nodes {
		n := a.Node(i)
		if !n.Kind.Runs() {
			continue
		}
		if n.Concurrency > 0 {
			limit([]int{i}, n.Concurrency)
		}
		if n.Pool != "" {
			pools[n.Pool] = append(pools[n.Pool], i)
		}
		if n.Kind == model.Outside && n.RateLimit > 0 && !a.Boundless[i] {
			found[i] = overRate(a.askedOf(i)/n.RateLimit, max(n.RateLimit, 1))
		}
	}
	for _, name := range SortedKeys(pools) {
		if size := a.Graph.Topology.Pools[name]; size > 0 {
			limit(pools[name], size)
		}
	}
	for i, was := range a.throttled { // in a loop, less comes round when some of it is turned away
		found[i] = max(found[i], was)
	}
	for i := range found {
		if found[i] < rarelyAway {
			delete(found, i)
		}
	}
	same := alike(a.throttled, found)
	a.throttled, a.loads = found, loads
	return !same
}

// offersTo lists what a node is offered.
func (a *Analysis) offersTo(i int) []offers {
	var out []offers
	for _, s := range a.States.Of[i] {
		at := a.States.All[s]
		rate := a.stateRates[s]
		if rate == 0 {
			continue
		}
		o := offers{times: 1}
		length := a.Outcome(int(s), Usual).Length.Mean()
		switch at.How {
		case AsIntake, AsPoll:
			a.unthrottled(func() { o.load = rate * a.FateOf(int(s), Usual).runs * length })
			o.times = a.offeredAgain(at)
			if at.How == AsPoll && a.Link(int(at.Link)).Relation == model.PolledRun {
				o.load /= a.batchOf(a.Link(int(at.Link)))
			}
		default:
			o.load = rate * length
		}
		out = append(out, o)
	}
	return out
}

// unthrottled works something out as if no node turned anything away.
func (a *Analysis) unthrottled(work func()) {
	was := a.throttled
	a.throttled = nil
	work()
	a.throttled = was
}

// offeredAgain returns how often a message at a state is offered to a node that turns
// it away [AI-03, PR-07, PR-08].
func (a *Analysis) offeredAgain(at State) float64 {
	p := *a.PolicyOf(at.Context)
	if at.How == AsPoll {
		if a.Node(a.Link(int(at.Link)).From).Kind.Leases() && p.Tries > 0 {
			return float64(p.Tries)
		}
		return math.Inf(1)
	}
	p.Tries = 0
	if p.GiveUp == 0 {
		return math.Inf(1)
	}
	times, _ := a.triesInTime(at, &p, 0, nil)
	return times
}

// mostAtOnce bounds the runs of a node that can be asked for at once: a reader waits for
// its run, and so does a caller.
func (a *Analysis) mostAtOnce(i int) float64 { return a.mostAskedFor(i, map[int]bool{}) }

func (a *Analysis) mostAskedFor(i int, inside map[int]bool) float64 {
	if inside[i] || len(inside) > mostChecked { // callers that wait for each other, or a long chain of them
		return math.Inf(1)
	}
	inside[i] = true
	defer delete(inside, i)
	most, callers := 0.0, map[int]bool{}
	for _, s := range a.States.Of[i] {
		if h := a.States.All[s].How; h != AsPoll && h != AsCall && a.stateRates[s] > 0 {
			return math.Inf(1)
		}
	}
	for _, id := range a.Node(i).In {
		l := a.Link(id)
		from := a.Node(l.From)
		switch {
		case l.Relation.Polls() && !from.Kind.Leases():
			if a.partitions[l.From] == 0 {
				return math.Inf(1)
			}
			most += float64(a.partitions[l.From] * max(l.Read.Parallel, 1))
		case l.Relation.Polls():
			most += float64(max(l.Read.Parallel, 1))
		case l.Relation == model.WaitingCall && from.Concurrency > 0 && from.Kind != model.Workflow:
			most += float64(from.Concurrency)
		case l.Relation == model.WaitingCall && a.LinkRates[id] > 0:
			if from.Kind == model.Workflow || a.givesUpWaiting(l.From) {
				return math.Inf(1)
			}
			if !callers[l.From] { // one call after the other
				callers[l.From] = true
				most += a.mostAskedFor(l.From, inside)
			}
		}
	}
	return most
}

// givesUpWaiting reports whether runs of a node may end while what they have called goes on.
func (a *Analysis) givesUpWaiting(i int) bool {
	return slices.ContainsFunc(a.States.Of[i], func(s int32) bool { return a.Outcome(int(s), Worst).Late > 0 })
}

// turnedAwayShare solves B = E(c, A(B)) by bisection.
func turnedAwayShare(c int, all []offers) float64 {
	if !slices.ContainsFunc(all, func(o offers) bool { return o.load > 0 }) {
		return 0
	}
	offered := func(b float64) float64 {
		sum := 0.0
		for _, o := range all {
			sum += o.load * (1 - math.Pow(b, o.times)) / (1 - b)
		}
		return sum
	}
	low, high := 0.0, mostAway
	for range 60 {
		b := (low + high) / 2
		if erlangB(c, offered(b)) > b {
			low = b
		} else {
			high = b
		}
	}
	return (low + high) / 2
}

// erlangB returns the share of offers that find c servers busy, for a load in Erlang, by
// the stable recursion of Erlang's first formula.
func erlangB(c int, load float64) float64 {
	b := 1.0
	for k := 1; k <= c; k++ {
		b = load * b / (float64(k) + load*b)
	}
	return b
}

// askedOf returns the calls and pushes per second that an outside system gets, those that it turns away included.
func (a *Analysis) askedOf(i int) float64 {
	asked := 0.0
	for _, s := range a.States.Of[i] {
		runs := 1.0 // a call: its caller makes the tries
		if a.States.All[s].How != AsCall && a.stateRates[s] > 0 {
			runs = a.FateOf(int(s), Usual).runs
		}
		asked += a.stateRates[s] * runs
	}
	return asked
}

// longestBurst bounds the bursts that are counted exactly, in messages.
const longestBurst = 400

// overRate returns the share of Poisson arrivals that is over a rate limit: load is the arrival rate, in units of the
// limit, and burst how many the limit lets through at once. A limit of one at a time is a server that is
// busy for as long as a token needs, of which the others are waiting places: what it turns away is the loss of M/D/1/K,
// K = burst (in whole messages), by the chain that is seen at departures, whose balance across each level has positive
// terms only.
func overRate(load, burst float64) float64 {
	places := int(min(burst, longestBurst))
	more := make([]float64, places+1) // chance that more than k come while one is served
	p, below := math.Exp(-load), 0.0
	for k := range more {
		below += p
		more[k] = max(1-below, 0)
		p *= load / float64(k+1)
	}
	none := math.Exp(-load)
	levels := make([]float64, places)
	levels[0] = 1
	sum := 1.0
	for k := 1; k < places; k++ {
		up := levels[0] * more[k-1]
		for j := 1; j < k; j++ {
			up += levels[j] * more[k-j]
		}
		if levels[k] = up / none; levels[k] > 1e200 { // nearly all finds it full
			return 1 - 1/load
		}
		sum += levels[k]
	}
	return max(1-1/(levels[0]/sum+load), 0)
}

// turnsAway returns the chance that a node turns an offer away.
func (a *Analysis) turnsAway(i int, m Mode) float64 {
	switch b := a.throttled[i]; m {
	case Best:
		return 0
	case Worst:
		return min(b*(1+(1-b)/2), mostAway) // offers may come in bursts
	default:
		return b
	}
}

// longestPause is how long a reader pauses at most whose batches are turned away [PR-06].
const longestPause = 60 // seconds

// turnsReaderAway returns the chance that a node turns away what a reader brings. Readers
// pause when they are turned away, so that in a node which is always busy, others than
// those whose runs are in progress ask once a pause.
func (a *Analysis) turnsReaderAway(i int, m Mode) float64 {
	b := a.turnsAway(i, m)
	if a.Node(i).Kind == model.Outside {
		return 0 // a push over its rate fails [OS-02]
	}
	if b == 0 || a.loads[i] < 1 {
		return b
	}
	n := a.Node(i)
	places := float64(n.Concurrency)
	if places == 0 {
		places = float64(a.Graph.Topology.Pools[n.Pool])
	}
	idle := max(a.mostAtOnce(i)-places, 0) / longestPause
	if math.IsInf(idle, 1) {
		return b
	}
	runs := places / max(n.Takes.Expected(), 1e-3)
	return min(b, idle/(idle+runs))
}

// tooOld returns the share of the messages at an intake that are turned away until they
// are too old.
func (a *Analysis) tooOld(at State, m Mode) float64 {
	if a.Node(at.Node).Kind == model.Outside {
		return 0 // a push over its rate has used up a try [OS-02]
	}
	again := a.offeredAgain(at)
	if math.Pow(a.throttled[at.Node], again) < rarelyAway {
		return 0
	}
	return math.Pow(a.turnsAway(at.Node, m), again)
}
