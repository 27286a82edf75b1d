package flow

import (
	"cmp"
	"math"
	"slices"
	"sort"

	"ironweir/core/check/internal/dist"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// A function or workflow that reads batches does for each message of a run what it does for one, one after the other
// [S-17], and fails for all of them where it fails for any. What the others of a batch are is known by their rates
// only.

// readsBatches reports whether a run at a state may be for several messages.
func (a *Analysis) readsBatches(at State) bool {
	if at.How != AsPoll {
		return false
	}
	l := a.Link(int(at.Link))
	return l.Read.UpTo > 1 && l.Relation == model.PolledRun
}

// batchOf returns the mean number of messages of a link's batch, 1 while no rate is
// known.
func (a *Analysis) batchOf(l *graph.Link) float64 {
	if a.States.batches == nil || a.States.batches[l.ID] == 0 {
		return 1
	}
	return a.States.batches[l.ID]
}

// messagesOf returns how many messages a run at a state is for: on average, one in the best case, and as many as it may
// read in the worst.
func (a *Analysis) messagesOf(at State, m Mode) float64 {
	if m == Best || !a.readsBatches(at) {
		return 1
	}
	l := a.Link(int(at.Link))
	if m == Worst {
		return float64(l.Read.UpTo)
	}
	if a.States.others == nil {
		return 1
	}
	return 1 + a.States.others[l.ID]
}

// batchFill is how many messages batches hold.
type batchFill struct {
	batch  float64 // on average
	others float64 // beside a message, on average: large batches hold more messages than small ones
}

// filling returns the fill of batches of at most so many messages that wait for more, so many on average by Poisson's
// law.
func filling(most, mean float64) batchFill {
	return batchFill{meanFill(most, mean), min(mean*(mean+2)/(mean+1), most-1)}
}

// gathering returns the fill of batches of at most so many messages that hold what came while the one before was
// worked on, so many on average by Poisson's law, or the next that comes: E[max(N, 1)] = m + exp(-m). busy is the
// chance that no other reader takes them.
func gathering(most, mean, busy float64) batchFill {
	batch := mean + math.Exp(-mean) // a batch holds what has come, or the one that comes next
	return batchFill{min(1+(batch-1)*busy, most), min(mean*mean/batch*busy, most-1)}
}

// waitsToFill returns how long the messages of a batch wait until it is full or its time is over, in seconds: on
// average those of a batch one after the other, in the best case not at all, and in the worst as long as they may.
func (a *Analysis) waitsToFill(l *graph.Link, m Mode) []float64 {
	within := l.Read.Within.Seconds()
	switch {
	case m == Best || within == 0 || l.Read.UpTo <= 1:
		return []float64{0}
	case m == Worst:
		return []float64{within}
	}
	most := min(int(math.Round(a.batchOf(l))), 64)
	if rate := a.LinkRates; rate != nil && rate[l.ID] > 0 {
		within = min(within, float64(l.Read.UpTo-1)/rate[l.ID])
	}
	out := make([]float64, most)
	for k := range out {
		out[k] = within * (1 - float64(k)/float64(most))
	}
	return out
}

// meanWaitToFill returns how long a message waits on average until its batch is full or the time for that is over, in
// seconds.
func (a *Analysis) meanWaitToFill(l *graph.Link) (mean float64) {
	waits := a.waitsToFill(l, Usual)
	for _, wait := range waits {
		mean += wait / float64(len(waits))
	}
	return mean
}

// EndsWhileFilling reports whether leases end while the batches of a reader fill.
func (a *Analysis) EndsWhileFilling(l *graph.Link) bool {
	q := a.Node(l.From)
	return q.Kind.Leases() && l.Read.UpTo > 1 && l.Read.Within >= q.Lease
}

// TooMany returns the least number of messages of a batch for which a run at a state takes longer than it may and
// fails, at least half of the time; 0: there is none up to as many as it may read.
func (a *Analysis) TooMany(s int) int {
	at := a.States.All[s]
	if !a.readsBatches(at) || !a.Outcome(s, Usual).batched || a.Outcome(s, Worst).Late < 0.5 {
		return 0
	}
	l := a.Link(int(at.Link))
	return 2 + sort.Search(l.Read.UpTo-2, func(k int) (late bool) {
		a.withBatch(l, float64(k+2), func() { late = a.Outcome(s, Usual).Late >= 0.5 })
		return late
	})
}

// FailsAbove reports whether runs at a state fail for some number of messages that it may read, and not for one: they
// exceed their timeout, or the lease of their messages while another reader takes those.
func (a *Analysis) FailsAbove(s int) (fails bool) {
	at := a.States.All[s]
	if a.TooMany(s) > 0 {
		return true
	}
	if !a.readsBatches(at) || !a.Outcome(s, Usual).batched || !a.Node(a.Link(int(at.Link)).From).Kind.Leases() {
		return false
	}
	l := a.Link(int(at.Link))
	a.withBatch(l, float64(l.Read.UpTo), func() { fails = a.lateness(l, a.Outcome(s, Usual), Usual) > 0.5 })
	return fails && a.lateness(l, a.Outcome(s, Usual), Usual) < 0.5
}

// mate is a state of which messages are read together with others, and the share of such messages.
type mate struct {
	state int
	share float64
}

// mostMates bounds the states of a reader that are distinguished in its batches.
const mostMates = 8

// matesOf lists the states that a reader brings messages to, those with the most messages first.
func (a *Analysis) matesOf(l *graph.Link) []mate {
	if list, ok := a.mates[l.ID]; ok {
		return list
	}
	var list []mate
	sum := 0.0
	for _, s := range a.States.Of[l.To] {
		if a.reads(l, int(s)) {
			rate := 0.0
			if a.stateRates != nil {
				rate = a.stateRates[s]
			}
			list = append(list, mate{int(s), rate})
			sum += rate
		}
	}
	slices.SortStableFunc(list, func(x, y mate) int { return cmp.Compare(y.share, x.share) })
	list = list[:min(len(list), mostMates)]
	for k := range list {
		if sum > 0 {
			list[k].share /= sum
		} else {
			list[k].share = 1 / float64(len(list))
		}
	}
	if a.mates == nil {
		a.mates = map[int][]mate{}
	}
	a.mates[l.ID] = list
	return list
}

// mates lists what the others of a batch may be.
func (w *walker) mates() []mate { return w.a.matesOf(w.a.Link(int(w.at.Link))) }

// step is what a run does by a link for one message.
type step interface {
	// take does it for so many messages in the runs that are alive, and returns those that go on.
	take(w *walker, alive dist.Law, messages float64, failed func(dist.Law, string)) dist.Law
	// weight returns the chance that it fails a run, and how long it takes, in seconds.
	weight() (fails, seconds float64)
}

// forEach takes a step for each message of a run: its own, then that which of gives for the others.
func (w *walker) forEach(
	l *graph.Link, alive dist.Law, own step, of func(mate *walker) step, failed func(dist.Law, string),
) dist.Law {
	batched := w.a.readsBatches(w.at) && !l.ByTask // tasks are gone through for each message as a whole
	if l.PerRun || !batched {
		visits := w.out.visits[l.ID]
		alive = own.take(w, alive, 1, failed)
		if batched && w.out.visits[l.ID] > visits { // a message has its part of them
			w.out.batched = true
			w.out.visits[l.ID] = visits + (w.out.visits[l.ID]-visits)/w.batch
		}
		return alive
	}
	others := w.stepsOfOthers(own, of)
	visits, sent, ignored, first := w.out.visits[l.ID], w.out.sent[l.ID], w.out.ignored[l.ID], alive.Mass
	alive = own.take(w, alive, 1, failed)
	visited, wrote, missed := w.out.visits[l.ID]-visits, w.out.sent[l.ID]-sent, w.out.ignored[l.ID]-ignored
	turns, mass := 1.0, first
	for rest := w.batch - 1; rest > 1e-9; {
		messages := min(rest, 1)
		if w.batch > manyTimes {
			messages = rest
		}
		turns, mass = turns+messages, mass+messages*alive.Mass
		alive = takeOthers(w, alive, others, messages, failed)
		rest -= messages
	}
	// Its own turn comes at any place among those of the others.
	if first > 0 {
		part := mass / turns / first
		w.out.visits[l.ID], w.out.sent[l.ID] = visits+visited*part, sent+wrote*part
		if missed > 0 {
			w.out.ignored[l.ID] = ignored + missed*part
		}
	}
	return alive
}

// otherStep is the step of another message, of a share of them.
type otherStep struct {
	step
	share float64
}

// stepsOfOthers returns what a run does for the others of a batch; in the worst case, what is worst.
func (w *walker) stepsOfOthers(own step, of func(mate *walker) step) []otherStep {
	mates := w.mates()
	var out []otherStep
	for _, x := range mates {
		s := own
		if x.state != w.state {
			for _, e := range w.a.States.Leaving(x.state) {
				if e.Kind == Calls {
					w.a.Outcome(e.To, w.mode) // which a walk finds worked out
				}
			}
			other := w.a.newWalker(x.state, w.mode)
			other.limit = w.limit
			s = of(other)
			w.out.guessed = w.out.guessed || other.out.guessed
			w.out.away = w.out.away || other.out.away
		}
		fails, seconds := s.weight()
		w.out.batched = w.out.batched || fails > 0 || seconds > 0
		out = append(out, otherStep{s, x.share})
	}
	if w.mode != Worst {
		return out
	}
	worst := slices.MaxFunc(append(out, otherStep{own, 1}), func(x, y otherStep) int {
		xFails, xSeconds := x.weight()
		yFails, ySeconds := y.weight()
		return cmp.Or(cmp.Compare(xFails, yFails), cmp.Compare(xSeconds, ySeconds))
	})
	return []otherStep{{worst.step, 1}}
}

// takeOthers takes the steps of so many other messages, at most one unless they are many.
func takeOthers(
	w *walker, alive dist.Law, others []otherStep, messages float64, failed func(dist.Law, string),
) dist.Law {
	if messages > 1 {
		for _, x := range others {
			alive = x.take(w, alive, messages*x.share, failed)
		}
		return alive
	}
	left := alive.Mass
	next := alive.Times(1 - messages)
	for _, x := range others {
		next = next.Or(x.take(w, alive.Times(messages*x.share), 1, failed))
		left -= alive.Mass * messages * x.share
	}
	if rest := left - alive.Mass*(1-messages); rest > 1e-12 { // of states that are not distinguished
		next = next.Or(alive.Times(rest / alive.Mass))
	}
	return next
}

// others are what the other messages of a batch do to a run by what they are.
type others struct {
	sure   float64 // chance that one of them fails every run
	chance float64 // that one of them is of a case in which runs fail by chance, and this one does
	slow   float64 // that one of them is of a case with a time of its own
	takes  []timed // such times, by share
}

type timed struct {
	takes model.Distribution
	share float64
}

// othersOf works out what the others of a batch do to a run under a choice for its own message.
func (w *walker) othersOf(own *choice) (of others) {
	if w.batch <= 1 || len(w.n.Cases) == 0 && w.n.Accepts == nil {
		return of
	}
	sure, failing, fails, slow := 0.0, 0.0, 0.0, 0.0
	add := func(to *float64, share float64) {
		if *to += share; w.mode == Worst {
			*to = 1
		}
	}
	ownFails := own.ofCase && w.n.Cases[own.of].Fails != nil
	ownTakes := own.ofCase && w.n.Cases[own.of].Takes != nil
	for _, x := range w.mates() {
		c := w.a.choiceOf(x.state, w.mode)
		var case_ *graph.Case
		if c.ofCase {
			case_ = &w.n.Cases[c.of]
		}
		switch {
		case c.declined != "", case_ != nil && case_.Fails != nil && c.fails.EachTry >= 1:
			add(&sure, x.share)
		case case_ != nil && case_.Fails != nil && !ownFails && c.fails.EachTry > 0:
			add(&failing, x.share)
			fails = max(fails, c.fails.EachTry)
		}
		if case_ != nil && case_.Takes != nil && (!ownTakes || c.of < own.of) {
			slow += x.share
			of.takes = append(of.takes, timed{c.takes, x.share})
		}
	}
	any := func(share float64) float64 { return 1 - math.Pow(1-min(share, 1), w.batch-1) }
	of.sure, of.chance = any(sure), any(failing)*fails
	if of.slow = any(slow); w.mode == Worst && slow > 0 {
		of.slow = 1
		longest := slices.MaxFunc(of.takes, func(x, y timed) int {
			return cmp.Compare(x.takes.Largest(), y.takes.Largest())
		})
		of.takes = []timed{{longest.takes, slow}} // all of them
	}
	for k := range of.takes {
		of.takes[k].share /= slow
	}
	w.out.batched = w.out.batched || sure > 0 || failing > 0 || slow > 0
	return of
}

// choiceOf returns what holds for the messages at a state: what probably does, or in the worst case what fails most.
func (a *Analysis) choiceOf(s int, m Mode) *choice {
	list, _ := a.caseChoices(a.States.All[s])
	if m != Worst {
		return &list[0]
	}
	worst := &list[0]
	for k := range list {
		if c := &list[k]; c.declined == worst.declined && c.fails.EachTry > worst.fails.EachTry ||
			c.declined > worst.declined {
			worst = c
		}
	}
	return worst
}

// spendWith adds the time of a run under a choice, which the others of its batch may make another.
func (w *walker) spendWith(of *others, alive dist.Law, takes model.Distribution) dist.Law {
	if of.slow == 0 {
		return w.spend(alive, takes)
	}
	next := w.spend(alive.Times(1-of.slow), takes)
	for _, x := range of.takes {
		next = next.Or(w.spend(alive.Times(of.slow*x.share), x.takes))
	}
	return next
}

// inBatches adds the failures of the others of a batch to those of a message that is read with them, where a run fails
// for any of them or all of them are returned together.
func (a *Analysis) inBatches(s int, m Mode, o *RunOutcome) (never, fails float64) {
	at := a.States.All[s]
	never, fails = o.never, o.Fails
	if !a.readsBatches(at) {
		return never, fails
	}
	l := a.Link(int(at.Link))
	perMessage, others := a.Node(at.Node).Fails.PerMessage, a.messagesOf(at, m)-1
	if perMessage && l.Read.Failed != "all" || !perMessage && l.Read.Failed == "halve" || others <= 0 {
		return never, fails
	}
	doomed, failing := 0.0, 0.0 // shares of the others
	for _, x := range a.matesOf(l) {
		of := o
		if x.state != s {
			of = a.Outcome(x.state, m)
		}
		if m == Worst {
			doomed, failing = max(doomed, of.never), max(failing, of.stated)
		} else {
			doomed, failing = doomed+x.share*of.never, failing+x.share*of.stated
		}
	}
	never = 1 - (1-never)*math.Pow(1-doomed, others)*(1-o.spoiled)
	if perMessage {
		fails = 1 - (1-fails)*math.Pow(1-failing, others)
	}
	return never, fails
}
