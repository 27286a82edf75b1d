package flow

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"strings"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// delivery is a delivery that fails under any one of some faults, and what then
// becomes of its message.
type delivery struct {
	state   int        // where the message is
	faults  faultSet   // any one of them makes it fail
	members []int      // of faults, in order
	pairs   []bothFail // two faults that make it fail together
	others  []string   // further single faults: crashes
	to      int        // the state where it goes then; None: it is lost
	link    int        // or None
	node    int        // that accounts for it
	cause   string
	after   Moment  // how long the fault lasts before the first message is given up
	limit   string  // the field that sets it
	share   float64 // of the messages at the state that are delivered so; 0: all
	normal  bool    // some messages take this way without a fault
	place   int32   // its number; see placeOf
	behind  bool    // it waits behind others while they are tried
	quiet   bool    // a fault of no finding of its own: there is no place for what a dead-letter node rejects
}

// Moment is a time in seconds that is known to lie between two others.
type Moment struct{ At, low, high float64 }

func exactMoment(at float64) Moment { return Moment{at, at, at} }

func (m Moment) plus(o Moment) Moment { return Moment{m.At + o.At, m.low + o.low, m.high + o.high} }

// certainty is how many messages are awaited until one takes a way that is taken by
// chance: all but one in 20,000 times, one has by then.
const certainty = 10

// rareState is the part of the rate of the entry that gets the fewest messages below which
// they come to a state by chance, so that a fault need not meet one.
const rareState = 0.05

// byChance returns the moment of the first of some messages that come at a rate per
// second; where the rate is not known, it may never come.
func (m Moment) byChance(rate float64) Moment {
	if rate <= 0 {
		return Moment{m.At, m.low, math.Inf(1)}
	}
	return Moment{m.At, m.low, m.high + certainty/rate}
}

// part returns the share of the messages at its state that are delivered so.
func (d *delivery) part() float64 {
	if d.share == 0 {
		return 1
	}
	return d.share
}

// faultModel is everything that can fail, and what fails by it.
type faultModel struct {
	names      []string // of the faults that last: nodes, groups, links that are not read
	nodes      int
	unread     map[int]faultSet // by link that reads: that it is switched off, or stopped
	groupsOf   map[int][]int    // by node: the faults that are groups with it
	deliveries []delivery
	at         [][]int32          // deliveries by state
	byTime     []int32            // deliveries by how soon they give up
	rank       []int32            // by delivery: its place there
	closures   []faultSet         // by state
	always     []faultSet         // the same, without what only some tries come to
	met        []faultSet         // the same, without what perhaps none comes to
	dry        []faultSet         // by state: while one of them lasts nothing new comes
	contended  map[int]float64    // by node, where it is known
	fills      map[int][]fill     // queues that fill up while they are not read
	fallbacks  map[int][]bothFail // by state, where they have been asked for
}

// fill is how a queue of limited capacity fills up while its consumers fail.
type fill struct {
	faults faultSet
	after  Moment
}

// findFaults lists every delivery with the faults that make it fail.
func (a *Analysis) findFaults() {
	f := &faultModel{nodes: len(a.Graph.Nodes), groupsOf: map[int][]int{},
		fills: map[int][]fill{}, fallbacks: map[int][]bothFail{}}
	a.faults = f
	for i := range a.Graph.Nodes {
		f.names = append(f.names, a.Node(i).Name)
	}
	for _, name := range SortedKeys(a.Graph.Topology.FailsTogether) {
		id := len(f.names)
		f.names = append(f.names, name)
		for _, m := range a.Graph.Topology.FailsTogether[name] {
			if n := a.Graph.NodeID(m); n != graph.None {
				f.groupsOf[n] = append(f.groupsOf[n], id)
			}
		}
	}
	f.unread, f.contended = map[int]faultSet{}, map[int]float64{}
	for i := range a.Graph.Links {
		if l := a.Link(i); l.Relation.Polls() {
			var set faultSet
			set.add(len(f.names))
			set.add(len(f.names) + 1)
			f.names = append(f.names, l.Link.ID()+"/disabled", l.Link.ID()+"/stopped")
			f.unread[i] = set
		}
	}
	f.closures, f.always = make([]faultSet, len(a.States.All)), make([]faultSet, len(a.States.All))
	f.met = make([]faultSet, len(a.States.All))
	f.at = make([][]int32, len(a.States.All))
	a.findDry()
	a.findFills()
	for s := range a.States.All {
		a.deliveriesAt(s)
	}
	a.findCatchUps()
	f.byTime, f.rank = make([]int32, len(f.deliveries)), make([]int32, len(f.deliveries))
	for k := range f.byTime {
		f.byTime[k] = int32(k)
	}
	slices.SortStableFunc(
		f.byTime,
		func(i, j int32) int { return cmp.Compare(f.deliveries[i].after.At, f.deliveries[j].after.At) },
	)
	for k, d := range f.byTime {
		f.rank[d] = int32(k)
	}
	for k := range f.deliveries {
		f.deliveries[k].members = f.deliveries[k].faults.list()
		f.at[f.deliveries[k].state] = append(f.at[f.deliveries[k].state], int32(k))
	}
}

func (f *faultModel) newMarks() faultMarks { return make(faultMarks, (len(f.names)+63)/64) }

// only returns the faults by which one node fails: its own, and its groups'.
func (f *faultModel) only(node int) faultSet {
	var s faultSet
	f.addNode(&s, node)
	return s
}

func (f *faultModel) addNode(s *faultSet, node int) {
	s.add(node)
	for _, g := range f.groupsOf[node] {
		s.add(g)
	}
}

// closure returns the faults by which every run at a state fails: the node's own,
// those of what it waits for, and of what it writes to.
func (a *Analysis) closure(s int) faultSet {
	return a.closureOf(s, a.faults.closures, func(int, *Edge, *graph.Link) bool { return false })
}

// alwaysFails returns those of them by which every try fails, however chance falls.
func (a *Analysis) alwaysFails(s int) faultSet {
	return a.closureOf(s, a.faults.always, func(s int, e *Edge, _ *graph.Link) bool {
		return a.ByChance(s, e) || a.mayMistake(a.Node(a.States.All[s].Node))
	})
}

// perhapsMet returns those of them that no run need come to: a condition decides that, and not chance.
func (a *Analysis) perhapsMet(s int) faultSet {
	_, perhaps := a.closure(s).both(a.closureOf(s, a.faults.met, a.mayBeUnused))
	return perhaps
}

