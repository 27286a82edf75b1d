package flow

import (
	"cmp"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"

	"ironweir/core/check/remedy"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Availability is what the stated breakdowns of nodes and groups (`breaks`) do to the
// messages of an entry in a year of 365 days at its mean rate.
type Availability struct {
	Lost         *float64       `json:"lost_per_year"`     // messages; null: unknown, see the assumptions
	Parked       *float64       `json:"parked_per_year"`   // in dead-letter or failure nodes that nothing leaves
	Late         *float64       `json:"late_per_year"`     // that met a breakdown and got through by their tries
	Returned     *float64       `json:"returned_per_year"` // requests answered with an error
	By           []Contribution `json:"by"`                // the most lost first, then the most parked
	Improvements []Improvement  `json:"improvements"`      // the fewest lost first
	Basis        Basis          `json:"basis,omitempty"`
	Assumptions  []string       `json:"assumptions,omitempty"`
}

// Contribution is the part of one breakdown, or of two that overlap.
type Contribution struct {
	Faults   []string `json:"faults"`
	Lost     float64  `json:"lost_per_year"`
	Parked   float64  `json:"parked_per_year"`
	Late     float64  `json:"late_per_year"`
	Returned float64  `json:"returned_per_year"`

	At    int    `json:"-"` // the state of most of it
	Limit string `json:"-"` // the field that sets how long it holds out there
	Link  int    `json:"-"`
	Cause string `json:"-"`
}

// Improvement is a change and what is left after it.
type Improvement struct {
	remedy.Remedy
	Lost   float64 `json:"lost_per_year"`
	Parked float64 `json:"parked_per_year"`
}

// Year is the time that availability counts over, in seconds.
const Year = 365 * 24 * 3600.0

// Breaker is a node or group that breaks down by itself: it works and is down in turn,
// an alternating renewal process.
type Breaker struct {
	fault int // see faultModel
	every model.Distribution
	lasts model.Distribution
}

// downFor returns the chance that it is down at a random instant and stays down for at
// least the given seconds: E[(D−t)⁺] / (E[U]+E[D]), where U and D are the times for
// which it works and is down (renewal theory: Ross, Stochastic Processes, 3.4).
func (b *Breaker) downFor(seconds float64) float64 {
	return Excess(b.lasts, max(seconds, 0)) / (b.every.Expected() + b.lasts.Expected())
}

// Excess returns E[(X−t)⁺] in seconds.
func Excess(d model.Distribution, t float64) float64 {
	mean := d.Expected()
	switch {
	case math.IsInf(t, 1):
		return 0
	case t <= 0:
		return mean - t
	}
	switch d.Dist {
	case "exponential":
		return mean * math.Exp(-t/mean)
	case "uniform":
		if t < d.Min {
			return mean - t
		}
		over := max(d.Max-t, 0)
		return over * over / (2 * (d.Max - d.Min))
	case "lognormal":
		if d.Sigma == 0 {
			break
		}
		z := (math.Log(d.P50/t) + d.Sigma*d.Sigma) / d.Sigma
		return max(mean*distuv.UnitNormal.CDF(z)-t*distuv.UnitNormal.CDF(z-d.Sigma), 0)
	case "gamma":
		if d.CV == 0 {
			break
		}
		shape := 1 / (d.CV * d.CV)
		above := func(k float64) float64 { return distuv.Gamma{Alpha: k, Beta: shape / mean}.Survival(t) }
		return max(mean*above(shape+1)-t*above(shape), 0)
	case "samples":
		sum := 0.0
		for _, v := range d.Values {
			sum += max(v-t, 0)
		}
		return sum / float64(len(d.Values))
	}
	return max(mean-t, 0)
}

// Breakers lists the nodes and groups that break down by themselves.
func (a *Analysis) Breakers() []Breaker {
	var out []Breaker
	for i := range a.Graph.Nodes {
		if b := a.Node(i).Breaks; b != nil {
			out = append(out, Breaker{i, b.Every, b.For})
		}
	}
	for k, name := range a.faults.names[a.faults.nodes:] {
		if b := a.Graph.Topology.GroupBreaks[name]; b != nil {
			out = append(out, Breaker{a.faults.nodes + k, b.Every, b.For})
		}
	}
	return out
}

// impact is what breakdowns do to one message at a state.
type impact struct {
	one, two                     int // breakers; two is None unless both must be down
	lost, parked, late, returned float64
	unsure                       bool
	limit                        string
	link                         int
	cause                        string
}

// availabilityWork bounds the pairs of states and breakers that are looked at.
const availabilityWork = 4_000_000

// available works out the availability of all entries.
type available struct {
	a        *Analysis
	breakers []Breaker
	impacts  [][]impact         // by state
	gone     map[onward]float64 // the share of messages that does not go on as usual
	met      []meeting          // by state, of one breaker: see meetings
}

// meeting says when messages at a state were last where a breakdown would have held
// them up: they know then that it was not down.
type meeting struct {
	known float64 // share of the messages that have met it
	age   float64 // seconds since, mean of those
}

// findAvailability works out what the stated breakdowns do to the messages of each
// entry. One breakdown that lasts D holds up, parks or loses a message that comes while
// it lasts, by how long its tries go on (T): of a rate of breakdowns β and of messages
// λ, λβE[(D−T)⁺] are lost. Two breakdowns are independent.
func (a *Analysis) findAvailability() {
	v := &available{a: a, breakers: a.Breakers()}
	if len(v.breakers) == 0 {
		return
	}
	n := len(a.States.All)
	v.impacts, v.gone, v.met = make([][]impact, n), map[onward]float64{}, make([]meeting, n)
	partial := false
	for b := range v.breakers {
		if partial = (b+1)*n > availabilityWork; partial {
			break
		}
		v.meetings(b)
		for s := range a.States.All {
			v.impactsAt(s, b)
		}
	}
	for s := range a.States.All {
		v.pairsAt(s)
	}
	for _, i := range a.EntryNodes {
		e := a.Entries[a.Node(i).Name]
		e.Availability = v.of(i)
		if partial && e.Availability != nil {
			e.Availability.Basis = Basis{"lost_per_year": AtLeast, "parked_per_year": AtLeast,
				"late_per_year": AtLeast, "returned_per_year": AtLeast}
			e.Availability.Assumptions = append(e.Availability.Assumptions,
				"the model is large: only a part of the breakdowns is counted")
		}
		a.Entries[a.Node(i).Name] = e
	}
}

// meetings works out by state when messages last met a breaker, in one pass in the
// order of the graph: within a loop, those that come round have met it as before.
func (v *available) meetings(b int) {
	a, f := v.a, v.breakers[b].fault
	g := a.States
	clear(v.met)
	weight := make([]float64, len(g.All)) // traffic that has come there so far
	for _, s := range g.Order {
		at := v.met[s]
		if w := weight[s]; w > 0 {
			at.known, at.age = at.known/w, at.age/max(at.known, 1e-300)
		}
		v.met[s] = at
		meets := g.All[s].How != AtChannel && (a.closure(int(s)).has(f) || a.failsBoth(int(s), f))
		for _, k := range a.faults.at[s] {
			meets = meets || a.faults.deliveries[k].faults.has(f)
		}
		rate := a.stateRates[s]
		if rate == 0 || a.grows[s] {
			continue
		}
		before := 0.0 // a run meets what it calls when its own work is done [F-07]
		if n := a.Node(g.All[s].Node); meets && n.Kind.Runs() && !a.faults.only(n.ID).has(f) {
			before = n.Takes.Expected()
		}
		for _, e := range g.Leaving(int(s)) {
			w := rate * e.expected
			if w == 0 || g.Component[e.To] == g.Component[s] {
				continue
			}
			known, age := at.known, at.age+e.Delay
			if meets {
				known, age = 1, max(e.Delay-before, 0)
			}
			weight[e.To] += w
			v.met[e.To].known += w * known
			v.met[e.To].age += w * known * age
		}
	}
}

// lastsFor returns the chance that a message at a state comes while a breaker is down
// and stays down for the given time. Of messages that have met it a while ago, only
// those are held up before which it has broken down since.
func (v *available) lastsFor(b, s int, seconds float64) float64 {
	k, m := &v.breakers[b], v.met[s]
	all := k.downFor(seconds)
	if m.known == 0 {
		return all
	}
	since := (all - k.downFor(seconds+m.age+v.a.untilRead(s))) / (1 - k.downFor(0)) // given that it worked then
	return (1-m.known)*all + m.known*since
}

// untilRead returns how long a message waits at a channel until a reader takes it, in
// seconds: the least over its readers.
func (a *Analysis) untilRead(s int) float64 {
	least := math.Inf(1)
	for _, e := range a.States.Leaving(s) {
		if e.Kind == Polls {
			least = min(least, e.Delay)
		}
	}
	if math.IsInf(least, 1) {
		return 0
	}
	return least
}

// pairsAt adds what the pairs do that fail a run only together.
func (v *available) pairsAt(s int) {
	a := v.a
	each := func(pairs []bothFail, seconds float64, do func(one, two int, share float64)) {
		for _, p := range pairs {
			for i := range v.breakers {
				for j := range v.breakers {
					one, two := &v.breakers[i], &v.breakers[j]
					if i != j && p[0].has(one.fault) && p[1].has(two.fault) {
						do(i, j, one.downFor(seconds)*two.downFor(seconds))
					}
				}
			}
		}
	}
	if a.States.All[s].How == AsRequest {
		_, pairs := a.together(s)
		each(pairs, 0, func(one, two int, share float64) {
			v.impacts[s] = append(v.impacts[s], impact{one: one, two: two, returned: share})
			v.gone[onward{s, graph.None}] += share
		})
		return
	}
	for _, k := range a.faults.at[s] {
		d := &a.faults.deliveries[k]
		each(d.pairs, d.after.At, func(one, two int, share float64) {
			x := impact{one: one, two: two, limit: d.limit, link: d.link, cause: d.cause}
			x.unsure = rangeOf(d.after) != nil
			switch {
			case d.to == graph.None:
				x.lost = share
			case a.restsAt(d.to):
				x.parked = share
			}
			v.impacts[s] = append(v.impacts[s], x)
			v.gone[onward{s, d.link}] += share
		})
	}
}

// impactsAt adds what one breaker does to a message at a state.
func (v *available) impactsAt(s, b int) {
	a, k := v.a, &v.breakers[b]
	at := a.States.All[s]
	if at.How == AsRequest {
		if a.closure(s).has(k.fault) || a.failsBoth(s, k.fault) || a.rejectsRequest(s, k.fault) {
			share := v.lastsFor(b, s, 0)
			v.impacts[s] = append(v.impacts[s], impact{one: b, two: graph.None, returned: share,
				unsure: !a.alwaysFails(s).has(k.fault) && !a.rejectsRequest(s, k.fault) || a.retriesCalls(s)})
			v.gone[onward{s, graph.None}] += share
		}
		return
	}
	soonest := map[int][]*delivery{} // by link: the deliveries that give up first
	var links []int
	for _, i := range a.faults.at[s] {
		d := &a.faults.deliveries[i]
		if !d.faults.has(k.fault) || d.behind {
			continue
		}
		list := soonest[d.link]
		switch {
		case len(list) == 0:
			links = append(links, d.link)
		case d.after.At > list[0].after.At:
			continue
		case d.after.At < list[0].after.At:
			list = nil
		}
		soonest[d.link] = append(list, d)
	}
	for _, link := range links {
		v.deliveryImpact(s, b, soonest[link])
	}
}

// deliveryImpact adds what one breaker does to what leaves a state over one link: it goes
// where its deliveries say when it is given up, which is at the same moment for all.
func (v *available) deliveryImpact(s, b int, soonest []*delivery) {
	a, k := v.a, &v.breakers[b]
	first := soonest[0]
	share := v.lastsFor(b, s, first.after.At)
	held := v.lastsFor(b, s, 0)
	unsure := rangeOf(first.after) != nil || a.mayMiss(s, k.fault)
	out := impact{one: b, two: graph.None, late: max(held-share, 0), unsure: unsure,
		limit: first.limit, link: first.link, cause: first.cause}
	v.gone[onward{s, first.link}] += share
	ways := 0.0
	for _, d := range soonest {
		if d.to == graph.None {
			ways = 0
			out.lost = share
			break
		}
		ways++
	}
	if ways == 0 {
		v.impacts[s] = append(v.impacts[s], out)
		return
	}
	found := givenUp{v, b, []impact{out}}
	for _, d := range soonest {
		found.follow(s, d, share/ways)
	}
	v.impacts[s] = append(v.impacts[s], found.impacts...)
}

// rejectsRequest reports whether an endpoint answers with an error under a fault, since
// it cannot write what it accepts.
func (a *Analysis) rejectsRequest(s, fault int) bool {
	for _, e := range a.States.Leaving(s) {
		if e.Link == graph.None {
			continue
		}
		if l := a.Link(e.Link); l.Relation == model.Write && !l.Ignore && a.faults.only(l.To).has(fault) {
			return true
		}
	}
	return false
}

// failsBoth reports whether one fault fails a call and the one that is made instead.
func (a *Analysis) failsBoth(s, fault int) bool {
	return slices.ContainsFunc(a.fallbacks(s), func(p bothFail) bool { return p[0].has(fault) && p[1].has(fault) })
}

// mayMiss reports whether a run at a state, or behind the channel that it is, need not
// meet a fault although it may: it calls by chance.
func (a *Analysis) mayMiss(s, fault int) bool {
	miss := func(s int) bool { return a.closure(s).has(fault) && !a.alwaysFails(s).has(fault) }
	if a.States.All[s].How != AtChannel {
		return miss(s)
	}
	for _, e := range a.States.Leaving(s) {
		if e.Kind == Polls && miss(e.To) {
			return true
		}
	}
	return false
}

// retriesCalls reports whether an endpoint tries a call again before it answers.
func (a *Analysis) retriesCalls(s int) bool {
	for _, e := range a.States.Leaving(s) {
		if e.Kind == Calls && a.Link(e.Link).Policy.Tries != 1 {
			return true
		}
	}
	return false
}

// detours that are longer, or as improbable for a message, are not followed.
const (
	longestDetour = 12
	leastDetour   = 1e-15
)

// givenUp collects what one breaker does to messages that are given up at a state.
type givenUp struct {
	v       *available
	b       int
	impacts []impact
}

// add notes a share that is lost or parked, with another breaker (two) or without.
func (f *givenUp) add(two int, lost, parked float64, of *delivery) {
	for i := range f.impacts {
		if p := &f.impacts[i]; p.two == two {
			p.lost += lost
			p.parked += parked
			return
		}
	}
	f.impacts = append(f.impacts, impact{one: f.b, two: two, lost: lost, parked: parked, unsure: f.impacts[0].unsure,
		limit: of.limit, link: of.link, cause: of.cause})
}

// lose notes what of a share is lost by a delivery that fails too, since the breaker has
// been down for so long and still is, or since others are; it returns what is left.
func (f *givenUp) lose(share, after float64, last *delivery) float64 {
	left := share
	for other := range f.v.breakers {
		k := &f.v.breakers[other]
		if !last.faults.has(k.fault) {
			continue
		}
		part, two := share*k.downFor(last.after.At), other
		if other == f.b {
			part, two = share*k.stays(after, last.after.At), graph.None
		}
		f.add(two, part, 0, last)
		left -= part
	}
	return max(left, 0)
}

// follow follows a share of messages that goes to a dead-letter or failure node during a
// breakdown: it rests there, or is lost when that is down too.
func (f *givenUp) follow(s int, d *delivery, share float64) {
	a := f.v.a
	for _, i := range a.deadAt[s] { // the write there may be rejected
		if last := &a.dead[i]; last.target == d.to {
			share = f.lose(share, d.after.At, &last.delivery)
		}
	}
	type step struct {
		state int
		share float64
		after float64 // seconds of the breakdown so far
		hops  int
	}
	work := []step{{d.to, share, d.after.At, 0}}
	for len(work) > 0 {
		at := work[len(work)-1]
		work = work[:len(work)-1]
		if a.restsAt(at.state) {
			f.add(graph.None, 0, at.share, d)
			continue
		}
		left := at.share
		for _, i := range a.faults.at[at.state] {
			if last := &a.faults.deliveries[i]; last.to == graph.None && !last.behind {
				left -= at.share - f.lose(at.share, at.after, last)
			}
		}
		if at.hops == longestDetour {
			continue
		}
		for _, e := range a.States.Leaving(at.state) {
			if m := max(left, 0) * e.expected; m >= leastDetour && e.To != at.state && !a.grows[e.To] {
				work = append(work, step{e.To, m, at.after + e.Delay, at.hops + 1})
			}
		}
	}
}

// stays returns the chance that a breaker that has been down for so long stays so for
// a while longer.
func (b *Breaker) stays(after, longer float64) float64 {
	if so := b.downFor(after); so > 0 {
		return b.downFor(after+longer) / so
	}
	return 0
}

// restsAt reports whether messages stay at a state: nothing leaves it.
func (a *Analysis) restsAt(s int) bool {
	n := a.Node(a.States.All[s].Node)
	return n.Kind.Channel() && len(n.Out) == 0
}

// of adds up what happens to the messages of an entry in a year.
func (v *available) of(entry int) *Availability {
	a := v.a
	out := &Availability{By: []Contribution{}, Improvements: []Improvement{}, Basis: Basis{}}
	if a.arrivals[entry] == 0 {
		out.Assumptions = []string{"no rate is stated for its messages, so nothing can be said of a year"}
		return out
	}
	start := make([]float64, len(a.States.All))
	for _, in := range a.Spread(entry) {
		start[in.State] += in.share
	}
	visits, grows := a.States.solve(start, a.grows, v.gone)
	if grows {
		out.Assumptions = []string{"a loop makes ever more of its messages"}
		return out
	}
	t := tally{v: v, sums: map[pair]*Contribution{}, most: map[pair]float64{}}
	again := false
	for s, visited := range visits {
		again = again || visited > 0 && v.sendsAgain(s)
		for k := range v.impacts[s] {
			if visited > 0 {
				t.add(s, &v.impacts[s][k], visited*a.arrivals[entry]*Year)
			}
		}
	}
	for _, c := range t.sums {
		out.By = append(out.By, *c)
	}
	slices.SortFunc(out.By, func(x, y Contribution) int {
		return cmp.Or(cmp.Compare(y.Lost, x.Lost), cmp.Compare(y.Parked, x.Parked), cmp.Compare(y.Returned, x.Returned),
			cmp.Compare(y.Late, x.Late), slices.Compare(x.Faults, y.Faults))
	})
	out.Lost, out.Parked, out.Late, out.Returned = &t.all.lost, &t.all.parked, &t.all.late, &t.all.returned
	for _, f := range []struct {
		name        string
		unsure, all float64
	}{
		{"lost_per_year", t.unsure.lost, t.all.lost},
		{"parked_per_year", t.unsure.parked, t.all.parked},
		{"late_per_year", t.unsure.late, t.all.late},
		{"returned_per_year", t.unsure.returned, t.all.returned},
	} {
		if f.unsure > 0.01*f.all || again && f.all > 0 {
			out.Basis[f.name] = Estimate
		}
	}
	if again {
		out.Assumptions = append(out.Assumptions, "what a run has sent when it meets a breakdown, and sends again when it "+
			"is tried again, is counted once")
	}
	return out
}

// sendsAgain reports whether runs at a state send something before they meet a breaker:
// while it is down, each try sends it again.
func (v *available) sendsAgain(s int) bool {
	a := v.a
	n := a.Node(a.States.All[s].Node)
	if !n.Kind.Runs() || n.Together {
		return false
	}
	sent := false
	for _, id := range n.Out { // in the order in which a run comes to them
		l := a.Link(id)
		if l.When != model.OfRun {
			continue
		}
		met := a.faults.only(l.To)
		for _, e := range a.States.Leaving(s) {
			if e.Link == id && e.Kind == Calls {
				met = a.closure(e.To)
			}
		}
		if sent && !l.Forgiven() && slices.ContainsFunc(v.breakers, func(b Breaker) bool { return met.has(b.fault) }) {
			return true
		}
		sent = true
	}
	return false
}

// pair is a breaker, or two of which the second is not None.
type pair struct{ one, two int }

// tally adds up what breakers do to the messages of an entry.
type tally struct {
	v           *available
	sums        map[pair]*Contribution
	most        map[pair]float64 // by what the worst state of each weighs
	all, unsure impact           // in all, and what of it rests on estimates
}

// add adds what happens to so many messages a year at a state.
func (t *tally) add(s int, x *impact, messages float64) {
	p := pair{x.one, x.two}
	if p.two != graph.None && p.two < p.one {
		p = pair{p.two, p.one}
	}
	c := t.sums[p]
	if c == nil {
		name := func(b int) string { return t.v.a.faults.names[t.v.breakers[b].fault] }
		c = &Contribution{Faults: []string{name(p.one)}}
		if p.two != graph.None {
			c.Faults = append(c.Faults, name(p.two))
		}
		t.sums[p] = c
	}
	c.Lost += messages * x.lost
	c.Parked += messages * x.parked
	c.Late += messages * x.late
	c.Returned += messages * x.returned
	sums := []*impact{&t.all}
	if x.unsure {
		sums = append(sums, &t.unsure)
	}
	for _, sum := range sums {
		sum.lost += messages * x.lost
		sum.parked += messages * x.parked
		sum.late += messages * x.late
		sum.returned += messages * x.returned
	}
	if heavy := messages * (x.lost*1e3 + x.parked); heavy > t.most[p] {
		t.most[p], c.At, c.Limit, c.Link, c.Cause = heavy, s, x.limit, x.link, x.cause
	}
}
