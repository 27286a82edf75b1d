package guarantees

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"ironweir/core/check/flow"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// passage is what happens to the messages of one entry on their way. Everything is
// followed forwards, in one pass over the states that they reach; what is known of a
// state stands at its place on the way.
type passage struct {
	q     *walker
	entry int
	way   []int32 // the states that they reach, each behind those that lead to it
	first []int32 // the steps of place k are steps[first[k]:first[k+1]]
	steps []step

	surely       map[int]bool // nodes that every message reaches
	repeats      [2][]few     // causes of repetition, in normal operation and under one fault
	unabsorbed   [2][]few     // the same where no idempotent function is on the way
	absorbers    []few        // idempotent functions that a repetition passes
	losses       []few        // loss sets of at most one fault, by number
	lossBreaches map[int32]*Breach
	smallest     []int // the faults of the smallest loss set; more than MaxFaults: none
	parks        []few // queues, times 2; plus 1 in normal operation

	longest, shortest []float64 // seconds until they come; infinite: not yet
	why               []string  // what bounds the longest
	orders            []*ordered
}

// step is an edge between two places.
type step struct{ edge, to int32 }

// few holds some numbers.
type few struct {
	list  [2 * breaches]int32
	count int
}

func (f *few) all() []int32 { return f.list[:f.count] }

// put adds numbers while there is room, and reports whether any is new.
func (f *few) put(more ...int32) bool {
	had := f.count
	for _, c := range more {
		if f.count < len(f.list) && !slices.Contains(f.all(), c) {
			f.list[f.count] = c
			f.count++
		}
	}
	return f.count > had
}

// reach finds the states that the messages of an entry reach.
func (q *walker) reach(entry int) *passage {
	p := &passage{q: q, entry: entry, steps: q.steps[:0], lossBreaches: map[int32]*Breach{}}
	q.used = 0
	see := func(s int32) {
		if q.number[s] < 0 {
			q.number[s] = 0
			p.way = append(p.way, s)
		}
	}
	for _, s := range q.visited {
		q.number[s] = -1
	}
	for _, in := range q.a.Spread(entry) {
		see(int32(in.State))
	}
	for k := 0; k < len(p.way); k++ {
		for _, e := range q.g.Leaving(int(p.way[k])) {
			if taken(&e) {
				see(int32(e.To))
			}
		}
	}
	slices.SortFunc(p.way, func(s, t int32) int { return cmp.Compare(q.place[s], q.place[t]) })
	for k, s := range p.way {
		q.number[s] = int32(k)
	}
	q.visited = p.way
	return p
}

// at returns the place of a state; negative: no message reaches it.
func (p *passage) at(s int) int32 { return p.q.number[s] }

// follow works out what happens on the way.
func (p *passage) follow() {
	q := p.q
	p.first = make([]int32, 1, len(p.way)+1)
	for _, s := range p.way {
		for i := q.g.First[s]; i < q.g.First[s+1]; i++ {
			if e := &q.g.Edges[i]; taken(e) {
				p.steps = append(p.steps, step{i, p.at(e.To)})
			}
		}
		p.first = append(p.first, int32(len(p.steps)))
	}
	q.steps = p.steps
	p.followCertain()
	absorbers := q.few(len(p.way))
	for m := range p.repeats {
		begin := q.few(len(p.way))
		for _, s := range p.way {
			for _, c := range q.byState[m][s] {
				begin[p.at(q.g.Edges[q.causes[m][c].edge].To)].put(c)
			}
		}
		p.repeats[m] = p.spread(begin, nothing)
		p.unabsorbed[m] = p.spread(begin, func(k int) bool { return p.node(k).Idempotent != nil })
		for k := range p.way {
			if n := p.node(k); n.Idempotent != nil && p.repeats[m][k].count > 0 {
				absorbers[k].put(int32(n.ID))
			}
		}
	}
	p.absorbers = p.spread(absorbers, nothing)
	p.followLosses()
	p.followParks()
	p.followDelays()
	p.followOrder()
}

// node returns the node of a place.
func (p *passage) node(k int) *graph.Node { return p.q.a.Node(p.q.g.All[p.way[k]].Node) }

