package flow

import (
	"math"

	"ironweir/core/graph"
	"ironweir/core/model"
)

// floodedDeliveries lists what is lost behind a run that is tried again while something fails after it has sent: each
// try sends once more, for which the readers behind may have no time.
func (a *Analysis) floodedDeliveries(s int, n *graph.Node, edges []Edge) {
	at := a.States.All[s]
	rate, policy := a.stateRates[s], a.PolicyOf(at.Context)
	byLease := at.How == AsPoll && a.Node(a.Link(int(at.Link)).From).Kind.Leases()
	if rate == 0 || policy.Tries == 1 || at.How != AsIntake && !byLease {
		return
	}
	most := math.Inf(1)
	if policy.Tries > 0 {
		most = float64(policy.Tries)
	}
	var flooding []*Edge
	for k := range edges {
		if e := &edges[k]; a.mayFlood(e, rate*most) {
			flooding = append(flooding, e)
		}
	}
	if len(flooding) == 0 {
		return
	}
	for _, failing := range a.neededBy(n) {
		if o := a.outcomeUnder(s, failing); o.Bad() > 0.9 {
			for _, e := range flooding {
				a.flood(s, e, failing, o)
			}
		}
	}
	for _, e := range flooding {
		if e.Kind == StartSend { // which stands when the run fails by itself
			a.flood(s, e, n.ID, a.Outcome(s, Usual))
		}
	}
}

// mayFlood reports whether so many messages per second over an edge are more than the readers of the queue to which it
// leads can take.
func (a *Analysis) mayFlood(e *Edge, most float64) bool {
	if e.Kind != Sends && e.Kind != StartSend || e.Link == graph.None {
		return false
	}
	l, to := a.Link(e.Link), a.Node(a.States.All[e.To].Node)
	if l.Relation != model.RunWrite || l.When != model.OfRun || l.PerRun || !to.Kind.Leases() || a.Rates[to.ID] == 0 {
		return false
	}
	for _, id := range to.Out {
		if r := a.Readings[id]; r.Utilisation > 0 && r.Utilisation*(1+most/a.Rates[to.ID]) >= overloaded {
			return true
		}
	}
	return false
}

// neededBy lists the nodes that the runs of a node wait for or write to, whose failure fails them.
func (a *Analysis) neededBy(n *graph.Node) []int {
	var out []int
	seen := map[int]bool{}
	for _, id := range n.Out {
		l := a.Link(id)
		needed := l.Relation == model.WaitingCall || l.Relation == model.RunWrite && l.Op != "read"
		if needed && l.When == model.OfRun && !l.Forgiven() && !seen[l.To] {
			seen[l.To] = true
			out = append(out, l.To)
		}
	}
	return out
}

// flood lists what is lost behind an edge of a run that sends as its outcome says, and fails, while a node fails.
func (a *Analysis) flood(s int, e *Edge, failing int, o *RunOutcome) {
	at, n := a.States.All[s], a.Node(a.States.All[e.To].Node)
	sent := o.sent[e.Link]
	if failing == n.ID || sent == 0 {
		return
	}
	policy, length := a.PolicyOf(at.Context), o.Length.Mean()
	tries, _ := a.triesInTime(at, policy, length, o)
	if policy.Tries > 0 {
		tries = min(tries, float64(policy.Tries))
	}
	rate := a.stateRates[s]
	if at.How == AsPoll {
		if most := a.Readings[int(at.Link)].Most; most > 0 {
			tries = min(tries, most/rate)
		}
	}
	total := a.Rates[n.ID] + rate*(tries*sent-e.expected)
	if math.IsInf(total, 0) {
		return
	}
	for _, id := range n.Out {
		l := a.Link(id)
		busy := a.Readings[id].Utilisation * total / a.Rates[n.ID]
		if busy < overloaded {
			continue
		}
		d := a.fallsBehind(e.To, n, l, failing, busy)
		d.after.At = a.keptFor(n, l) / (busy - 1) // what has come until then is too much, even if nothing more comes
		d.after.low = 0.5 * d.after.At
		d.quiet = d.after.low >= day
		a.deliver(d)
		d.to, d.normal = graph.None, false
		a.fillsWhileFailing(d, n, l, 0, total, busy)
	}
}