// closureOf finds the faults by which runs at a state fail, without those behind links that are left out.
func (a *Analysis) closureOf(s int, closures []faultSet, leftOut func(int, *Edge, *graph.Link) bool) faultSet {
	f := a.faults
	if closures[s] != nil {
		return closures[s]
	}
	// Callees first, without recursion.
	type frame struct{ state, edge int }
	stack := []frame{{s, int(a.States.First[s])}}
	open := map[int]bool{s: true}
	for len(stack) > 0 {
		top := &stack[len(stack)-1]
		if top.edge < int(a.States.First[top.state+1]) {
			e := &a.States.Edges[top.edge]
			top.edge++
			endless := a.Node(a.States.All[top.state].Node).Timeout == 0
			if e.Kind == Calls && !(a.Link(e.Link).Forgiven() && endless) && closures[e.To] == nil && !open[e.To] {
				open[e.To] = true
				stack = append(stack, frame{e.To, int(a.States.First[e.To])})
			}
			continue
		}
		stack = stack[:len(stack)-1]
		set := f.only(a.States.All[top.state].Node)
		edges := a.States.Leaving(top.state)
		for k := range edges {
			e := &edges[k]
			if e.Link == graph.None || e.Kind == GaveUp {
				continue
			}
			l := a.Link(e.Link)
			without := leftOut(top.state, e, l)
			switch {
			case l.Forgiven() && e.Kind == Calls && closures[e.To] != nil && !without:
				set.merge(a.lateBy(top.state, closures[e.To]))
			case without || l.InCatch:
			case l.Forgiven():
				if _, surely := a.lateByTries(top.state, l); surely {
					f.addNode(&set, l.To)
				}
			case e.Kind == Calls:
				if c := closures[e.To]; c != nil {
					set.merge(c)
				}
			case l.Relation == model.RunWrite && l.When == model.OfRun:
				f.addNode(&set, l.To)
			}
		}
		closures[top.state] = set
	}
	return closures[s]
}

// ByChance reports whether a run at a state may do without an edge over a link, by chance or by a condition.
func (a *Analysis) ByChance(s int, e *Edge) bool {
	l := a.Link(e.Link)
	return l.Chance < 1 || l.Count.Dist.Smallest() < 1 || a.byCondition(s, e, l)
}

// byCondition reports whether runs at a state may all do without an edge, since a condition does not hold or the count
// is none.
func (a *Analysis) byCondition(s int, e *Edge, l *graph.Link) bool {
	count, _, guessed := a.CountOf(l, a.States.All[s])
	return l.Sometimes || e.Verdict == expr.Possible || guessed || count.High < 1
}

// mayBeUnused reports whether runs at a state may all do without a link.
func (a *Analysis) mayBeUnused(s int, e *Edge, l *graph.Link) bool {
	return a.byCondition(s, e, l) || a.mayMistake(a.Node(a.States.All[s].Node))
}

// deliverMet lists a delivery of what fails at a state of runs.
func (a *Analysis) deliverMet(d delivery, runs int) {
	perhaps, rest := d.faults.both(a.perhapsMet(runs))
	a.deliverPerhaps(d, perhaps)
	d.faults = rest
	if perhaps.empty() || !rest.empty() || len(d.pairs)+len(d.others) > 0 {
		a.deliver(d)
	}
}

// deliverPerhaps lists a delivery under faults, if there are any, that no message need meet.
func (a *Analysis) deliverPerhaps(d delivery, faults faultSet) {
	if !faults.empty() {
		d.faults, d.pairs, d.others, d.after.high = faults, nil, nil, math.Inf(1)
		a.deliver(d)
	}
}

// mayMistake reports whether a function may take a message for one that it has processed before: its key need not be
// that of the event.
func (a *Analysis) mayMistake(n *graph.Node) bool {
	return n.Idempotent != nil && n.Node.Idempotent != "event.id"
}

// ignoredWrite lists what is lost since a run ignores that a write is rejected.
func (a *Analysis) ignoredWrite(s int, d delivery, l *graph.Link) {
	usually, surely := a.lateByTries(s, l)
	if surely {
		return // the run fails
	}
	if d.after = exactMoment(WaitsOf(&l.Policy)); usually {
		d.after.high = math.Inf(1) // until a run has so few messages that it is in time
	}
	if _, d.faults = d.faults.both(a.failsBefore(s, l)); !d.faults.empty() {
		a.deliver(d)
	}
}

// lateByTries reports whether the runs at a state exceed their timeout while they try a write again whose failure they
// would ignore: usually, and even a run of one message.
func (a *Analysis) lateByTries(s int, l *graph.Link) (usually, surely bool) {
	at := a.States.All[s]
	waits := l.Relation == model.RunWrite && l.When == model.OfRun && WaitsOf(&l.Policy) > 0
	if !waits || a.Node(at.Node).Timeout == 0 {
		return false, false
	}
	late := func() bool {
		o := a.outcomeUnder(s, l.To)
		return o.Late > 0 && o.Bad() > 0.99
	}
	if usually = late(); usually && a.readsBatches(at) {
		a.withBatch(a.Link(int(at.Link)), 1, func() { surely = late() })
		return usually, surely
	}
	return usually, usually
}

// MayBeLateByTries reports whether some runs at a state exceed their timeout while they try a write again whose failure
// they would ignore.
func (a *Analysis) MayBeLateByTries(s int, l *graph.Link) bool {
	waits := l.Relation == model.RunWrite && l.When == model.OfRun && WaitsOf(&l.Policy) > 0
	return waits && a.Node(a.States.All[s].Node).Timeout > 0 && a.outcomeUnder(s, l.To).Late > 0
}