// passes goes along all steps, place by place, until nothing changes any more: once,
// and again where a step that leads back has changed something.
func (p *passage) passes(change func(from int, s step) bool) {
	for again := true; again; {
		again = false
		for k := range p.way {
			for _, s := range p.steps[p.first[k]:p.first[k+1]] {
				if change(k, s) && int(s.to) <= k {
					again = true
				}
			}
		}
	}
}

// nodes lists the nodes that the messages reach.
func (p *passage) nodes() []int {
	mark := p.q.mark()
	var found []int
	for _, s := range p.way {
		if at := p.q.g.All[s]; !at.Change.Deletes() && mark(at.Node) {
			found = append(found, at.Node)
		}
	}
	slices.Sort(found)
	return found
}

// mark returns what marks states, or nodes, one by one: it reports whether one is new.
// Only one such set is in use at a time.
func (w *walker) mark() func(k int) bool {
	w.marked++
	now := w.marked
	return func(k int) bool {
		if w.marks[k] == now {
			return false
		}
		w.marks[k] = now
		return true
	}
}

// effectsAt lists the places in which messages take effect at a node.
func (p *passage) effectsAt(node int) []int {
	var at []int
	for _, s := range p.q.g.Of[node] {
		if k := p.at(int(s)); k >= 0 && !p.q.g.All[s].Change.Deletes() {
			at = append(at, int(k))
		}
	}
	return at
}

// nothing stops no number.
func nothing(int) bool { return false }

// spread carries numbers onwards from where they begin, up to places that stop them.
func (p *passage) spread(begin []few, stops func(k int) bool) []few {
	out := p.q.few(len(p.way))
	for k := range out {
		if !stops(k) {
			out[k].put(begin[k].all()...)
		}
	}
	p.passes(func(from int, s step) bool {
		return out[from].count > 0 && !stops(int(s.to)) && out[s.to].put(out[from].all()...)
	})
	return out
}

// byChance reports whether a message at a state may do without an edge by chance, or since a call fails and that is
// ignored.
func (q *guarantor) byChance(s int, e *flow.Edge) bool {
	if e.Link == graph.None {
		return false
	}
	return e.Kind == flow.Calls && q.a.Link(e.Link).Forgiven() || q.a.ByChance(s, e)
}

// followCertain finds the nodes that every message of the entry reaches.
func (p *passage) followCertain() {
	q := p.q
	from := q.a.Spread(p.entry)
	counts := map[int]int{}
	for _, in := range from {
		mark := q.mark()
		mark(in.State)
		work := []int{in.State}
		for k := 0; k < len(work); k++ {
			for _, e := range q.g.Leaving(work[k]) {
				sure := e.Verdict == expr.Certain && !q.byChance(work[k], &e)
				if sure && taken(&e) && e.Kind != flow.GaveUp && e.Kind != flow.Result && mark(e.To) {
					work = append(work, e.To)
				}
			}
		}
		mark = q.mark()
		for _, s := range work {
			if n := q.g.All[s].Node; mark(n) {
				counts[n]++
			}
		}
	}
	p.surely = map[int]bool{}
	for n, c := range counts {
		p.surely[n] = c == len(from)
	}
}

// followLosses finds, by place, what loses a message that would have come there. What
// is lost after it has been given up counts where it was given up. What a run has sent at its start has come, however
// often the run fails.
func (p *passage) followLosses() {
	entry := p.q.a.Entries[p.q.a.Node(p.entry).Name]
	type site struct {
		node      string
		link      int
		normal    bool // without a fault
		exhausted bool
	}
	places := map[site][]int32{}
	behind := p.newBehind() // what is behind a place does not come
	later := p.newBehind()  // but for what is sent there at the start of a run
	for k := range entry.LossSets {
		set := &entry.LossSets[k]
		where := site{set.Node, set.Link, len(set.Faults) == 0, set.Cause == "exhausted"}
		at, known := places[where]
		if !known {
			at = p.losesAt(set)
			places[where] = at
		}
		for _, i := range at {
			behind.begin(i, k, set)
			if !p.runsFirst(int(i), set) {
				later.begin(i, k, set)
			}
		}
	}
	p.passes(func(from int, s step) bool {
		by := behind
		if p.sentFirst(from, s) {
			by = later
		}
		a := behind.come(int(s.to), &by.losses[from], by.smallest[from])
		b := later.come(int(s.to), &by.losses[from], by.smallest[from])
		return a || b
	})
	p.losses, p.smallest = behind.losses, behind.smallest
}

