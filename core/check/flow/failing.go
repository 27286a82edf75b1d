package flow

import (
	"math"

	"ironweir/core/graph"
)

// mostChecked bounds the faults, and the calls within calls, for which the length of a run is worked out one by one.
const mostChecked = 16

// overloaded is the utilisation from which readers surely fall behind.
const overloaded = 1.02

// lengthUnder returns the mean length of a run at a state, in seconds, while a node fails.
func (a *Analysis) lengthUnder(s, failing int) float64 {
	return a.outcomeUnder(s, failing).Length.Mean()
}

// outcomeUnder works out the run at a state while a node fails.
func (a *Analysis) outcomeUnder(s, failing int) *RunOutcome {
	return a.outcomeWithin(s, 0, &fault{failing, map[int]*RunOutcome{}})
}

// outcomeWithin does so for a run that lies within so many calls.
func (a *Analysis) outcomeWithin(s, depth int, f *fault) *RunOutcome {
	n := a.Node(a.States.All[s].Node)
	if depth > mostChecked || n.Kind.Answers() || !n.Kind.Runs() {
		return a.Outcome(s, Usual)
	}
	if o := f.known[s]; o != nil {
		return o
	}
	w := a.newWalker(s, Usual)
	w.fault, w.depth = f, depth
	f.known[s] = w.run(a.choiceOf(s, Usual))
	return f.known[s]
}

// fault is a node that fails, with the runs that have been worked out for it, by state: there may be many ways through
// waiting calls to one.
type fault struct {
	node  int
	known map[int]*RunOutcome
}

// at reports whether it is a node that fails; none does where there is no fault.
func (f *fault) at(node int) bool { return f != nil && f.node == node }

// lateBy returns those of some faults of a callee whose failures a run forgives by which the run, though it would go
// on, exceeds its timeout.
func (a *Analysis) lateBy(s int, faults faultSet) (late faultSet) {
	if a.Node(a.States.All[s].Node).Timeout == 0 || a.Outcome(s, Usual).Bad() > 0.99 {
		return late
	}
	list := faults.list()
	for _, f := range list[:min(len(list), mostChecked)] {
		if f < len(a.Graph.Nodes) && a.outcomeUnder(s, f).Bad() > 0.99 {
			late.add(f)
		}
	}
	return late
}

// whenFailing gives the answer of a callee while a node fails that it is, or calls.
func (w *walker) whenFailing(to int, o *RunOutcome) *RunOutcome {
	if w.fault == nil || !w.a.closure(to).has(w.fault.node) {
		return o
	}
	return w.a.outcomeWithin(to, w.depth+1, w.fault)
}

// byLength sorts faults by how long a run at a state takes while one of them lasts, in seconds; those of groups are
// taken to take as long as any.
func (a *Analysis) byLength(s int, faults faultSet) map[float64]faultSet {
	out := map[float64]faultSet{}
	longest := 0.0
	add := func(length float64, fault int) {
		set := out[length]
		set.add(fault)
		out[length] = set
	}
	list := faults.list()
	for _, f := range list[:min(len(list), mostChecked)] {
		if f < len(a.Graph.Nodes) {
			length := a.lengthUnder(s, f)
			longest = max(longest, length)
			add(length, f)
		}
	}
	for k, f := range list {
		if k >= mostChecked || f >= len(a.Graph.Nodes) {
			add(longest, f)
		}
	}
	return out
}

