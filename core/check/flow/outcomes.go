package flow

import (
	"maps"
	"math"
	"slices"

	"ironweir/core/check/internal/dist"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Mode says how unknown things are assumed: a condition that may hold, a case that
// may apply.
type Mode uint8

const (
	Usual Mode = iota // as it probably is
	Best
	Worst
)

// RunOutcome is what becomes of a run for a message at a state.
type RunOutcome struct {
	Fails     float64         // chance that a run fails for a reason that another run need not share
	never     float64         // share of messages of which every run fails
	final     bool            // what never succeeds is given up at the first failure
	Length    dist.Law        // of a run, over all runs
	success   dist.Law        // of a run that succeeds; its mass is 1−fails
	failed    dist.Law        // of a run that fails
	sent      map[int]float64 // by link that sends: messages that stand per run
	ignored   map[int]float64 // by link whose errors are ignored: messages that are rejected per run
	errors    map[string]float64
	Late      float64         // part of fails: the run exceeds its timeout
	Why       string          // why it never succeeds: the case, "accepts", a callee, …
	dooms     map[int]float64 // by node: the share of messages that it never processes; the same at each call
	visits    map[int]float64 // by call link: calls per run, tries included
	again     map[int]float64 // by call link: what a run with a message that is never processed calls more
	ended     map[int]float64 // by call link: the share of messages never processed by its node or an earlier call
	guessed   bool            // something of it was guessed
	away      bool            // what it calls may turn it away
	admitted  *RunOutcome     // that of a call that follows one which found a free run; nil: the same
	batched   bool            // it depends on which messages are read with it
	spoiled   float64         // chance that another message of its batch fails every run
	random    bool            // more than one time is random, so that chances of lateness are estimates
	stated    float64         // the chance of failing by stated `fails` shares alone
	doomTime  float64         // seconds, of the runs for messages that never succeed: the sum by share,
	doomShare float64         // and the sum of the shares
	// A call that is made by chance, anew at each run, for messages that its callee never processes: the share of
	// messages, and the chance that a run of one meets it.
	mayMeet, meets float64
}

// Outcome works out the run at a state; a cycle of waiting calls fails.
func (a *Analysis) Outcome(s int, m Mode) *RunOutcome {
	g := a.States
	if o := g.outcomes[m][s]; o != nil {
		return o
	}
	if m != Usual {
		if o := a.Outcome(s, Usual); !o.varies() {
			g.outcomes[m][s] = o
			return o
		}
	}
	// Calls within calls are worked out innermost first, without recursion, since
	// chains of them may be long.
	type frame struct{ state, edge int }
	inHand := map[int]bool{s: true}
	stack := []frame{{s, int(g.First[s])}}
	for len(stack) > 0 {
		f := &stack[len(stack)-1]
		if f.edge < int(g.First[f.state+1]) {
			e := &g.Edges[f.edge]
			f.edge++
			if e.Kind == Calls && g.outcomes[m][e.To] == nil {
				if inHand[e.To] { // a cycle: no call of it is ever answered in time
					continue
				}
				inHand[e.To] = true
				stack = append(stack, frame{e.To, int(g.First[e.To])})
			}
			continue
		}
		stack = stack[:len(stack)-1]
		delete(inHand, f.state)
		g.outcomes[m][f.state] = a.work(f.state, m)
	}
	return g.outcomes[m][s]
}

// work works out the run at a state whose callees are known.
func (a *Analysis) work(s int, m Mode) *RunOutcome {
	at := a.States.All[s]
	n := a.Node(at.Node)
	if n.Kind.Answers() {
		return a.request(s, m)
	}
	list, guessed := a.caseChoices(at)
	var pick *RunOutcome
	for k := range list {
		if m == Usual && k > 0 {
			break
		}
		o := a.workAs(s, m, &list[k])
		if pick == nil || m == Best && o.Bad() < pick.Bad() || m == Worst && o.Bad() > pick.Bad() {
			pick = o
		}
	}
	pick.guessed = pick.guessed || guessed
	if n.Kind == model.Outside && at.How != AsCall && a.throttled[at.Node] > 0 { // a push over its rate fails
		pick = pick.turnedAway(a.turnsAway(at.Node, m), a.awayWhy(at.Node))
	}
	return pick
}

// varies reports whether an outcome is another in the best or worst case.
func (o *RunOutcome) varies() bool { return o.guessed || o.away || o.batched }

// Bad orders outcomes: the chance that a message is not handled at a single try.
func (o *RunOutcome) Bad() float64 {
	return o.never + (1-o.never)*(o.Fails+(1-o.Fails)*o.mayMeet*o.meets)
}

// choice is the time and the failures that hold for a run.
type choice struct {
	takes    model.Distribution
	fails    model.Failing
	name     string // of the error; a case's name where one holds
	ofCase   bool
	of       int // the case
	declined string
}

// caseChoices lists what may hold for a message at a node, first what probably
// does.
func (a *Analysis) caseChoices(at State) (list []choice, guessed bool) {
	n := a.Node(at.Node)
	base := choice{takes: n.Takes, fails: n.Fails, name: "failed"}
	if n.Fails.Error != "" {
		base.name = n.Fails.Error
	}
	if a.Payloads.Declines(n, at.Data) != nil {
		base.declined = "not-accepted"
	}
	if len(n.Cases) == 0 {
		return []choice{base}, false
	}
	e, has := a.Seen(at.Message, at.event)
	sure := false
	for i := range n.Cases {
		c := &n.Cases[i]
		v := a.judge(c.If, at.Message, at.event)
		if v == expr.Impossible {
			continue
		}
		one := base
		one.name, one.ofCase, one.of = c.Name, true, i
		if c.Takes != nil {
			one.takes = *c.Takes
		}
		if c.Fails != nil {
			one.fails = *c.Fails
			if c.Fails.Error != "" {
				one.name = c.Fails.Error
			}
		}
		list = append(list, one)
		if v == expr.Certain {
			sure = true
			break
		}
	}
	if !sure {
		list = append([]choice{base}, list...) // a case is the exception
	}
	// At the first try, it may be known which one holds.
	e.Try = 1
	for i := range n.Cases {
		v := min(n.Cases[i].If.Judge(e, has|expr.KnownTry), a.judge(n.Cases[i].If, at.Message, at.event))
		if w := n.Cases[i].If.Judge(e, has|expr.KnownTry); w == expr.Certain {
			v = w
		}
		if v == expr.Impossible {
			continue
		}
		if v == expr.Certain {
			for k := range list {
				if list[k].ofCase && list[k].of == i {
					list[0], list[k] = list[k], list[0]
				}
			}
		}
		break
	}
	return list, len(list) > 1
}

// walker follows the time of a run.
type walker struct {
	a      *Analysis
	state  int
	at     State
	n      *graph.Node
	mode   Mode
	limit  float64
	out    *RunOutcome
	ended  dist.Law // of the runs that have failed
	times  int      // random times that have been added up
	asks   bool     // it may wait for others: the time-out wins what ends at the very instant
	doomed int      // the link of a task whose callee never processes the message; None
	batch  float64  // messages of the run
	// callees with few places in which the run has had one: it is free when the next call comes
	admitted map[int]bool
	asked    map[int]*asked  // by outside system with a rate limit: the calls of the run so far
	fault    *fault          // the node that fails; nil: none does
	depth    int             // calls that lie around this run
	wrote    map[int]float64 // by link: of the runs that sends stand together for, the share that makes its writes
}

// newWalker starts a walk through what a node does with a message; nothing limits its time yet.
func (a *Analysis) newWalker(s int, m Mode) *walker {
	at := a.States.All[s]
	return &walker{
		a:      a,
		state:  s,
		at:     at,
		n:      a.Node(at.Node),
		mode:   m,
		limit:  math.Inf(1),
		doomed: graph.None,
		asks:   a.Graph.Asks(a.Node(at.Node)),
		batch:  a.messagesOf(at, m),
		out: &RunOutcome{
			errors: map[string]float64{},
			visits: map[int]float64{},
			again:  map[int]float64{},
			dooms:  map[int]float64{},
			sent:   map[int]float64{},
		},
	}
}

// workAs works out a run under one choice.
func (a *Analysis) workAs(s int, m Mode, c *choice) *RunOutcome {
	return a.newWalker(s, m).run(c)
}

// run works out a run under a choice.
func (w *walker) run(c *choice) *RunOutcome {
	a, n := w.a, w.n
	if w.fault.at(n.ID) {
		failing := *c
		failing.fails = model.Failing{EachTry: 1}
		c = &failing
	}
	if n.Timeout > 0 {
		w.limit = n.Timeout.Seconds()
	}
	alive := dist.Constant(0)
	for _, id := range n.Out { // S-14, S-16
		switch l := a.Link(id); {
		case !l.AtStart || l.When != model.OfRun:
		case l.Relation == model.WaitingCall:
			alive = w.call(l, alive, nil)
		default:
			alive = w.writes(l, alive)
		}
	}
	start := alive
	others := w.othersOf(c)
	w.out.spoiled = others.sure
	alive = w.spendWith(&others, alive, c.takes)
	if n.ColdStart != nil && w.mode == Worst {
		warm := alive
		alive = w.cut(w.sum(alive, dist.Of(n.ColdStart.Takes)))
		if alive.Mass > 0 && warm.Mass > 0 {
			w.out.guessed = true
		}
	} else if n.ColdStart != nil {
		alive = w.coldOrWarm(w.sum(w.sum(start, dist.Of(c.takes)), dist.Of(n.ColdStart.Takes)), alive, start.Mass)
	}
	w.out.final = false
	if c.declined != "" {
		w.fail(alive, c.declined)
		w.out.Why, alive = "accepts", dist.Law{}
	}
	if c.fails.EachTry > 0 {
		w.fail(alive.Times(c.fails.EachTry), c.name)
		alive = alive.Times(1 - c.fails.EachTry)
	}
	if others.chance > 0 && !n.Fails.PerMessage {
		w.fail(alive.Times(others.chance), c.name)
		alive = alive.Times(1 - others.chance)
	}
	if c.fails.ForGood > 0 {
		w.doom(n.ID, c.fails.ForGood, alive.Mean())
		w.out.final, w.out.Why = c.ofCase, "for-good"
	}
	w.out.stated = c.fails.EachTry
	alive = w.doTasks(alive)
	for _, id := range n.Out {
		if l := a.Link(id); l.Relation == model.WaitingCall && l.When == model.OfRun && !l.ByTask && !l.AtStart {
			alive = w.call(l, alive, nil)
		}
	}
	return w.finish(w.sends(alive))
}

// sends makes the writes of a run, one link after the other. Of those that stand together none stands unless all do;
// those whose errors are ignored are written behind them [S-18].
func (w *walker) sends(alive dist.Law) dist.Law {
	ignoring := func(which ...bool) {
		for _, id := range w.n.Out {
			l := w.a.Link(id)
			if !l.AtStart && l.When == model.OfRun && !l.ByTask && slices.Contains(which, l.Ignore) {
				alive = w.writes(l, alive)
			}
		}
	}
	if !w.n.Together {
		ignoring(false, true)
		return alive
	}
	ignoring(false)
	for _, id := range w.n.Out {
		if l := w.a.Link(id); !l.AtStart && !l.Ignore && w.out.sent[id] > 0 {
			w.out.sent[id] = alive.Mass * w.wrote[id] * w.counted(l)
		}
	}
	ignoring(true)
	return alive
}

// coldOrWarm returns the law of runs in time, of which some start cold, given that of those
// that all do, and that of those in time that start warm. The instance of a run that
// exceeds its limit is gone, so that the next starts cold: with p the chance that a cold run
// is in time, and q that a warm one is, p/(p+1−q) of the runs start warm in the long run,
// where they come one after another.
func (w *walker) coldOrWarm(cold, warm dist.Law, all float64) dist.Law {
	cold = cold.Within(w.limit)
	if cold.Mass >= warm.Mass || all == 0 {
		return warm
	}
	w.out.guessed = w.out.guessed || cold.Mass > 0
	p, q := cold.Mass/all, warm.Mass/all
	warmly := 0.0
	if p > 0 {
		warmly = p / (p + 1 - q)
	}
	out := cold.Times(1 - warmly).Or(warm.Times(warmly))
	w.cut(dist.Constant(w.limit * 2).Times(max(warm.Mass-out.Mass, 0)))
	return out
}

func (w *walker) finish(alive dist.Law) *RunOutcome {
	o := w.out
	o.success = alive
	o.Fails = min(max(1-alive.Mass, 0), 1)
	if o.Fails < 1e-13 {
		o.Fails = 0
	}
	o.failed = w.ended
	o.Length = alive.Or(w.ended)
	o.random = o.random || w.times > 1
	return o
}

// sum returns the law of the sum of two independent times.
func (w *walker) sum(l, o dist.Law) dist.Law { return w.a.memo.sums.Plus(l, o) }

// spend adds a time to a run, and ends what exceeds its limit.
func (w *walker) spend(alive dist.Law, d model.Distribution) dist.Law {
	if d.Largest() == 0 || alive.Mass == 0 {
		return alive
	}
	l := dist.Of(d)
	w.noteRandom(l)
	return w.cut(w.sum(alive, l))
}

func (w *walker) noteRandom(l dist.Law) {
	if len(l.Atoms) > 1 {
		w.times++
	}
}

// cut ends the runs that exceed the limit.
func (w *walker) cut(l dist.Law) dist.Law {
	limit := w.limit
	if w.asks {
		limit *= 1 - 1e-8
	}
	over := l.Tail(limit)
	if over <= 0 {
		return l
	}
	w.out.Late += over
	w.fail(dist.Constant(w.limit).Times(over), "timeout")
	return l.Within(limit)
}

// doom notes that a node never processes a share of the messages: the same ones each
// time. A run for one of them takes some seconds.
func (w *walker) doom(node int, share, seconds float64) {
	first := share * (1 - w.out.never) // what ends no run before
	w.out.doomTime += first * min(seconds, w.limit)
	w.out.doomShare += first
	w.out.dooms[node] = max(w.out.dooms[node], share)
	keep := 1.0
	for _, node := range SortedKeys(w.out.dooms) { // a product depends on the order, in its last digit
		keep *= 1 - w.out.dooms[node]
	}
	w.out.never = 1 - keep
}

// oneByOne reports whether a run is a try of one message, alone.
func (w *walker) oneByOne() bool {
	switch w.at.How {
	case AsIntake:
		return true
	case AsPoll:
		return w.a.Link(int(w.at.Link)).Read.UpTo <= 1
	}
	return false
}

// mayMeet notes that a share of the messages fails by chance, at each run anew; with others of which that was noted, by
// the mean of the chances.
func (w *walker) mayMeet(share, chance float64) {
	both := 1 - (1-w.out.mayMeet)*(1-share)
	w.out.meets = (w.out.mayMeet*w.out.meets + share*chance) / (w.out.mayMeet + share)
	w.out.mayMeet = both
}

// fail ends runs with an error.
func (w *walker) fail(l dist.Law, name string) {
	if l.Mass <= 0 {
		return
	}
	w.ended = w.ended.Or(l)
	w.out.errors[name] += l.Mass
}

// happens returns the share of messages in hand for which a link is used.
func (w *walker) happens(l *graph.Link) float64 {
	share := l.Chance * (1 - noneOf(l))
	switch w.a.sendVerdict(l, w.at.Message) {
	case expr.Impossible:
		return 0
	case expr.Possible:
		w.out.guessed = true
		if w.mode == Best {
			return 0
		}
	}
	return share
}

// counted returns how often a link is used for a message in hand, if it is.
func (w *walker) counted(l *graph.Link) float64 {
	_, expected, guessed := w.a.CountOf(l, w.at)
	if guessed {
		w.out.guessed = true
	}
	return expected / max(1-noneOf(l), 1e-12)
}

// noneOf returns the chance that the count of a link is 0: one of 0.3 is 0 in 70% of cases, so that it is the mean of
// what it is short of 1, E[max(1−X, 0)].
func noneOf(l *graph.Link) float64 {
	d := l.Count.Dist
	if l.CountExpr != nil || d.Smallest() >= 1 {
		return 0
	}
	switch d.Dist {
	case "uniform":
		most := min(d.Max, 1)
		if d.Max == d.Min {
			return 1 - most
		}
		return ((1-d.Min)*(1-d.Min) - (1-most)*(1-most)) / 2 / (d.Max - d.Min)
	case "samples":
		short := 0.0
		for _, x := range d.Values {
			short += max(1-x, 0)
		}
		return short / float64(len(d.Values))
	case "exponential", "lognormal", "gamma": // ∫ F over 0 to 1, by Simpson's rule
		const steps = 200
		sum := dist.CDF(d, 0) + dist.CDF(d, 1)
		for k := 1; k < steps; k++ {
			sum += float64(2+2*(k%2)) * dist.CDF(d, float64(k)/steps)
		}
		return sum / 3 / steps
	}
	return 1 - d.Mean
}

// callee returns the state that a call link leads to; false where there is none.
func (w *walker) callee(id int) (int, bool) {
	for _, e := range w.a.States.Leaving(w.state) {
		if e.Link == id && e.Kind == Calls {
			return e.To, true
		}
	}
	return 0, false
}

// call makes the calls of a link. Failures go to failed, where a task may catch
// them; nil: they fail the run.
func (w *walker) call(l *graph.Link, alive dist.Law, failed func(dist.Law, string)) dist.Law {
	if alive.Mass == 0 {
		return alive
	}
	if failed == nil {
		failed = w.fail
	}
	c := w.callsOf(l)
	if o := c.outcome; o != nil {
		w.noteCalls(c, alive)
		w.noteRandom(o.success)
	}
	return w.forEach(l, alive, c, func(mate *walker) step { return mate.callsOf(l) }, failed)
}

// calls are those of a link for one message.
type calls struct {
	link         *graph.Link
	share, count float64     // the chance that it is used, and how often it then is
	outcome      *RunOutcome // of one; nil: there is none
	tries        int
	good, left   dist.Law // when those have ended that succeed, and those of which all tries fail
	bad          dist.Law // one try that fails
	again        *calls   // those that follow one that has found a free run; nil: the same
	away         *calls   // those that come over the callee's rate limit; nil: it has none
	mean         float64  // tries of each, on average
	visits       float64  // of them that come to the callee
	name         string   // of the error
}

// callsOf returns the calls of a link for the message in hand.
func (w *walker) callsOf(l *graph.Link) *calls {
	c := &calls{link: l, share: w.happens(l), count: w.counted(l), name: "call-failed"}
	if c.share == 0 || c.count == 0 {
		return c
	}
	o, final := w.answer(l)
	if o.admitted != nil && w.n.Tasks == nil {
		again := *c
		again.of(w, o.admitted, final)
		c.again = &again
	}
	if to := w.a.Node(l.To); to.Kind == model.Outside && to.RateLimit > 0 && c.share == 1 && !final {
		away := *c
		away.of(w, &RunOutcome{Fails: 1, Length: dist.Constant(0), Why: "rate"}, false)
		c.away = &away
	}
	c.of(w, o, final)
	return c
}

// of completes the calls by what one of them comes to.
func (c *calls) of(w *walker, o *RunOutcome, final bool) {
	l := c.link
	c.outcome, c.tries = o, max(l.Policy.Tries, 1)
	if final {
		c.tries = 1
	}
	if o.Fails > 0 {
		c.bad = failuresOf(o)
	}
	c.good, c.left, c.mean = w.tries(l, c.tries, o.success, c.bad)
	if c.visits = c.mean; final {
		c.visits = 0
	}
	for _, e := range SortedKeys(o.errors) {
		if !builtin[e] {
			c.name = e
		}
	}
}

// noteCalls notes what calls for messages do that the callee never processes.
func (w *walker) noteCalls(c *calls, alive dist.Law) {
	l, o := c.link, c.outcome
	if w.out.never > 0 && !l.ByTask {
		if w.out.ended == nil {
			w.out.ended = map[int]float64{}
		}
		w.out.ended[l.ID] = w.out.never
	}
	if !l.Ignore && o.never > 0 && !l.ByTask {
		seconds := alive.Mean() + float64(c.tries)*o.doomedLength()
		for k := 1; k < c.tries; k++ {
			seconds += float64(l.Policy.Backoff(k)) * 1e-9
		}
		w.out.guessed = w.out.guessed || c.share < 1
		switch {
		case c.share < 1 && w.oneByOne():
			w.mayMeet(o.never, c.share)
		case c.share == 1 || w.mode != Best: // at best, other tries of a caller's caller do not meet it
			for _, node := range slices.Sorted(maps.Keys(o.dooms)) {
				w.doom(node, o.dooms[node]*c.share, seconds)
			}
		}
		if w.out.Why == "" {
			w.out.Why = o.Why
		}
	}
	if o.never > 0 && !l.ByTask {
		w.out.again[l.ID] = alive.Mass * o.never * c.share * (float64(c.tries) - c.mean)
		w.out.random = w.out.random || l.AtStart // such a run ends before its own work
	}
}

// take makes the calls for so many messages, one after the other.
func (c *calls) take(w *walker, alive dist.Law, messages float64, failed func(dist.Law, string)) dist.Law {
	count := c.count * messages
	if c.outcome == nil || alive.Mass == 0 {
		return alive
	}
	if c.again != nil && w.admitted[c.link.To] {
		return c.again.take(w, alive, messages, failed)
	}
	skipped := alive.Times(1 - c.share)
	alive = alive.Times(c.share)
	times := int(math.Round(count))
	if count < 1 {
		skipped = skipped.Or(alive.Times(1 - count))
		alive, times = alive.Times(count), 1
	}
	if times > manyTimes {
		w.out.visits[c.link.ID] += alive.Mass * c.visits * float64(times)
		each := (c.good.Mean()*c.good.Mass + c.left.Mean()*c.left.Mass) * float64(times)
		p := math.Pow(c.good.Mass, float64(times))
		if c.again != nil {
			p = c.good.Mass * math.Pow(c.again.good.Mass, float64(times-1))
			w.admit(c.link.To)
		}
		for k := 0; c.away != nil && k < times; k++ {
			if now := alive.Mean() + float64(k)*c.good.Mean(); w.outpaces(c.link, now) {
				p, w.out.Why = 0, "rate"
				break
			}
		}
		if c.link.Ignore {
			p = 1
		}
		after := w.cut(alive.Plus(dist.Constant(each)))
		failed(after.Times(1-p), c.name)
		w.out.random = true
		return skipped.Or(after.Times(p))
	}
	for range times {
		one := c
		if c.away != nil && w.outpaces(c.link, alive.Mean()) {
			one = c.away
			w.out.Why = "rate"
		}
		w.out.visits[c.link.ID] += one.started(w, alive)
		next := w.cut(w.sum(alive, one.good))
		if one.left.Mass > 1e-13 {
			lost := w.cut(w.sum(alive, one.left))
			if c.link.Ignore {
				next = next.Or(lost)
			} else {
				failed(lost, c.name)
			}
		}
		if alive = next; c.again != nil {
			w.admit(c.link.To)
			c = c.again
		}
	}
	return skipped.Or(alive)
}

// asked are the calls of a run to a node so far, and when the first was made, in seconds.
type asked struct {
	calls int
	first float64
}

// outpaces notes a call to an outside system at a time of the run, in seconds, and reports whether it comes over the
// rate limit, because of the run's own calls alone, at each of its tries.
func (w *walker) outpaces(l *graph.Link, now float64) bool {
	before := w.asked[l.To]
	if before == nil {
		if w.asked == nil {
			w.asked = map[int]*asked{}
		}
		w.asked[l.To] = &asked{1, now}
		return false
	}
	limit := w.a.Node(l.To).RateLimit
	left := max(limit, 1) + limit*(now-before.first+WaitsOf(&l.Policy)) - float64(before.calls)
	if left < 1-1e-9 {
		return true
	}
	before.calls++
	return false
}

// admit notes that the run has found a place in a callee.
func (w *walker) admit(callee int) {
	if w.admitted == nil {
		w.admitted = map[int]bool{}
	}
	w.admitted[callee] = true
}

// started returns how many tries of one call come to the callee: the time-out of the run may cut them off.
func (c *calls) started(w *walker, alive dist.Law) (sum float64) {
	if c.tries == 1 || c.visits == 0 || math.IsInf(w.limit, 1) || w.sum(alive, c.left).Tail(w.limit) == 0 {
		return alive.Mass * c.visits
	}
	for k := 1; k <= c.tries && alive.Mass > 1e-12; k++ {
		sum += alive.Mass
		alive = w.sum(alive, c.bad).Plus(dist.Constant(float64(c.link.Policy.Backoff(k)) * 1e-9)).Within(w.limit)
	}
	return sum
}

// weight returns the chance that the calls fail a run, and how long they take, in seconds.
func (c *calls) weight() (fails, seconds float64) {
	if c.outcome == nil {
		return 0, 0
	}
	seconds = c.share * c.count * (c.good.Mean()*c.good.Mass + c.left.Mean()*c.left.Mass)
	if c.link.Ignore {
		return 0, seconds
	}
	return c.share * (1 - math.Pow(c.good.Mass, c.count)), seconds
}

// manyTimes is how often things may be done one after the other whose times are added up as they are distributed; more
// are taken as their mean.
const manyTimes = 16

// tries makes all tries of one call; it returns when those end that succeed, and those that
// fail, and their mean number.
func (w *walker) tries(l *graph.Link, tries int, success, bad dist.Law) (good, left dist.Law, mean float64) {
	good, left, mean = success, bad, 1
	for k := 1; k < tries && left.Mass > 1e-12; k++ {
		mean += left.Mass
		again := left.Plus(dist.Constant(float64(l.Policy.Backoff(k)) * 1e-9))
		good = good.Or(w.sum(again, success))
		left = w.sum(again, bad)
	}
	return good, left, mean
}

// answer returns what a call of a link comes to, and whether no further try changes that.
func (w *walker) answer(l *graph.Link) (o *RunOutcome, final bool) {
	to, ok := w.callee(l.ID)
	if ok {
		if o = w.a.States.outcomes[w.mode][to]; o == nil {
			ok = false // it waits for its own caller
		}
	}
	switch {
	case l.Refused:
		o, final = &RunOutcome{Fails: 1, Length: dist.Constant(0), Why: "refused"}, true
	case ok && w.a.overLimit(to) == expr.Certain:
		o, final = &RunOutcome{Fails: 1, Length: dist.Constant(0), Why: "hop-limit"}, true
	case !ok:
		// A cycle of calls ends only at a time-out.
		o = &RunOutcome{Fails: 1, Length: dist.Constant(w.limitOr(0)), Why: "deadlock"}
	}
	if ok {
		o = w.spared(l.To, w.whenFailing(to, o))
	}
	if ok && w.a.throttled[l.To] > 0 {
		o = o.turnedAway(w.a.turnsAway(l.To, w.mode), w.a.awayWhy(l.To))
	}
	w.out.guessed = w.out.guessed || o.guessed
	w.out.away = w.out.away || o.away
	w.out.random = w.out.random || o.random
	if o.Fails > 0 && o.Why != "" {
		w.out.Why = o.Why
	}
	if l.ID == w.doomed {
		o = &RunOutcome{
			Fails:  1,
			Length: o.Length,
			failed: dist.Constant(o.doomedLength()),
			errors: o.errors,
		}
	}
	return o, final
}

// doomedLength returns the mean length, in seconds, of a run for a message that never
// succeeds.
func (o *RunOutcome) doomedLength() float64 {
	if o.doomShare == 0 {
		return o.Length.Mean()
	}
	return o.doomTime / o.doomShare
}

// runLength returns the mean length, in seconds, of the runs for a message at a state.
func (a *Analysis) runLength(s int) float64 {
	o := a.Outcome(s, Usual)
	if o.never == 0 {
		return o.Length.Mean()
	}
	share := a.doomedShare(s, Usual)
	if f := a.FateOf(s, Usual); a.States.All[s].How != AsCall && f.runs > 0 {
		share = min(o.never*f.doomed/f.runs, 1)
	}
	return (1-share)*o.Length.Mean() + share*o.doomedLength()
}

// awayWhy says why a node turns away what it has no room for.
func (a *Analysis) awayWhy(node int) string {
	if a.Node(node).Kind == model.Outside {
		return "rate"
	}
	return "throttled"
}

// turnedAway returns an outcome for a caller that is turned away with some chance.
func (o *RunOutcome) turnedAway(chance float64, why string) *RunOutcome {
	c := *o
	c.away, c.admitted = true, o
	c.Fails = 1 - (1-o.Fails)*(1-chance)
	c.success = o.success.Times(1 - chance)
	if o.Fails > 0 {
		c.failed = failuresOf(o).Times(1 - chance)
	}
	c.failed = c.failed.Or(dist.Constant(0).Times(chance))
	c.Length = c.success.Or(c.failed)
	if c.Why == "" {
		c.Why = why
	}
	return &c
}

var builtin = map[string]bool{
	"failed":         true,
	"timeout":        true,
	"throttled":      true,
	"refused":        true,
	"rejected":       true,
	"call-failed":    true,
	"hop-limit":      true,
	"too-many-tasks": true,
	"not-accepted":   true,
}

func (w *walker) limitOr(fallback float64) float64 {
	if math.IsInf(w.limit, 1) {
		return fallback
	}
	return w.limit * 2
}

// failuresOf returns the law of the runs that fail.
func failuresOf(o *RunOutcome) dist.Law {
	if o.failed.Mass > 0 {
		return o.failed
	}
	mean := o.Length.Mean()
	if o.success.Mass > 0 && o.Fails > 0 {
		mean = max((o.Length.Mean()*o.Length.Mass-o.success.Mean()*o.success.Mass)/max(o.Fails, 1e-12), 0)
	}
	return dist.Constant(mean).Times(o.Fails)
}

// writes makes the writes of a link, and spends the time of its reads.
func (w *walker) writes(l *graph.Link, alive dist.Law) dist.Law {
	if l.Relation != model.RunWrite && l.Op != "read" {
		if l.Relation.Asynchronous() {
			w.out.sent[l.ID] += alive.Mass * w.happens(l) * w.counted(l)
			w.goOn(l, w.happens(l))
		}
		return alive
	}
	if alive.Mass == 0 {
		return alive
	}
	takes := w.a.Node(l.To).Takes
	if l.Op == "read" {
		if takes.IsZero() {
			return alive
		}
		w.noteRandom(dist.Of(takes))
		of := func(w *walker) step { return &reads{dist.Of(takes), w.happens(l)} }
		return w.forEach(l, alive, of(w), of, w.fail)
	}
	own := w.writesOf(l)
	if own.why != "" && own.reject >= 1 && !l.Ignore {
		w.out.Why = own.why
	}
	if !own.simple() {
		w.noteRandom(own.takes)
	}
	return w.forEach(l, alive, own, func(mate *walker) step { return mate.writesOf(l) }, w.fail)
}

// writes are those of a link for one message.
type writes struct {
	link         *graph.Link
	share, count float64 // the chance that it is used, and how often it then is
	takes        dist.Law
	full         float64 // chance that the target rejects all tries, being full
	reject       float64 // chance that it rejects one try
	why          string  // why it certainly does
	tries        int
}

// writesOf returns the writes of a link for the message in hand.
func (w *walker) writesOf(l *graph.Link) *writes {
	x := &writes{
		link: l, share: w.happens(l), count: w.counted(l), tries: max(l.Policy.Tries, 1),
		takes: dist.Of(w.a.Node(l.To).Takes),
	}
	if x.reject, x.why = w.a.Rejection(l, w.at); x.why == "" {
		x.full = w.a.Rejected[l.To]
		w.out.guessed = w.out.guessed || x.full > 0
	}
	if l.Ignore && x.full > 0 { // at each try
		x.reject, x.full = 1-(1-x.reject)*(1-math.Pow(x.full, 1/float64(x.tries))), 0
	}
	if l.Refused {
		x.tries = 1
	}
	if w.fault.at(l.To) {
		x.reject = 1
	}
	return x
}

// simple reports whether the writes take no time and all stand that find room.
func (x *writes) simple() bool { return x.reject == 0 && x.takes.Tail(0) == 0 }

// take makes the writes for so many messages, one after the other.
func (x *writes) take(w *walker, alive dist.Law, messages float64, failed func(dist.Law, string)) dist.Law {
	l, count := x.link, x.count*messages
	if x.share == 0 || count == 0 || alive.Mass == 0 {
		return alive
	}
	share := x.share
	if x.full > 0 {
		passes := math.Pow(1-x.share*x.full, messages)
		failed(alive.Times(1-passes), "rejected")
		if alive = alive.Times(passes); alive.Mass == 0 {
			return alive
		}
		share *= (1 - x.full) / (1 - x.share*x.full) // of those that find room, or need none
	}
	if x.simple() {
		x.stand(w, alive.Mass*share*count, 0)
		w.goOn(l, share)
		return alive
	}
	skipped := alive.Times(1 - share)
	alive = x.offer(w, alive.Times(share), count, failed)
	if on := alive.Mass + skipped.Mass; on > 0 {
		w.goOn(l, alive.Mass/on)
	}
	return skipped.Or(alive)
}

// goOn notes the share of the runs that have made the writes of a link, of those that go on behind them.
func (w *walker) goOn(l *graph.Link, share float64) {
	if _, known := w.wrote[l.ID]; known || !w.n.Together { // the message's own writes come first
		return
	}
	if w.wrote == nil {
		w.wrote = map[int]float64{}
	}
	w.wrote[l.ID] = share
}

// offer makes so many writes in each run, one after the other, and returns the runs in which they stand.
func (x *writes) offer(w *walker, alive dist.Law, count float64, failed func(dist.Law, string)) dist.Law {
	l := x.link
	times := int(math.Ceil(count))
	switch {
	case times > manyTimes && x.reject == 0:
		x.stand(w, alive.Mass*count, 0)
		return w.cut(alive.Plus(dist.Constant(x.takes.Mean() * count)))
	case times > 64:
		return w.manyWrites(x, alive, count)
	}
	part := count / float64(times)
	for range times {
		left := alive
		done := dist.Law{}
		for k := 1; k <= x.tries && left.Mass > 1e-13; k++ {
			left = w.cut(w.sum(left, x.takes))
			done = done.Or(left.Times(1 - x.reject))
			left = left.Times(x.reject)
			if k < x.tries {
				left = w.cut(left.Plus(dist.Constant(float64(l.Policy.Backoff(k)) * 1e-9)))
			}
		}
		x.stand(w, done.Mass*part, left.Mass*part)
		if l.Ignore {
			done = done.Or(left)
		} else {
			failed(left, "rejected")
		}
		alive = done
	}
	return alive
}

// stand notes writes per run that the target accepts, and those that it rejects.
func (x *writes) stand(w *walker, accepted, rejected float64) {
	w.out.sent[x.link.ID] += accepted
	if !x.link.Ignore || rejected == 0 {
		return
	}
	if w.out.ignored == nil {
		w.out.ignored = map[int]float64{}
	}
	w.out.ignored[x.link.ID] += rejected
}

func (x *writes) weight() (fails, seconds float64) {
	seconds = x.share * x.count * x.takes.Mean() * x.takes.Mass
	if x.link.Ignore {
		return 0, seconds
	}
	stands := 1 - math.Pow(x.reject, float64(x.tries))
	return x.share * (1 - (1-x.full)*math.Pow(stands, x.count)), seconds
}

// reads are those of a link for one message.
type reads struct {
	takes dist.Law
	share float64 // the chance that it is used
}

func (x *reads) take(w *walker, alive dist.Law, messages float64, _ func(dist.Law, string)) dist.Law {
	if messages > 1 {
		return w.cut(alive.Plus(dist.Constant(x.takes.Mean() * x.share * messages)))
	}
	share := x.share * messages
	return alive.Times(1 - share).Or(w.cut(w.sum(alive.Times(share), x.takes)))
}

func (x *reads) weight() (fails, seconds float64) { return 0, x.share * x.takes.Mean() }

// manyWrites makes so many writes that they are taken as their mean.
func (w *walker) manyWrites(x *writes, alive dist.Law, count float64) dist.Law {
	p := math.Pow(x.reject, float64(x.tries)) // all tries of one are rejected
	stays := math.Pow(1-p, count)
	after := w.cut(alive.Plus(dist.Constant(x.takes.Mean() * count)))
	x.stand(w, after.Mass*count*(1-p), after.Mass*count*p)
	if x.link.Ignore {
		return after
	}
	w.fail(after.Times(1-stays), "rejected")
	return after.Times(stays)
}

// Rejection returns the chance that one try of a write over a link is rejected,
// and the reason where it certainly is.
func (a *Analysis) Rejection(l *graph.Link, at State) (float64, string) {
	target := a.Node(l.To)
	if l.Refused {
		return 1, "refused"
	}
	if a.tooLarge(l, at.Message) {
		return 1, "too-large"
	}
	return target.Fails.EachTry, ""
}

// rejectedAfter returns the chance that all of some tries of a write are rejected: a
// channel that is full rejects each of them.
func (a *Analysis) rejectedAfter(l *graph.Link, at State, tries float64) (float64, string) {
	p, why := a.Rejection(l, at)
	if why != "" {
		return 1, why
	}
	full := a.Rejected[l.To]
	return full + (1-full)*math.Pow(p, max(tries, 1)), ""
}

// tooLarge reports whether what a link makes of a message is over the platform's
// limit on payloads. What a bucket sends names an object, and does not hold it.
func (a *Analysis) tooLarge(l *graph.Link, m Message) bool {
	source := a.Node(l.From).Kind
	if source == model.Bucket || m.notice && !source.Runs() {
		return false
	}
	size := m.Size
	if l.Size >= 0 {
		size = l.Size
	}
	return a.overPayload(size, l.To)
}

// overPayload reports whether a message of a size, in bytes, is over the platform's limit where it is written to a
// node.
func (a *Analysis) overPayload(size int64, to int) bool {
	limit, k := a.Graph.Topology.Limits.Payload, a.Node(to).Kind
	return limit > 0 && size > limit && k.Channel() && !k.Keeps()
}

// request works out a request at an endpoint.
func (a *Analysis) request(s int, m Mode) *RunOutcome {
	w := a.newWalker(s, m)
	n, at := w.n, w.at
	w.limit = n.Timeout.Seconds()
	alive := dist.Constant(0)
	if a.Payloads.Declines(n, at.Data) != nil {
		w.fail(alive, "not-accepted")
		w.out.Why = "accepts"
		return w.finish(dist.Law{})
	}
	w.noteRandom(dist.Of(n.Takes))
	alive = w.cut(w.sum(alive, dist.Of(n.Takes)))
	w.fail(alive.Times(n.Fails.EachTry), "failed")
	alive = alive.Times(1 - n.Fails.EachTry)
	for _, id := range n.Out { // accepted links come before the waiting one [EP-03]
		if l := a.Link(id); l.Relation == model.Write {
			alive = w.accepts(l, alive)
		}
	}
	for _, id := range n.Out {
		if l := a.Link(id); l.Relation == model.WaitingCall {
			alive = w.call(l, alive, nil)
		}
	}
	return w.finish(alive)
}

// accepts makes the write of a link of an endpoint, for the requests that it takes.
func (w *walker) accepts(l *graph.Link, alive dist.Law) dist.Law {
	share := 1.0
	switch w.a.FilterVerdict(l, w.at.Message) {
	case expr.Impossible:
		return alive
	case expr.Possible:
		if w.out.guessed = true; w.mode == Best {
			share = 0
		}
	}
	taken := w.cut(w.sum(alive.Times(share), dist.Of(w.a.Node(l.To).Takes)))
	reject, _ := w.a.rejectedAfter(l, w.at, 1)
	w.fail(taken.Times(reject), "rejected")
	return alive.Times(1 - share).Or(taken.Times(1 - reject))
}

// Fate is what becomes of a message at a state that runs, all tries together.
type Fate struct {
	Given  float64 // share that is given up: its tries are exhausted, or its time is
	runs   float64 // runs that are started
	doomed float64 // of a message that is never processed
	able   float64 // of one that it can process
	met    float64 // of one that fails where a call is made by chance
	works  float64 // runs that succeed, whether or not it counts
	sends  float64 // runs that come as far as their sends may: those of messages that it can process
	old    float64 // of given: turned away until it is too old
	aged   float64 // of given: too old when its next try would be due, by chance
	cause  string  // of the rest of what is given up
	first  float64 // runs that are started or end early, for `at: start`
	stated bool    // what is given up is so by stated `fails` shares alone
	late   float64 // chance of a try that its success comes too late to count
}

// PolicyOf returns the policy by which a message in a context is tried.
func (a *Analysis) PolicyOf(c Context) *graph.Policy {
	switch {
	case c.How == AsIntake:
		return &a.policies[c.policy]
	case c.How == AsPoll:
		return &a.Link(int(c.Link)).Policy
	}
	return &once
}

var once = graph.Policy{Tries: 1, Factor: 1}

// FateOf works out what becomes of a message at a state that runs.
func (a *Analysis) FateOf(s int, m Mode) Fate {
	at := a.States.All[s]
	o := a.Outcome(s, m)
	p := a.PolicyOf(at.Context)
	f := Fate{cause: "exhausted"}
	fails, never, final := o.Fails, o.never, o.final
	works := 1 - fails
	if a.overLimit(s) == expr.Certain && at.How != AsCall {
		return Fate{Given: 1, cause: "hop-limit"}
	}
	if at.How == AsPoll && p.GiveUp > 0 && int64(a.Node(a.Link(int(at.Link)).From).Delay) > p.GiveUp {
		return Fate{Given: 1, cause: "given-up"} // it is too old when it is first seen
	}
	tries, taken := math.Inf(1), 1.0 // taken: of the offers
	if p.Tries > 0 {
		tries = float64(p.Tries)
	}
	if at.How == AsPoll {
		never, fails, taken = a.whenRead(s, m, o, &f)
	}
	ends := min(o.endsTries(p), fails)
	retryable := fails - ends
	// Time limits the tries too.
	byAge, cause := a.triesInTime(at, p, o.Length.Mean(), o)
	if byAge <= tries {
		tries, f.cause = byAge, cause
	}
	tries = max(min(tries, 1e9), 1)
	before, pow := triesStarted(retryable, tries)
	// What fails retryably at the last try, or is not worth another, is given up.
	byChance := pow + ends*before
	if retryable >= 1 {
		byChance = 1
	}
	sure := tries // runs of a message of which every run fails
	if failing := failuresOf(o); a.agesMatter(at, p, failing) {
		some, all := a.triesByAge(p, failing, retryable), ages{runs: tries}
		if never > 0 {
			all = a.triesByAge(p, failing, 1)
		}
		before, byChance, sure = some.runs, some.aged+some.last+ends*some.runs, all.runs
		f.aged, f.cause = (1-never)*some.aged, "exhausted"
		if !final {
			f.aged += never * all.aged
		}
	}
	met := a.whenMet(o, retryable, ends, tries)
	sends := met.mixed(before, met.runs*(1-o.meets)) // runs that come as far as the sends
	before, byChance, f.met = met.mixed(before, met.runs), met.mixed(min(byChance, 1), met.given), met.runs
	f.Given = never + (1-never)*min(byChance, 1)
	f.runs = never*sure + (1-never)*before
	if final {
		if f.runs = never + (1-never)*before; never > (1-never)*min(byChance, 1) {
			f.cause = "exhausted"
		}
	}
	if tries >= 1e9 { // until its retention ends
		f.runs = before
	}
	f.doomed = f.runs
	if never > 0 {
		f.doomed = (f.runs - (1-never)*before) / never
	}
	f.able, f.works = before, (1-never)*sends*works
	f.sends = (1 - never) * sends
	f.stated = o.Late == 0 && f.late == 0 && o.Why == "" && never == 0 && met.of == 0 && taken == 1
	if f.Given < 1e-15 {
		f.Given = 0
	}
	if at.How == AsIntake {
		if old := a.tooOld(at, m); old > 0 {
			f.old, taken = old, 1-old
			f.Given, f.aged = old+(1-old)*f.Given, (1-old)*f.aged
		}
	}
	f.take(taken)
	return f
}

// metRuns are those of the messages that fail where a call is made by chance: their share, the runs of one, and the
// chance that it is given up.
type metRuns struct{ of, runs, given float64 }

// whenMet works them out, where others fail retryably, and by an error that ends the tries, with some chances.
func (a *Analysis) whenMet(o *RunOutcome, retryable, ends, tries float64) metRuns {
	if o.mayMeet == 0 {
		return metRuns{}
	}
	runs, left := triesStarted(retryable+(1-retryable-ends)*o.meets, tries)
	return metRuns{o.mayMeet, runs, min(left+ends*runs, 1)}
}

// mixed gives the mean over those messages and the others.
func (m metRuns) mixed(others, these float64) float64 { return (1-m.of)*others + m.of*these }

// take notes that only a share of the offers is taken.
func (f *Fate) take(share float64) {
	for _, n := range []*float64{&f.runs, &f.doomed, &f.met, &f.works, &f.sends} {
		*n *= share
	}
	f.first = f.runs
}

// triesStarted returns how many tries are started on average where each fails with a chance and
// there are so many at most, and the chance that all fail.
func triesStarted(fails, most float64) (started, all float64) {
	if all = math.Pow(fails, most); fails < 1 { // Σ fails^k
		return (1 - all) / (1 - fails), all
	}
	return most, all
}

// whenRead returns the chances that no run of a message ever succeeds and that one fails,
// with what the batch, the lease and the limit of runs do to it, and the share of the offers
// that are taken.
func (a *Analysis) whenRead(s int, m Mode, o *RunOutcome, f *Fate) (never, fails, taken float64) {
	at := a.States.All[s]
	l := a.Link(int(at.Link))
	never, fails = a.inBatches(s, m, o)
	if !a.Node(l.From).Kind.Leases() {
		return never, fails, 1
	}
	f.late = a.lateness(l, o, m)
	fails = 1 - (1-fails)*(1-f.late)
	taken = (1 - a.turnsReaderAway(at.Node, m)) * (1 - a.usedUp(l, m))
	return never, 1 - (1-fails)*taken, taken
}

// endsTries returns the share of runs that fail by an error after which there is no other try.
func (o *RunOutcome) endsTries(p *graph.Policy) float64 {
	share := 0.0
	for _, name := range SortedKeys(o.errors) {
		if slices.Contains(p.Except, name) {
			share += o.errors[name]
		}
	}
	return share
}

// usedUp returns the share of the tries of a message that are used up while the only reader of a queue fills its batch,
// and takes the message again whenever its lease ends.
func (a *Analysis) usedUp(l *graph.Link, m Mode) float64 {
	q, tries := a.Node(l.From), float64(l.Policy.Tries)
	if tries == 0 || a.ReadersOf(q) > 1 {
		return 0
	}
	waits, all, each, some := a.waitsToFill(l, m), 0.0, 0.0, 0.0
	for _, wait := range waits {
		if wait >= tries*q.Lease.Seconds() {
			all += 1 / float64(len(waits))
			continue
		}
		each += 1 + math.Floor(wait/q.Lease.Seconds()) // the tries of one run
		some++
	}
	used := math.Pow(all, 1/tries) // so that all tries are, for so many
	if some > 0 {
		used = max(used, 1-some/each)
	}
	return used
}

// lateness returns the chance that a run succeeds only after its queue has
// delivered the message again, so that the success does not count.
func (a *Analysis) lateness(l *graph.Link, o *RunOutcome, m Mode) float64 {
	q := a.Node(l.From)
	if o.success.Mass == 0 {
		return 0
	}
	late, waits := 0.0, a.waitsToFill(l, m) // a lease counts while the batch fills, too
	if a.ReadersOf(q) == 1 {
		return 0 // the only reader is the one whose run it is
	}
	for _, wait := range waits {
		late += o.success.Tail(max(q.Lease.Seconds()-wait, 0)-1e-9) / o.success.Mass / float64(len(waits))
	}
	if m == Best && late < 1 || m == Best && a.busyReaders(q) {
		return 0 // no reader is free to take it again
	}
	if late < 1e-13 {
		return 0
	}
	return late
}

// ReadersOf returns how many batches of a queue can be out at the same time.
func (a *Analysis) ReadersOf(q *graph.Node) int {
	readers := 0
	for _, id := range q.Out {
		readers += max(a.Link(id).Read.Parallel, 1)
	}
	return readers
}

// busyReaders reports whether all readers of a queue may be busy when a lease ends.
func (a *Analysis) busyReaders(q *graph.Node) bool { return true }

// triesInTime returns how many tries there is time for, and what ends them. In a queue what
// has no try left waits once more: where that is too long, it is given up, or
// expires.
func (a *Analysis) triesInTime(at State, p *graph.Policy, length float64, o *RunOutcome) (float64, string) {
	most, cause := math.Inf(1), ""
	gap := func(k int) float64 { return length + float64(p.Backoff(k))*1e-9 }
	limit := math.Inf(1)
	if p.GiveUp > 0 {
		limit, cause = float64(p.GiveUp)*1e-9, "given-up"
	}
	if at.How == AsPoll {
		q := a.Node(a.Link(int(at.Link)).From)
		left := q.Retention.Seconds() - q.Delay.Seconds()
		limit -= q.Delay.Seconds() + q.Takes.Expected() // its age counts from its write on
		if left < limit {
			limit, cause = left, "expired"
		}
		if q.Kind.Leases() && !p.WaitSet {
			lease := q.Lease.Seconds()
			gap = func(int) float64 { return max(lease, length) }
		}
	}
	if math.IsInf(limit, 1) {
		return most, cause
	}
	last := math.Inf(1) // the try after which it is given up for its age, or expires
	if at.How == AsPoll {
		l := a.Link(int(at.Link))
		if a.Node(l.From).Kind.Leases() && !l.Read.Reject {
			last = float64(p.Tries)
		}
	}
	t, final := 0.0, gap(100_000)
	for k := 1; k < 100_000; k++ {
		g := gap(k)
		if p.Tries > 0 && k >= p.Tries {
			if float64(k) == last && (t+g > limit || t+g == limit && cause == "expired") {
				return last, cause
			}
			return math.Inf(1), ""
		}
		if t+g > limit {
			return float64(k), cause
		}
		if g == final && g > 0 { // the gaps grow no more
			n := float64(k) + math.Floor((limit-t)/g)
			if p.Tries > 0 && n >= float64(p.Tries) && n != last {
				return math.Inf(1), ""
			}
			return n, cause
		}
		t += g
	}
	return most, cause
}

// overLimit judges whether a message at a state is over the hop limit of its
// function.
func (a *Analysis) overLimit(s int) reach {
	at := a.States.All[s]
	n := a.Node(at.Node)
	if n.Kind != model.Function || n.HopLimit == model.NoHopLimit {
		return expr.Impossible
	}
	if int(at.hops) > n.HopLimit {
		return expr.Certain
	}
	return expr.Impossible
}