// behind is what loses messages, by the place to which they do not come.
type behind struct {
	losses   []few
	smallest []int // faults of the smallest loss set
}

func (p *passage) newBehind() *behind {
	return &behind{p.q.few(len(p.way)), slices.Repeat([]int{flow.MaxFaults + 1}, len(p.way))}
}

// begin notes that loss set k, of at most one fault if it is listed, loses what is behind a place.
func (b *behind) begin(place int32, k int, set *flow.LossSet) {
	if len(set.Faults) <= 1 {
		b.losses[place].put(int32(k))
	}
	b.smallest[place] = min(b.smallest[place], len(set.Faults))
}

// come adds what loses the messages of a place, and reports whether it changes anything.
func (b *behind) come(place int, losses *few, smallest int) bool {
	changed := b.losses[place].put(losses.all()...)
	if smallest < b.smallest[place] {
		b.smallest[place], changed = smallest, true
	}
	return changed
}

// ofItsRuns reports whether what a loss set loses at a queue or stream has been read, all of it by the runs of one
// function, until its tries were exhausted.
func (q *guarantor) ofItsRuns(set *flow.LossSet) bool {
	if set.Cause != "exhausted" || set.Link == graph.None {
		return false
	}
	l := q.a.Link(set.Link)
	return l.Relation.Polls() && l.DeadLetter == graph.None && len(q.a.Node(l.From).Out) == 1
}

// runsFirst reports whether each message that a loss set loses at a function, or before it, has made a run of it start
// before: its tries are exhausted, and it fails by itself or by a fault of its own.
func (p *passage) runsFirst(k int, set *flow.LossSet) bool {
	n := p.node(k)
	own := set.Node == n.Name || p.q.ofItsRuns(set) && p.q.a.Link(set.Link).To == n.ID
	return own && n.Kind == model.Function && set.Cause == "exhausted" && n.Accepts == nil &&
		n.ColdStart == nil && !slices.ContainsFunc(set.Faults, func(any flow.Fault) bool {
		return slices.ContainsFunc(any, func(fault string) bool { return fault != n.Name })
	})
}

// sentFirst reports whether a step is one of a message that each run sends at its start, and that cannot be rejected
// with nothing broken.
func (p *passage) sentFirst(from int, s step) bool {
	e := &p.q.g.Edges[s.edge]
	if e.Link == graph.None || e.Verdict != expr.Certain || e.Kind == flow.GaveUp || e.Kind == flow.Result {
		return false
	}
	l := p.q.a.Link(e.Link)
	return l.AtStart && l.From == p.node(from).ID && l.Chance >= 1 && l.When == model.OfRun &&
		l.Relation != model.WaitingCall && !p.q.rejects(int(p.way[from]), l)
}

// losesAt lists the places to which messages do not come that are lost at a node: the
// node itself, or what the link leads to on which they are lost there, and what comes
// behind a place where messages were given up that came to the node later: in normal operation only where some are
// given up in it.
func (p *passage) losesAt(set *flow.LossSet) []int32 {
	q := p.q
	node, link, normal := q.a.Graph.NodeID(set.Node), set.Link, len(set.Faults) == 0
	var out, work []int32
	mark := q.mark()
	onward := link != graph.None && q.a.Link(link).From == node && q.a.Link(link).Relation.Delivering() ||
		q.ofItsRuns(set)
	if node >= 0 {
		for _, s := range q.g.Of[node] {
			k := p.at(int(s))
			if k < 0 {
				continue
			}
			mark(int(s))
			work = append(work, s)
			if !onward {
				out = append(out, k)
				continue
			}
			for _, next := range p.steps[p.first[k]:p.first[k+1]] {
				if e := &q.g.Edges[next.edge]; e.Link == link && e.Kind != flow.GaveUp {
					out = append(out, next.to)
				}
			}
		}
	}
	if len(work) == 0 { // lost before it is anywhere
		for k := range p.way {
			out = append(out, int32(k))
		}
		return out
	}
	for k := 0; k < len(work); k++ {
		for _, i := range q.into[work[k]] {
			e := &q.g.Edges[i]
			from := p.at(e.From)
			if from < 0 || normal && e.Kind == flow.GaveUp && e.Mean.High < flow.Negligible {
				continue
			}
			if e.Kind == flow.GaveUp || e.Kind == flow.Result {
				out = append(out, from)
			}
			if mark(e.From) {
				work = append(work, int32(e.From))
			}
		}
	}
	return out
}