// slowedByRetries lists what is lost while a callee fails whose failures a run ignores: it takes longer, and its
// readers fall behind.
func (a *Analysis) slowedByRetries(s int, n *graph.Node, l *graph.Link, to int) {
	rate := a.LinkRates[l.ID]
	usual := a.runLength(to)
	if rate == 0 || usual == 0 {
		return
	}
	for _, e := range a.States.Leaving(to) {
		if e.Kind != Calls || !a.Link(e.Link).Forgiven() {
			continue
		}
		failing := a.States.All[e.To].Node
		length := a.lengthUnder(to, failing)
		busy := a.Readings[l.ID].Utilisation * length / usual
		if length <= usual {
			continue
		}
		never := false // full batches take longer than they may
		a.withBatch(l, float64(max(l.Read.UpTo, 1)), func() {
			never = a.outcomeUnder(to, failing).Bad() > 0.9 && a.Outcome(to, Usual).Bad() < 0.9
		})
		if busy < overloaded && !never {
			continue
		}
		d := a.fallsBehind(s, n, l, failing, busy)
		if never {
			if _, limit, ends := a.ReaderPatience(n, l, to); ends {
				d.cause, d.limit = "exhausted", limit
			}
			d.after = Moment{a.keptFor(n, l), 0, math.Inf(1)}
		}
		d.quiet = d.after.low >= day
		a.deliver(d)
		d.to, d.normal = graph.None, false
		a.fillsWhileFailing(d, n, l, 0, rate, busy)
	}
}

// keptFor returns how long a message may wait for the readers of a link, in seconds.
func (a *Analysis) keptFor(n *graph.Node, l *graph.Link) float64 {
	kept := n.Retention.Seconds()
	if age := float64(l.Policy.GiveUp) * 1e-9; age > 0 && age < kept {
		return age
	}
	return kept
}

// fallsBehind describes what grows too old in a channel whose readers have more to do than they can, while a node
// fails: busy times as much.
func (a *Analysis) fallsBehind(s int, n *graph.Node, l *graph.Link, failing int, busy float64) delivery {
	d := delivery{
		state: s, faults: a.faults.only(failing), to: graph.None, link: l.ID, node: n.ID, cause: "expired",
		limit: n.Name + " retention", behind: true,
	}
	kept := a.keptFor(n, l)
	if kept < n.Retention.Seconds() {
		d.cause, d.limit = "given-up", l.Link.ID()+" give-up"
		if dead := deadEdge(a.States.Leaving(s), l.ID); dead != nil {
			d.to, d.normal = dead.To, dead.Mean.High >= Negligible
		}
	}
	at := kept * busy / (busy - 1)
	d.after = Moment{at, 0.5 * at, math.Inf(1)}
	return d
}

// expiresWhileSlowed returns how long a share of the runs of a reader must fail until a message of its queue expires,
// in seconds; length is that of a run.
func (a *Analysis) expiresWhileSlowed(n *graph.Node, l *graph.Link, fails, length float64) float64 {
	first, rate := math.Inf(1), a.LinkRates[l.ID]
	for _, batch := range []float64{1, float64(max(l.Read.UpTo, 1))} {
		again := 1 - math.Pow(1-fails, batch)
		load := rate * a.fullRun(l, batch, length) / (float64(max(l.Read.Parallel, 1)) * batch)
		if again < 1 && load+again > 1 {
			first = min(first, firstToExpire(n.Retention.Seconds(), load, again, rate))
		}
	}
	return first
}

// firstToExpire returns how long a fault must last, in seconds, until a message of a queue expires that is kept for
// some seconds, while a share of the runs fails and no try is the last: load is what a try of each message would take
// of the time of its readers, rate the messages a second. They are always busy, so that each round through the
// backlog takes r = load + share times as long as the one before; of what came at u, (u/t)^b is there at t, with b =
// log(1/share)/log(r). The last round is the one after the fault, in which all of it is read.
func firstToExpire(kept, load, share, rate float64) float64 {
	r := load + share
	b := math.Log(1/share) / math.Log(r)
	old := func(t float64) float64 { // messages that are there at t and came before t-kept
		return rate * (t - kept) / (b + 1) * math.Pow(1-kept/t, b)
	}
	low, high := kept, 1000*kept
	for range 100 {
		if t := (low + high) / 2; old(t) < 1 {
			low = t
		} else {
			high = t
		}
	}
	return high / r
}