// crashes lists the crashes by which a run at a state ends without an answer.
func (a *Analysis) crashes(s int) []string {
	var out []string
	seen := map[int]bool{}
	work := []int{s}
	for len(work) > 0 && len(out) < 64 {
		i := work[0]
		work = work[1:]
		if seen[i] {
			continue
		}
		seen[i] = true
		if n := a.Node(a.States.All[i].Node); n.Kind.Invoked() {
			out = append(out, n.Name+"/crash")
		}
		for _, e := range a.States.Leaving(i) {
			if e.Kind == Calls && !a.Link(e.Link).Forgiven() {
				work = append(work, e.To)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// deliveriesAt lists the deliveries of messages at a state.
func (a *Analysis) deliveriesAt(s int) {
	at := a.States.All[s]
	n := a.Node(at.Node)
	edges := a.States.Leaving(s)
	switch {
	case n.Kind.Runs():
		if at.How == AsIntake {
			a.intakeDelivery(s, at, n, edges)
		}
		a.floodedDeliveries(s, n, edges)
	case n.Kind.Polled():
		for _, id := range n.Out {
			a.readerDelivery(s, n, a.Link(id), edges)
		}
	}
	if a.IsEntry[s] && n.Kind.Channel() {
		a.deliver(
			delivery{
				state:  s,
				faults: a.faults.only(n.ID),
				to:     graph.None,
				link:   graph.None,
				node:   n.ID,
				cause:  "rejected",
				quiet:  true,
			},
		)
	}
	for k := range edges {
		a.writeDelivery(s, n, &edges[k], edges)
	}
}

// deliver lists a delivery, and again for the queues that it writes to and that fill
// up while their consumers fail.
func (a *Analysis) deliver(d delivery) {
	f := a.faults
	d.place = a.placeOf(d.cause, d.node, d.link)
	if rate := a.stateRates[d.state]; rate > 0 && rate < rareState*a.quietest {
		d.after = d.after.byChance(rate)
	}
	few, rest := a.fewOf(d)
	if !few.faults.empty() {
		f.deliveries = append(f.deliveries, few)
	}
	if few.faults.empty() || !rest.faults.empty() || len(d.pairs)+len(d.others) > 0 {
		f.deliveries = append(f.deliveries, rest)
	}
	for _, q := range a.limited {
		if !d.faults.has(q) {
			continue
		}
		for _, fl := range f.fills[q] {
			more := d
			more.faults, more.others = fl.faults, nil
			more.after = d.after.plus(fl.after)
			more.limit = a.Node(q).Name + " capacity"
			if d.cause == "rejected" {
				more.cause = "overflow"
			}
			more.place = a.placeOf(more.cause, more.node, more.link)
			f.deliveries = append(f.deliveries, more)
		}
	}
}

// intakeDelivery lists the delivery of what an intake holds.
func (a *Analysis) intakeDelivery(s int, at State, n *graph.Node, edges []Edge) {
	if a.overLimit(s) == expr.Certain {
		return // it does not run at all
	}
	p := a.PolicyOf(at.Context)
	together, pairs := a.together(s)
	together.merge(a.whileSent(s, n))
	d := delivery{
		state:  s,
		faults: together,
		pairs:  pairs,
		to:     graph.None,
		link:   graph.None,
		node:   n.ID,
		cause:  "exhausted",
		after:  a.patience(s),
		limit:  a.retryField(at),
	}
	if n.Concurrency > 0 || n.Pool != "" || a.mayMistake(n) { // what finds no free run uses up no try
		d.after.high = math.Inf(1)
	}
	if p.GiveUp > 0 {
		if byAge, cause := a.triesInTime(at, p, a.Outcome(s, Usual).Length.Mean(), nil); byAge < float64(p.Tries) ||
			p.Tries == 0 {
			d.cause, d.limit = cause, strings.TrimSuffix(d.limit, "retry")+"give-up"
		}
	}
	if p.Tries == 1 {
		d.others = a.crashes(s)
	}
	taken := false
	for k := range edges {
		e := &edges[k]
		if e.Kind == GaveUp && e.Link == graph.None || e.Kind == Result && a.Link(e.Link).When == model.Failure {
			on := d
			on.to, on.normal = e.To, e.Mean.High >= Negligible
			a.deliverMet(on, s)
			taken = taken || e.Kind == GaveUp || e.Verdict == expr.Certain
		}
	}
	if !taken {
		a.deliverMet(d, s)
	}
}

// whileSent returns the faults by which every run at a state fails, less those by which
// those that send there fail too: while such a fault lasts nothing is sent, and what
// was sent before it has run at once. Runs of the sender that were in progress when it
// failed itself do send.
func (a *Analysis) whileSent(s int, n *graph.Node) faultSet {
	set := a.closure(s)
	if a.IsEntry[s] || a.Outcome(s, Worst).Bad() > 0 || n.Concurrency > 0 || n.Pool != "" || len(a.Into[s]) == 0 {
		return set
	}
	for from, e := range a.edgesInto(s) {
		if !a.Node(a.States.All[from].Node).Kind.Runs() || e.Kind != Sends {
			return set
		}
	}
	_, set = set.both(commonFaults(a.Into[s], func(from int) faultSet {
		stops := a.alwaysFails(from)
		if a.mayBeSent(from, s) {
			_, stops = stops.both(a.faults.only(a.States.All[from].Node))
		}
		return stops
	}))
	return set
}

// mayBeSent reports whether runs at a state may send to another although a fault makes
// each run fail that starts: those that were in progress when it began.
func (a *Analysis) mayBeSent(from, to int) bool {
	if a.Outcome(from, Usual).Length.Tail(0) == 0 {
		return false
	}
	for _, e := range a.States.Leaving(from) {
		if e.To == to && e.Kind == Sends && e.Verdict != expr.Impossible {
			return true
		}
	}
	return false
}

// bursts returns how many messages come at once to a node to which some are sent by chance, 0
// where none are: so many times as much their number varies as that of single ones.
func (a *Analysis) bursts(node int) float64 {
	most := 0.0
	for _, s := range a.States.Of[node] {
		for from, e := range a.edgesInto(int(s)) {
			if e.Kind == GaveUp || e.expected == math.Trunc(e.expected) {
				continue
			}
			most = max(most, math.Ceil(e.Mean.High), 1)
			if e.Link != graph.None {
				count, _, _ := a.CountOf(a.Link(e.Link), a.States.All[from])
				most = max(most, count.High)
			}
		}
	}
	return most
}

// commonFaults returns the faults that some states have in common.
func commonFaults(states []int32, of func(s int) faultSet) faultSet {
	var common faultSet
	for k, s := range states {
		if set := of(int(s)); k == 0 {
			common = set
		} else {
			common, _ = common.both(set)
		}
	}
	return common
}

// retryField names the field that limits how long an intake tries.
func (a *Analysis) retryField(at State) string {
	n := a.Node(at.Node)
	for _, id := range n.In {
		if l := a.Link(id); a.contextOf(l) == at.Context {
			return l.Link.ID() + " retry"
		}
	}
	return n.Name + " retry"
}

// patience returns how long a fault must last before an intake gives its first
// message up: from the start of the first try to the start of the last.
func (a *Analysis) patience(s int) Moment {
	at := a.States.All[s]
	p := a.PolicyOf(at.Context)
	o := a.Outcome(s, Usual)
	span := func(length, factor float64) float64 {
		tries := float64(p.Tries)
		if byAge, _ := a.triesInTime(at, p, length, o); byAge < tries || p.Tries == 0 {
			tries = byAge
		}
		t := 0.0
		for k := 1; k < int(min(tries, 1e5)); k++ {
			t += length + float64(p.Backoff(k))*1e-9*factor
		}
		return t
	}
	return a.ranged(s, o, func(length, sign float64) float64 { return span(length, 1+sign*p.Jitter) })
}

// ownTime returns how long a run takes by itself on average, in seconds, at most its timeout.
func ownTime(n *graph.Node) float64 {
	if n.Timeout > 0 {
		return min(n.Takes.Expected(), n.Timeout.Seconds())
	}
	return n.Takes.Expected()
}

// ranged returns a time that depends on the length of failing runs, which lies
// between their shortest and their time limit.
func (a *Analysis) ranged(s int, o *RunOutcome, of func(length, sign float64) float64) Moment {
	n := a.Node(a.States.All[s].Node)
	shortest, mean := ownTime(n), o.Length.Mean()
	low := n.Takes.Smallest()
	for _, id := range n.Out { // a run that cannot send as it starts ends at once
		if l := a.Link(id); l.AtStart && l.When == model.OfRun && !l.Ignore {
			low = 0
		}
	}
	high := mean
	if o.Length.Mass > 0 && len(o.Length.Atoms) > 0 {
		high = max(high, o.Length.Atoms[len(o.Length.Atoms)-1].At)
	}
	if n.Timeout > 0 {
		high = min(high, n.Timeout.Seconds())
	}
	if low == shortest && high == mean && mean == shortest {
		return Moment{of(mean, 0), of(mean, -1), of(mean, 1)}
	}
	return Moment{of(max(mean, shortest), 0), of(low, -1), of(max(high, mean), 1)}
}

// readerDelivery lists the deliveries of what a reader takes from a queue, a stream
// or a change feed.
func (a *Analysis) readerDelivery(s int, n *graph.Node, l *graph.Link, edges []Edge) {
	if a.FilterVerdict(l, a.States.All[s].Message) == expr.Impossible || n.Delay >= n.Retention {
		return
	}
	id := l.Link.ID()
	retention := n.Retention.Seconds()
	slack, behind := a.lateTries(l, n, edges)
	slack += a.lateEntry(n)
	kept := func(seconds float64) Moment {
		return Moment{max(seconds, 0), max(seconds*(1-behind)-slack, 0), max(seconds, 0)}
	}
	unread := delivery{
		state:  s,
		faults: a.faults.unread[l.ID],
		to:     graph.None,
		link:   l.ID,
		node:   n.ID,
		cause:  "expired",
		after:  kept(retention - n.Delay.Seconds()),
		limit:  n.Name + " retention",
	}
	to := graph.None
	var dead *Edge
	for k := range edges {
		e := &edges[k]
		switch {
		case e.Link != l.ID:
		case e.Kind == GaveUp:
			dead = e
		case e.Kind == Polls:
			if to == graph.None {
				to = e.To
			}
			if e.Verdict == expr.Possible {
				unread.after.high = math.Inf(1) // it may take nothing
			}
		}
	}
	if target := a.Node(l.To); l.Relation == model.PolledMove && target.Capacity > 0 && a.LinkRates[l.ID] > 0 {
		// what has waited comes at once, and may not fit
		unread.after.low = min(unread.after.low, 0.5*float64(target.Capacity)/a.LinkRates[l.ID])
	}
	a.deliver(unread)
	if l.Policy.GiveUp > 0 && int64(n.Delay) > l.Policy.GiveUp { // all is given up, fault or none
		return
	}
	if to == graph.None || a.overLimit(to) == expr.Certain {
		return
	}
	if age := float64(l.Policy.GiveUp) * 1e-9; age > 0 &&
		age < retention { // what is older when it is read again is given up
		unread.cause, unread.after, unread.limit = "given-up", kept(age-n.Delay.Seconds()), id+" give-up"
		if dead != nil {
			unread.to, unread.normal = dead.To, dead.Mean.High >= Negligible
		}
		a.deliver(unread)
	}
	a.failingReads(s, n, l, to, dead)
	a.slowedDeliveries(s, n, l, to)
}

// failingReads lists the deliveries of a reader whose runs, or writes, all fail: to is the
// state of its runs, dead the edge to its dead-letter node, or nil.
func (a *Analysis) failingReads(s int, n *graph.Node, l *graph.Link, to int, dead *Edge) {
	d := delivery{state: s, to: graph.None, link: l.ID, node: n.ID, cause: "exhausted"}
	if l.Relation == model.PolledMove {
		d.faults = a.faults.only(l.To)
	} else {
		d.faults, d.pairs = a.together(to)
		d.faults.merge(a.closure(to))
		if l.Policy.Tries == 1 {
			d.others = a.crashes(to)
		}
	}
	var ends bool
	d.after, d.limit, ends = a.ReaderPatience(n, l, to)
	if a.takesAll(s, l) != expr.Certain || a.mayMistake(a.Node(l.To)) {
		d.after.high = math.Inf(1) // it may take nothing
	}
	if !ends {
		d.cause = "expired"
		d.after.low = min(d.after.low, d.after.At*(1-a.contended(l.To)))
		if l.Relation != model.PolledMove {
			a.deliverPerhaps(d, a.perhapsMet(to))
			together, _ := a.together(to)
			together.merge(a.alwaysFails(to))
			d.faults = together
		}
		a.deliver(d)
		return
	}
	if l.Policy.GiveUp > 0 && strings.HasSuffix(d.limit, "give-up") {
		d.cause = "given-up"
	}
	if dead != nil {
		d.to, d.normal = dead.To, dead.Mean.High >= Negligible
	}
	a.deliverMet(d, to)
	if dead != nil {
		a.backlogDelivery(d, n, l, to)
	}
}

// lateEntry returns how long a message may at most have been tried to be written to a node
// that rejects some, in seconds: it is kept from the first try of its write on.
func (a *Analysis) lateEntry(n *graph.Node) float64 {
	most := 0.0
	if n.Fails.EachTry > 0 {
		for _, id := range n.In {
			if l := a.Link(id); !l.Relation.Polls() {
				most = max(most, WaitsOf(&l.Policy)*(1+l.Policy.Jitter))
			}
		}
	}
	return most
}

// takesAll judges whether a reader takes the messages at a state.
func (a *Analysis) takesAll(s int, l *graph.Link) expr.Verdict {
	takes := expr.Impossible
	for _, e := range a.States.Leaving(s) {
		if e.Link == l.ID && e.Kind == Polls {
			takes = max(takes, e.Verdict)
		}
	}
	return takes
}

// lateTries returns how long, in seconds, a message that has waited for almost as long as it
// is kept may need for its tries, and the share of the backlog that it comes behind.
func (a *Analysis) lateTries(l *graph.Link, n *graph.Node, edges []Edge) (slack, behind float64) {
	for k := range edges {
		if e := &edges[k]; e.Link == l.ID && e.Kind == Polls && a.Node(l.To).Kind.Runs() {
			o := a.Outcome(e.To, Worst)
			switch p := o.Bad(); {
			case p >= 1:
				behind = min(a.Readings[l.ID].Utilisation, 1)
				slack = a.givenUpAfter(e.To)
			case p > 0:
				behind = min(a.Readings[l.ID].Utilisation, 1) // a message that failed comes behind the backlog
				slack = math.Log(1e-4) / math.Log(p) * max(a.gap(a.States.All[e.To], &l.Policy, 1, o.Length.Mean()), 1)
			}
		} else if e.Link == l.ID && e.Kind == Polls {
			if p := a.Node(l.To).Fails.EachTry; p > 0 && p < 1 {
				slack = math.Log(1e-4) / math.Log(p) * max(n.Lease.Seconds(), float64(l.Policy.MaxWait)*1e-9)
			}
		}
	}
	if l.Read.UpTo > 1 && behind > 0 { // with a backlog batches are full, and fail as one
		behind = min(max(2*behind, 0.5), 1)
	}
	if busy := a.contended(l.To); busy > 0 {
		behind = max(behind, busy)
		slack += n.Lease.Seconds() // after which one that found no free run is read again
	}
	return slack, behind
}

// contended returns how busy a node is, or one that it waits for, whose runs at once are fewer than those of its
// readers and callers: while they work off a backlog the oldest message may find no free run until the others are
// done, 0 where each finds one.
func (a *Analysis) contended(node int) float64 {
	if busy, known := a.faults.contended[node]; known {
		return busy
	}
	a.faults.contended[node] = 0 // a circle of waiting calls ends here
	n, most := a.Node(node), 0.0
	if !n.Kind.Runs() {
		return 0
	}
	if n.Concurrency > 0 || n.Pool != "" {
		at := 0
		for _, id := range n.In {
			if l := a.Link(id); l.Relation == model.PolledRun {
				at += max(a.ReadersOf(a.Node(l.From)), a.partitions[l.From])
				if from := a.Node(l.From); !from.Kind.Leases() && a.partitions[l.From] == 0 {
					at = math.MaxInt32 // as many as it needs
				}
			} else {
				at = math.MaxInt32 // any number may come
			}
		}
		if c := a.Capacity[n.Name]; at > n.Concurrency && c.Utilisation != nil {
			most = min(max(c.Full, *c.Utilisation), 1)
		}
	}
	for _, id := range n.Out {
		if l := a.Link(id); l.Relation == model.WaitingCall {
			most = max(most, a.contended(l.To))
		}
	}
	a.faults.contended[node] = most
	return most
}

// slowedDeliveries lists what expires while only some runs fail, those that take a link of
// some chance to a node that fails: their messages are tried until one run does not take it,
// for which the readers may have no time.
func (a *Analysis) slowedDeliveries(s int, n *graph.Node, l *graph.Link, to int) {
	if l.Relation == model.PolledMove || a.Boundless[n.ID] {
		return
	}
	a.slowedByRetries(s, n, l, to)
	own := a.Outcome(to, Usual)
	for _, e := range a.States.Leaving(to) {
		if e.Link == graph.None || e.Kind == GaveUp || e.Kind == Result || a.Link(e.Link).Ignore {
			continue
		}
		share := a.usedBy(to, a.Link(e.Link))
		if share < 0.01 || share >= 1 {
			continue
		}
		target := a.Node(a.States.All[e.To].Node)
		if !target.Kind.Channel() && e.Kind != Calls {
			continue
		}
		length := max(own.Length.Mean(), a.lengthUnder(to, target.ID))
		after, ok := a.slowedAfter(n, l, to, 1-(1-own.Bad())*(1-share), length)
		if !ok {
			continue
		}
		d := delivery{
			state:  s,
			faults: a.faults.only(target.ID),
			to:     graph.None,
			link:   l.ID,
			node:   n.ID,
			cause:  "expired",
			after:  after,
			limit:  n.Name + " retention",
			behind: true,
		}
		d.quiet = d.after.low >= day
		a.deliver(d)
	}
}

// usedBy returns the share of the messages at a state for which a link is used.
func (a *Analysis) usedBy(s int, l *graph.Link) float64 {
	w := a.newWalker(s, Usual)
	return w.happens(l) * min(w.counted(l), 1)
}

// slowedAfter returns how long it takes until the first message expires when the runs at a state fail with some chance
// and take so many seconds, and whether one does: the readers fall behind, or a batch fails until its retention ends.
func (a *Analysis) slowedAfter(n *graph.Node, l *graph.Link, to int, fails, length float64) (after Moment, ok bool) {
	retention := n.Retention.Seconds()
	own := a.Outcome(to, Usual)
	if busy := a.busyFailing(n, l, fails, length); busy >= overloaded {
		at := retention * busy / (busy - 1)
		if n.Kind.Leases() && l.Policy.Tries == 0 {
			at = min(at, a.expiresWhileSlowed(n, l, fails, length))
		}
		return Moment{at, 0.35 * at, math.Inf(1)}, true
	}
	if l.Policy.Tries > 0 {
		return Moment{}, false
	}
	batch := 1 - math.Pow(1-fails, float64(max(l.Read.UpTo, 1)))
	tries, _ := a.triesInTime(a.States.All[to], &l.Policy, length, own)
	return Moment{retention, 0.5 * retention, math.Inf(1)}, math.Pow(batch, tries) >= 1e-5
}

// busyFailing returns the utilisation of the readers of a link when runs of some length in
// seconds fail with some chance: of a queue they are free again at once, a partition is
// blocked until the next try.
func (a *Analysis) busyFailing(n *graph.Node, l *graph.Link, fails, length float64) float64 {
	rate, readers := a.LinkRates[l.ID], float64(max(l.Read.Parallel, 1))
	if !n.Kind.Leases() {
		readers = float64(max(a.partitions[n.ID], 1))
	}
	busiest := 0.0
	for _, batch := range []float64{1, float64(max(l.Read.UpTo, 1))} {
		length := a.fullRun(l, batch, length)
		each, again := length, 1-math.Pow(1-fails, batch)
		share := again
		for k := 1; k < 1000 && share > 1e-6 && (l.Policy.Tries == 0 || k < l.Policy.Tries); k++ {
			if each += share * length; !n.Kind.Leases() {
				each += share * float64(l.Policy.Backoff(k)) * 1e-9
			}
			share *= again
		}
		busiest = max(busiest, rate*each/(readers*batch))
	}
	return busiest
}

// backlogDelivery lists what expires behind messages that are tried for long: while
// everything fails, a partition or group gets on only as fast as batches are given
// up.
func (a *Analysis) backlogDelivery(d delivery, n *graph.Node, l *graph.Link, to int) {
	rate := a.LinkRates[l.ID]
	if rate == 0 || a.Boundless[n.ID] {
		return
	}
	usual, longest := a.failingRun(l, to)
	if to == graph.None || !a.Node(l.To).Kind.Runs() || n.Grouped {
		a.behindFailing(d, n, l, rate, usual, longest, usual)
		return
	}
	lengths := a.byLength(to, d.faults)
	for _, length := range slices.Sorted(maps.Keys(lengths)) {
		one := d
		one.faults, one.pairs, one.others = lengths[length], nil, nil
		if !n.Kind.Leases() { // as long as the partition waits for its first message
			one.after.At = max(one.after.At+(length-usual)*float64(l.Policy.Tries), 0)
		}
		a.behindFailing(one, n, l, rate, length, length, usual)
	}
	if d.faults = nil; len(d.pairs)+len(d.others) > 0 {
		a.behindFailing(d, n, l, rate, usual, longest, usual)
	}
}

// behindFailing lists what expires behind messages whose runs fail after a time, usually and at the longest, where
// those that succeed take another, all in seconds.
func (a *Analysis) behindFailing(
	d delivery, n *graph.Node, l *graph.Link, rate, usual, longest, normal float64,
) {
	each, inHand := a.whileFailing(n, l, usual, d.after.At)
	if each <= 0 {
		return
	}
	one := n.Grouped && a.oneGroup(n)
	busy := rate * each / inHand
	each, _ = a.whileFailing(n, l, longest, d.after.At+(longest-usual)*math.Max(float64(l.Policy.Tries), 1))
	busiest := rate * each / inHand
	retention := n.Retention.Seconds()
	a.fillsWhileFailing(d, n, l, d.after.At+n.Lease.Seconds(), rate, busy)
	if l.Policy.GiveUp > 0 && l.Policy.GiveUp < int64(n.Retention) {
		return
	}
	after := Moment{}
	switch {
	case busy > overloaded:
		at := retention * busy / (busy - 1)
		after = Moment{at, retention, at * 1.5}
		if n.Kind.Leases() && !one {
			after.At = min(at, goesRound(retention, rate*usual/inHand, float64(max(l.Policy.Tries, 1)), normal/usual))
			after.low = 0.85 * after.At
		}
	case busiest > overloaded: // if the fault makes runs fail as they do by chance
		after = Moment{retention * busiest / (busiest - 1), retention, math.Inf(1)}
		d.quiet = true
	case n.Grouped:
		after = Moment{retention, 0.5 * retention, math.Inf(1)} // the model does not state how fast a group fills
		d.quiet = true
		if one || rate*(d.after.At+n.Lease.Seconds()) < 1 {
			return
		}
	default:
		return
	}
	after.low *= 1 - a.contended(l.To)
	d.to, d.cause, d.after, d.limit, d.normal = graph.None, "expired", after, n.Name+" retention", false
	d.behind = true
	if a.partitions[n.ID] == 0 && !n.Kind.Leases() || busy*(1-a.tooClose(n)) < overloaded {
		d.after.high = math.Inf(1) // each partition waits for its own, or gets less
	}
	if d.quiet = d.quiet || after.low >= day; !a.failAll(l, d.faults) {
		d.quiet, d.after.high = true, math.Inf(1) // others are read as ever
	}
	a.deliver(d)
}

// failAll reports whether some faults each make all runs of a reader fail, whatever its messages are.
func (a *Analysis) failAll(l *graph.Link, faults faultSet) bool {
	for _, x := range a.matesOf(l) {
		together, _ := a.together(x.state)
		if !faults.within(a.closure(x.state)) && !faults.within(together) {
			return false
		}
	}
	return true
}

// goesRound returns how long a fault must last, in seconds, until a message of a queue expires that is kept for some
// seconds, while its readers have more to try than they can: load is what a try of each message would take of their
// time, and slower how much longer a run takes once the fault is over. What is tried again comes behind all others
// and what has no try left waits behind them once more. Each round takes r times as long as the one
// before, so that of what came at t, the last try is at t·r^tries. The readers are always busy, which decides r:
// load·(1 - r^-tries) = r - 1. After the fault, all that is there is read before.
func goesRound(kept, load, tries, slower float64) float64 {
	low, high := 1+1e-9, 2+load
	for range 60 {
		if r := (low + high) / 2; load*(1-math.Pow(r, -tries)) > r-1 {
			low = r
		} else {
			high = r
		}
	}
	return kept / (1 - math.Pow(low, -tries) + (low-1)*slower)
}

// failingRun returns how long a run at a state takes on average, in seconds, and how long one
// that fails does where that is more, as one that tries a call several times.
func (a *Analysis) failingRun(l *graph.Link, to int) (usual, longest float64) {
	if to == graph.None || !a.Node(l.To).Kind.Runs() {
		return 0, 0
	}
	o := a.Outcome(to, Usual)
	usual, longest = o.Length.Mean(), o.Length.Mean()
	if o.failed.Mass > 0 {
		longest = max(usual, o.failed.Mean())
	}
	return usual, longest
}

// whileFailing returns how long a batch of a link takes its reader, or its partition, while
// all of its runs fail, in seconds, and how many messages are in hand at once. Length is that
// of a run in seconds, and patience how long the first message is tried. Each is 0 where
// nothing waits behind another.
func (a *Analysis) whileFailing(n *graph.Node, l *graph.Link, length, patience float64) (each, inHand float64) {
	batch := float64(max(l.Read.UpTo, 1))
	switch {
	case n.Grouped && a.oneGroup(n):
		return patience + n.Lease.Seconds(), batch
	case n.Kind.Leases():
		each = length * math.Max(float64(l.Policy.Tries), 1)
		if n.Grouped {
			each = math.Max(each, math.SmallestNonzeroFloat64)
		}
		return each, float64(max(l.Read.Parallel, 1)) * batch
	}
	each = patience + length
	if l.Read.Failed == "halve" { // until each message is alone
		each = batch*(each-halvings(l, math.Round(a.batchOf(l)), length)) + (batch-1)*halvings(l, 2, length)
	}
	return each, float64(max(a.partitions[n.ID], 1)) * batch
}

// fillsWhileFailing lists what a queue of limited capacity rejects while its readers fall behind, since what fails is
// tried often or runs take long; nothing leaves it for some seconds first.
func (a *Analysis) fillsWhileFailing(d delivery, n *graph.Node, l *graph.Link, first, rate, busy float64) {
	room := float64(n.Capacity) - a.stockOf(n.ID)
	if !n.Kind.Leases() || n.Capacity == 0 || busy <= overloaded || room <= 0 {
		return
	}
	first = min(first, room/rate)
	after := first + (room-rate*first)/(rate*(1-1/busy))
	if l.Policy.GiveUp > 0 && rate*float64(l.Policy.GiveUp)*1e-9 < room {
		return // it never holds so many
	}
	d.to, d.cause, d.after, d.limit, d.normal = graph.None, "overflow", Moment{after, 0.5 * after, math.Inf(1)},
		n.Name+" capacity", false
	d.link, d.behind, d.quiet = graph.None, true, true
	a.deliver(d)
}

// ReaderPatience returns how long a fault must last before a reader gives its first
// message up, the field that says so, and whether it does before the retention ends.
func (a *Analysis) ReaderPatience(n *graph.Node, l *graph.Link, to int) (after Moment, limit string, ends bool) {
	p := &l.Policy
	queue := n.Kind.Leases()
	span := func(length, jitter float64) (at float64, by string, ends bool) {
		return patience(n, l, length, jitter)
	}
	if to == graph.None || !a.Node(l.To).Kind.Runs() {
		at, by, ok := span(a.Node(l.To).Takes.Expected(), 1)
		after = exactMoment(at)
		if !ok {
			after.low = max(
				at-a.triesLeft(a.Node(l.To).Fails.EachTry, max(n.Lease.Seconds(), float64(p.MaxWait)*1e-9)),
				0,
			)
		}
		return after, by, ok
	}
	o := a.Outcome(to, Usual)
	_, limit, ends = span(max(o.Length.Mean(), ownTime(a.Node(l.To))), 1)
	after = a.ranged(to, o, func(length, sign float64) float64 {
		at, _, _ := span(length, 1+sign*p.Jitter)
		return at
	})
	if a.EndsWhileFilling(l) { // tries are used up without a run
		after.low = 0
	}
	if !queue {
		if l.Read.Failed == "halve" && ends {
			length := o.Length.Mean()
			after.At, after.high = after.At+halvings(
				l,
				math.Round(a.batchOf(l)),
				length,
			), after.high+halvings(
				l,
				float64(l.Read.UpTo),
				length,
			)
		}
		return after, limit, ends
	}
	if p.GiveUp > 0 { // what has waited for a moment when it is first read may be given up a try earlier
		hasty := *l
		hasty.Policy.GiveUp -= hasty.Policy.GiveUp / 10
		early, _, _ := patience(n, &hasty, ownTime(a.Node(l.To)), 1-p.Jitter)
		after.low = min(after.low, early)
	}
	// While everything fails, its readers come round to each message only as often as
	// the backlog lets them; after the fault, all that is there may be read before it, and it may need several tries.
	full := readerRuns{length: max(o.Length.Mean(), ownTime(a.Node(l.To))), able: 1}
	if !ends {
		a.withBatch(l, float64(max(l.Read.UpTo, 1)), func() {
			of := a.runsOfReader(l)
			full.length, full.able = max(full.length, of.length), max(of.able, 1)
		})
	}
	busy := a.mostTo(n.ID, l) * full.length * full.able / float64(max(l.Read.Parallel, 1)*max(l.Read.UpTo, 1))
	if ends {
		after.high += after.At * busy * float64(max(p.Tries, 1))
	} else {
		last := a.triesLeft(o.Bad(), a.gap(a.States.All[to], p, 1, o.Length.Mean()))
		after.At, after.low = after.At/(1+busy), max(after.low/(1+busy)-last, 0)
	}
	return after, limit, ends
}

// mostTo returns the messages per second that may come to the reader of a node while a fault
// makes all fail that goes there when it is given up.
func (a *Analysis) mostTo(node int, l *graph.Link) float64 {
	more := 0.0
	for _, s := range a.States.Of[node] {
		for from, e := range a.edgesInto(int(s)) {
			if e.Kind == GaveUp {
				more += a.stateRates[from] * max(1-e.expected, 0)
			}
		}
	}
	return a.LinkRates[l.ID] + more
}

// patience returns how long a reader of a channel tries one message whose runs all fail, in
// seconds, by which field that ends, and whether the tries end it and not its retention.
// Length is that of a run in seconds; the waits are jitter times as long as stated.
func patience(n *graph.Node, l *graph.Link, length, jitter float64) (at float64, by string, ends bool) {
	p := &l.Policy
	retention := n.Retention.Seconds() - n.Delay.Seconds()
	giveUp := math.Inf(1)
	if p.GiveUp > 0 {
		giveUp = float64(p.GiveUp)*1e-9 - n.Delay.Seconds() - n.Takes.Expected()
	}
	queue := n.Kind.Leases()
	gap := func(k int) float64 { return length + float64(p.Backoff(k))*1e-9*jitter }
	by = l.Link.ID() + " retry"
	if queue && !p.WaitSet {
		gap = func(int) float64 { return max(n.Lease.Seconds(), length) }
		by = l.Link.ID() + " tries × lease"
	}
	t := 0.0
	for k := 1; ; k++ {
		g := gap(k)
		if p.Tries > 0 && k >= p.Tries {
			switch again := queue && !l.Read.Reject; { // as triesInTime
			case again && t+g > giveUp:
				by = l.Link.ID() + " give-up"
			case again && t+g >= retention:
				return t, n.Name + " retention", false
			}
			return t, by, true
		}
		if k > 2000 && p.Tries == 0 && math.IsInf(giveUp, 1) { // from here on all waits are alike
			return t + math.Floor(max(retention-1e-9-t, 0)/g)*g, n.Name + " retention", false
		}
		if t+g > giveUp {
			return t, l.Link.ID() + " give-up", true
		}
		if t+g >= retention {
			return t, n.Name + " retention", false
		}
		if k > 100_000 {
			return t, by, true
		}
		t += g
	}
}

// halvings returns how long it takes until the first message of a failing batch, whose
// runs take so long, is alone.
func halvings(l *graph.Link, batch, length float64) float64 {
	return math.Ceil(math.Log2(max(batch, 1))) * (length + float64(l.Policy.Backoff(1))*1e-9)
}

// triesLeft returns the time that a message may still need when the fault is over, if
// its tries fail with some chance: all but one in ten thousand need no more.
func (a *Analysis) triesLeft(fails, gap float64) float64 {
	if fails <= 0 || fails >= 1 {
		return 0
	}
	return math.Log(1e-4) / math.Log(fails) * max(gap, 1)
}

// lateWrite notes that a channel may not keep a message for long which it has rejected at
// first: its retention counts from the first try of the write.
func (a *Analysis) lateWrite(d delivery, to *graph.Node, p *graph.Policy) {
	if !to.Kind.Polled() || to.Retention <= 0 || len(to.Out) == 0 { // what rests there is not lost
		return
	}
	wait, needs := 0.0, to.Delay.Seconds()
	if to.Kind.Leases() {
		needs += to.Lease.Seconds()
	}
	for k := 1; k < p.Tries && k < 1000; k++ {
		next := wait + float64(p.Backoff(k))*1e-9
		if next*(1+p.Jitter)+needs >= to.Retention.Seconds() {
			d.cause, d.limit, d.quiet = "expired", to.Name+" retention", true
			d.after = Moment{next, wait * (1 - p.Jitter), math.Inf(1)}
			a.deliver(d)
			return
		}
		wait = next
	}
}

// writeDelivery lists the write that an edge is, where one can be rejected and the
// run does not fail by it.
func (a *Analysis) writeDelivery(s int, n *graph.Node, e *Edge, edges []Edge) {
	to := a.Node(a.States.All[e.To].Node)
	if !to.Kind.Channel() || e.Kind == Polls || e.Kind == LifeEnds || e.Kind == Calls {
		return
	}
	d := delivery{
		state:  s,
		faults: a.faults.only(to.ID),
		to:     graph.None,
		link:   e.Link,
		node:   to.ID,
		cause:  "rejected",
		share:  e.Mean.Low,
	}
	if e.Link != graph.None && e.Kind != GaveUp {
		a.lateWrite(d, to, &a.Link(e.Link).Policy)
	}
	if e.Kind == GaveUp {
		policy := graph.WritePolicy()
		d.after, d.limit, d.quiet = exactMoment(WaitsOf(&policy)), to.Name, true
		if a.States.All[s].How == AsIntake && (n.Concurrency > 0 || n.Pool != "") {
			d.after.high = math.Inf(1) // what finds no free run is given up at any time
		}
		d.place = a.placeOf(d.cause, d.node, d.link)
		a.dead = append(a.dead, lastResort{d, e.Mean.High >= Negligible, e.To})
		return
	}
	l := a.Link(e.Link)
	ofFailed := e.Kind == Result && l.When == model.Failure
	held := a.States.All[s].How == AsIntake // until its tries are exhausted; else each run has a result
	switch {
	case n.Kind.Answers() || l.Op == "read" || e.Mean.High == 0 && !ofFailed:
		return
	case l.Relation == model.RunWrite && l.When == model.OfRun:
		if l.Ignore {
			a.ignoredWrite(s, d, l)
		}
		return
	case e.Kind == Sends || e.Kind == StartSend:
		return
	}
	d.after, d.limit = exactMoment(WaitsOf(&l.Policy)), l.Link.ID()+" retry"
	switch {
	case e.Kind != Result:
	case ofFailed && e.Mean.High < Negligible: // nothing is sent until a fault makes the runs fail
		if d.share = 0; held {
			d.after = d.after.plus(a.patience(s))
		}
		fails, _ := a.together(s)
		fails.merge(a.whileSent(s, n))
		common, rest := d.faults.both(fails)
		if _, fails = fails.both(common); !rest.empty() && !fails.empty() {
			d.pairs = []bothFail{{fails, rest}}
		}
		d.faults = common
	case ofFailed && held: // some fail anyway, at any moment
		if d.after = d.after.byChance(a.stateRates[s] * d.share); n.Concurrency > 0 || n.Pool != "" {
			d.after.high = math.Inf(1) // what finds no free run is given up at any time
		}
	case l.When == model.Success && to.Takes.Largest() == 0: // a run that fails by the fault succeeds at nothing
		if _, d.faults = d.faults.both(a.alwaysFails(s)); d.faults.empty() {
			return
		}
	}
	if dead := deadEdge(edges, l.ID); dead != nil {
		d.to, d.normal = dead.To, dead.Mean.High >= Negligible
	}
	a.deliver(d)
}

// failsBefore returns the faults by which a run at a state fails before it comes to a
// link: those of what it calls and writes to on the way.
func (a *Analysis) failsBefore(s int, to *graph.Link) faultSet {
	var set faultSet
	together := a.Node(a.States.All[s].Node).Together
	first := func(l *graph.Link) bool { // order in a run [S-14, S-16, S-18]
		if l.AtStart != to.AtStart {
			return l.AtStart
		}
		return l.Relation == model.WaitingCall || together || l.ID < to.ID
	}
	for _, e := range a.States.Leaving(s) {
		if e.Link == graph.None || e.Link == to.ID || e.Kind == GaveUp {
			continue
		}
		l := a.Link(e.Link)
		if l.Forgiven() || l.InCatch || l.Chance < 1 || l.When != model.OfRun || !first(l) {
			continue
		}
		switch {
		case e.Kind == Calls:
			set.merge(a.alwaysFails(e.To))
		case l.Relation == model.RunWrite && e.Mean.Low > 0:
			a.faults.addNode(&set, l.To)
		}
	}
	return set
}

// lastResort is a write to a dead-letter node, which nothing takes when it is
// rejected.
type lastResort struct {
	delivery
	normal bool // messages come that way without a fault
	target int
}

// WaitsOf returns the sum of the waits between the tries of a policy, in seconds.
func WaitsOf(p *graph.Policy) float64 {
	total := 0.0
	for k := 1; k < p.Tries; k++ {
		w := float64(p.Backoff(k)) * 1e-9
		if p.GiveUp > 0 && total+w > float64(p.GiveUp)*1e-9 {
			break
		}
		total += w
	}
	return total
}

// findFills works out how soon the queues of limited capacity fill up while their
// consumers fail.
func (a *Analysis) findFills() {
	a.limited = nil
	for i := range a.Graph.Nodes {
		n := a.Node(i)
		if n.Capacity == 0 || !n.Kind.Leases() || a.Rates[i] <= 0 || a.Boundless[i] || n.Delay >= n.Retention {
			continue
		}
		// What is hidden or in flight when the fault begins takes room already.
		held := a.Rates[i] * n.Delay.Seconds()
		for _, id := range n.Out {
			held += a.Readings[id].Tries * (a.Readings[id].Run + a.meanWaitToFill(a.Link(id)))
		}
		if len(n.Out) > 0 {
			held = max(held, a.stockOf(i)) // what waits to be tried again
		}
		room := max(float64(n.Capacity)-held, 0)
		f := fill{
			after: Moment{
				room / a.Rates[i],
				0.95 * max(room-2*math.Sqrt(held)-3*math.Sqrt(room*a.bursts(i))-1, 0) / a.Rates[i],
				float64(n.Capacity) / a.Rates[i],
			},
		}
		const nearly = 1.1 // so many times what it holds it may have room for, or not
		for _, id := range n.Out {
			l := a.Link(id)
			if a.Reach[id] == expr.Impossible {
				continue
			}
			f.faults.merge(a.faults.unread[id])
			for _, s := range a.States.Of[i] {
				for _, e := range a.States.Leaving(int(s)) {
					if e.Link != id || e.Kind != Polls {
						continue
					}
					after, _, ends := a.ReaderPatience(n, l, e.To)
					holds := func(patience float64) float64 { // messages
						return (patience + n.Lease.Seconds() + l.Read.Within.Seconds()) * a.Rates[i]
					}
					if ends && holds(after.At)*nearly+2 < float64(n.Capacity) {
						continue // what is given up makes room in time
					}
					if ends && holds(after.low)/nearly-2 < float64(n.Capacity) {
						f.after.high = math.Inf(1)
					}
					if l.Relation == model.PolledMove {
						a.faults.addNode(&f.faults, l.To)
					} else {
						f.faults.merge(a.holdsUp(n, l, e.To))
					}
				}
			}
		}
		if room >= onTheWay(a.Rates[i]) {
			_, f.faults = f.faults.both(a.dryAt(i))
		}
		if f.faults.empty() || f.after.At > n.Retention.Seconds() {
			continue // messages expire first, or none comes any more
		}
		a.faults.fills[i] = []fill{f}
		a.limited = append(a.limited, i)
	}
	a.findFillsBefore()
}

// holdsUp lists the faults of what the runs of a reader need by which its queue fills up. What fails by one of them by
// chance only, anew at each try, waits for another; where there is room for that, the queue does not fill up.
func (a *Analysis) holdsUp(n *graph.Node, l *graph.Link, s int) faultSet {
	all := a.closure(s)
	_, chancy := all.both(a.alwaysFails(s))
	var room faultSet
	list := chancy.list()
	for _, f := range list[:min(len(list), mostChecked)] {
		if f >= len(a.Graph.Nodes) {
			continue
		}
		o := a.outcomeUnder(s, f)
		again := o.Bad() / (1 - o.Bad()) * a.gap(a.States.All[s], &l.Policy, 1, o.Length.Mean())
		if stock := a.Rates[n.ID] * again; stock+3*math.Sqrt(stock) < float64(n.Capacity) {
			room.add(f)
		}
	}
	_, all = all.both(room)
	return all
}

// mostFills bounds how many queues downstream are looked at that fill up a queue.
const mostFills = 8

// findFillsBefore works out how soon the queues fill up whose consumers write into one that is full, and those before
// them.
func (a *Analysis) findFillsBefore() {
	fills := a.faults.fills
	before := map[int][]int{} // by queue: those whose consumers write into it
	for _, q := range a.limited {
		for _, next := range fills[q][0].faults.list() {
			if next != q && fills[next] != nil {
				before[next] = append(before[next], q)
			}
		}
	}
	for work := slices.Clone(a.limited); len(work) > 0; work = work[1:] {
		for _, q := range before[work[0]] {
			if a.fillsWith(q, fills[work[0]]) {
				work = append(work, q)
			}
		}
	}
}

// fillsWith notes that a queue fills up when one does that its consumers write into, and reports whether that is new.
func (a *Analysis) fillsWith(q int, next []fill) (added bool) {
	fills := a.faults.fills
	own := fills[q][0]
	known := a.dryAt(q)
	for _, f := range fills[q] {
		known.merge(f.faults)
	}
	for _, f := range next {
		if _, f.faults = f.faults.both(known); f.faults.empty() || len(fills[q]) >= mostFills {
			continue
		}
		f.after = f.after.plus(own.after)
		known.merge(f.faults)
		fills[q], added = append(fills[q], f), true
	}
	return added
}