// followParks finds, by place, where a message is parked that would have come there.
func (p *passage) followParks() {
	begin := p.q.few(len(p.way))
	for k, s := range p.way {
		for _, e := range p.q.g.Leaving(int(s)) {
			if e.Kind != flow.GaveUp && (e.Kind != flow.Result || p.q.a.Link(e.Link).When != model.Failure) {
				continue
			}
			if n := p.q.a.Node(p.q.g.All[e.To].Node); n.Kind.Leases() {
				mark := int32(2 * n.ID)
				if e.Mean.High >= flow.Negligible {
					mark++
				}
				begin[k].put(mark)
			}
		}
	}
	p.parks = p.spread(begin, nothing)
}

func (p *passage) parksBefore(at []int) []Parking {
	normal := map[int]bool{}
	for _, k := range at {
		for _, mark := range p.parks[k].all() {
			normal[int(mark/2)] = normal[int(mark/2)] || mark%2 == 1
		}
	}
	out := []Parking{}
	for _, i := range flow.SortedKeys(normal) {
		out = append(out, Parking{p.q.a.Node(i).Name, !normal[i]})
	}
	return out
}

// followDelays finds, by place, the shortest mean time until a message comes there and
// the longest time, with what bounds it. A cycle has no bound.
func (p *passage) followDelays() {
	q := p.q
	p.longest, p.shortest = make([]float64, len(p.way)), make([]float64, len(p.way))
	p.why = make([]string, len(p.way))
	for k := range p.way {
		p.longest[k], p.shortest[k] = math.Inf(-1), math.Inf(1)
	}
	come := func(k int32, t float64, why string) {
		if t <= p.longest[k] {
			return
		}
		p.longest[k], p.why[k] = t, why
		if s := p.way[k]; q.cycles[1].on(s) {
			for _, u := range q.cycles[1].states(s) {
				if i := p.at(u); i >= 0 {
					p.longest[i] = math.Inf(1)
					p.why[i] = "messages circulate through `" + q.a.Node(q.g.All[s].Node).Name + "`"
				}
			}
		}
	}
	for _, in := range q.a.Spread(p.entry) {
		k := p.at(in.State)
		come(k, 0, "")
		p.shortest[k] = 0
	}
	for k, s := range p.way {
		hold, by := q.holds[s].most, q.holds[s].by
		for _, next := range p.steps[p.first[k]:p.first[k+1]] {
			h, b := hold, by
			if q.g.Edges[next.edge].Kind == flow.LifeEnds {
				h, b = p.node(k).ObjectLife.Seconds(), "the life of an object"
			}
			t := p.longest[k] + h
			if t <= p.longest[next.to] {
				continue
			}
			if math.IsInf(p.longest[k], 1) {
				b = ""
			}
			come(next.to, t, join(p.why[k], b, math.IsInf(h, 1)))
		}
	}
	p.passes(func(from int, s step) bool { // means are not negative
		e := &q.g.Edges[s.edge]
		if e.Kind == flow.GaveUp {
			return false
		}
		t := p.shortest[from] + e.Delay
		if e.Kind == flow.Calls { // the caller works first
			t += p.node(from).Takes.Expected()
		}
		if t >= p.shortest[s.to]-1e-12 {
			return false
		}
		p.shortest[s.to] = t
		return true
	})
}

// delayAt gives the delay of effects in some places of a destination.
func (p *passage) delayAt(at []int) Delay {
	best, reason, soonest := math.Inf(-1), "", math.Inf(1)
	for _, k := range at {
		t, why, extra := p.longest[k], p.why[k], 0.0
		if n := p.node(k); n.Kind == model.Outside { // it has taken effect when it ends
			held := p.q.holds[p.way[k]]
			if !math.IsInf(t, 1) {
				why = join(why, held.by, math.IsInf(held.most, 1))
			}
			t += held.most
			extra = n.Takes.Expected()
		}
		if t > best {
			best, reason = t, why
		}
		soonest = min(soonest, p.shortest[k]+extra)
	}
	out := Delay{Why: reason}
	if !math.IsInf(soonest, 1) {
		out.Typical = &soonest
	}
	if !math.IsInf(best, 0) {
		out.AtMost = &best
	}
	return out
}

func join(before, more string, instead bool) string {
	switch {
	case more == "":
		return before
	case instead || before == "":
		return more
	}
	if strings.Count(before, " + ") >= 3 {
		return before
	}
	return before + " + " + more
}

// holding is how long a message can be kept at a state, in seconds, and what bounds it.
type holding struct {
	most float64
	by   string
}

// findHold returns the longest time that a message can be kept at a state and still go on.
func (q *guarantor) findHold(s int) (float64, string) {
	a, at := q.a, q.g.All[s]
	n := a.Node(at.Node)
	switch {
	case n.Kind.Polled():
		if n.Retention == 0 {
			return math.Inf(1), "`" + n.Name + "` has no retention"
		}
		return n.Retention.Seconds(), fmt.Sprintf("retention of `%s` %s", n.Name, model.FormatDuration(n.Retention))
	case n.Kind.Answers() || n.Kind.Runs():
		limit := math.Inf(1)
		if n.Timeout > 0 {
			limit = n.Timeout.Seconds()
		}
		if n.Kind == model.Outside && len(n.Out) == 0 { // it only answers
			limit = min(limit, n.Takes.Largest())
		}
		if at.How != flow.AsIntake && n.Kind == model.Outside {
			return limit, fmt.Sprintf("an answer of `%s`", n.Name)
		}
		if at.How != flow.AsIntake {
			return limit, fmt.Sprintf("timeout of `%s` %s", n.Name, model.FormatDuration(n.Timeout))
		}
		p := a.PolicyOf(at.Context)
		if n.Concurrency > 0 || n.Pool != "" {
			if p.GiveUp > 0 {
				return float64(p.GiveUp)*1e-9 + limit, "`give-up` of `" + n.Name + "`"
			}
			return math.Inf(1), "messages of `" + n.Name + "` wait for concurrency without a limit"
		}
		if p.Tries == 0 && p.GiveUp == 0 {
			return math.Inf(1), "`" + n.Name + "` tries without a limit"
		}
		most := math.Inf(1)
		if p.Tries > 0 {
			most = float64(p.Tries) * limit
			for k := 1; k < min(p.Tries, 10_000); k++ {
				most += float64(p.Backoff(k)) * 1e-9 * (1 + p.Jitter)
			}
		}
		if p.GiveUp > 0 {
			most = min(most, float64(p.GiveUp)*1e-9+limit)
		}
		return most, "tries of `" + n.Name + "`"
	}
	most := n.Notice.Largest() // a bucket or topic hands on what it can
	for _, id := range n.Out {
		l := a.Link(id)
		p := &l.Policy
		if l.Relation == model.Write {
			t := math.Inf(1)
			if p.Tries > 0 {
				t = float64(p.Tries) * a.Node(l.To).Takes.Largest()
				for k := 1; k < min(p.Tries, 10_000); k++ {
					t += float64(p.Backoff(k)) * 1e-9 * (1 + p.Jitter)
				}
			}
			if p.GiveUp > 0 {
				t = min(t, float64(p.GiveUp)*1e-9+a.Node(l.To).Takes.Largest())
			}
			most = max(most, t+n.Notice.Largest())
		}
	}
	if math.IsInf(most, 1) {
		return most, "`" + n.Name + "` delivers after a time without a bound"
	}
	if most == 0 {
		return 0, ""
	}
	return most, "delivery by `" + n.Name + "`"
}
