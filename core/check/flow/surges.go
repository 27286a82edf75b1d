package flow

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"ironweir/core/graph"
)

// surge is what a fault sends to a queue, a stream or a change feed beside its usual
// messages, and what is lost there since it is too much.
type surge struct {
	delivery
	first Moment // how long the fault lasts when the first message takes the other way
}

// surgeWork bounds what is looked at, in a large model: pairs of a fault and a state that
// is reached when it makes deliveries fail.
const surgeWork = 400_000

// redirection is what takes another way under a fault: messages per second, after how
// long.
type redirection struct {
	rate  float64
	after Moment
}

// arrival is where redirected messages wait for a reader.
type arrival struct {
	state, node int
	link        int      // that reads; None: nothing does
	share       float64  // tries for each message that was redirected; without a reader, messages
	messages    float64  // messages that come, for each that was redirected
	most        float64  // of the same, what may come in the worst case, as when batches are full
	needs       faultSet // faults by which it does not come so far
	reads       faultSet // faults by which it is not read there
	to          int      // the state of the runs that read it, or that it is moved to; None: nothing does
}

// findSurges finds the readers that fall behind, and the queues that fill up, while a
// fault sends them what usually goes another way: a dead-letter queue gets every message,
// not one in a thousand.
func (a *Analysis) findSurges() {
	redirected, work := a.redirections()
	type target struct{ node, link, fault int }
	all := map[target]*surgeLoad{}
	add := func(x *arrival, link, f int, r redirection) {
		at := target{x.node, link, f}
		if all[at] == nil {
			all[at] = &surgeLoad{redirection: redirection{after: r.after}}
		}
		all[at].add(x.state, r)
	}
	for _, to := range slices.Sorted(maps.Keys(redirected)) {
		reached := a.carried(to)
		if work += len(reached) * len(redirected[to]); work > surgeWork {
			break
		}
		for _, x := range reached {
			held := sync.OnceValue(func() blocked { return a.blockedAt(x) })
			for f, r := range redirected[to] {
				if x.needs.has(f) {
					continue
				}
				switch {
				case x.reads.has(f): // they pile up there
					came := redirection{r.rate * x.messages, r.after}
					add(&x, graph.None, f, came)
					a.surgeBlocked(x, held(), f, came)
					for _, y := range held().onward { // and go on when they are given up there, too
						if !y.needs.has(f) && !y.reads.has(f) {
							add(&y, y.link, f, redirection{came.rate * y.share, came.after.plus(held().patience)})
						}
					}
				case x.link == graph.None || a.Readings[x.link].Most > 0:
					add(&x, x.link, f, redirection{r.rate * x.share, r.after})
				}
			}
		}
	}
	order := func(x, y target) int {
		return cmp.Or(cmp.Compare(x.node, y.node), cmp.Compare(x.link, y.link), cmp.Compare(x.fault, y.fault))
	}
	for _, at := range slices.SortedFunc(maps.Keys(all), order) {
		a.surgeAt(at.node, at.link, at.fault, all[at])
	}
}

// findCatchUps finds the readers that fall behind, and the queues that fill up, when a
// fault is over and all that it held up comes at once.
func (a *Analysis) findCatchUps() {
	a.surges = map[int][]surge{}
	var reached []arrival // from one state, of which there may be several deliveries in a row
	var intakes []walk
	from := graph.None
	for k := range min(len(a.faults.deliveries), surgeWork/24) {
		d := a.faults.deliveries[k]
		if d.link == graph.None || d.behind || a.Boundless[d.node] {
			continue
		}
		if d.cause == "given-up" && d.to != graph.None && d.faults.within(a.faults.unread[d.link]) {
			for _, x := range a.carried(d.to) { // once it is read again, all that is too old goes there at once
				a.catchUpAt(k, 0, x)
			}
			continue
		}
		if d.cause != "expired" || d.to != graph.None {
			continue
		}
		if d.state != from {
			ways := a.walkOn(d.state)
			from, reached, intakes = d.state, a.waitingAlong(ways), a.crowded(ways)
		}
		for _, x := range intakes {
			a.crowdAt(k, x)
		}
		held := a.Readings[d.link]
		for _, x := range reached {
			if x.node != d.node {
				a.catchUpAt(k, held.Most/max(held.each, 1), x)
			}
		}
	}
}

// crowded lists those of some states that are intakes with few runs and no dead-letter node.
func (a *Analysis) crowded(ways []walk) []walk {
	return slices.DeleteFunc(ways, func(x walk) bool {
		at := a.States.All[x.state]
		n := a.Node(at.Node)
		if at.How != AsIntake || n.Concurrency == 0 || a.PolicyOf(at.Context).GiveUp == 0 {
			return true
		}
		return slices.ContainsFunc(a.States.Leaving(x.state), func(e Edge) bool { return e.Kind == GaveUp })
	})
}

// crowdAt notes that what a delivery held up may be lost earlier, when it comes to an intake at once: what finds no
// free run is offered again after a wait [AI-03], all of it at about the same time, so that in the worst case no more
// messages are taken each time than there are runs.
func (a *Analysis) crowdAt(held int, x walk) {
	d := &a.faults.deliveries[held]
	at := a.States.All[x.state]
	p, rate := a.PolicyOf(at.Context), a.stateRates[d.state]*x.most
	if rate <= 0 {
		return
	}
	offers, waited := 1, int64(0)
	for offers < 1e6 {
		if waited += p.Backoff(offers); waited > p.GiveUp {
			break
		}
		offers++
	}
	d.after.low = min(d.after.low, float64(offers*a.Node(at.Node).Concurrency)/rate)
}

// catchUpAt notes what is lost where what a delivery held up waits for a reader. Of a fault
// that lasts for T, rate·T messages come as fast as the reader that was held up takes them,
// at most per second (0: at once), while others go on coming there; they have all come after
// rate·T/(most−rate), when those that the next reader could not take meanwhile are in front
// of it.
func (a *Analysis) catchUpAt(held int, most float64, x arrival) {
	d := a.faults.deliveries[held] // as it is before others are added
	if a.Boundless[x.node] || a.stateRates[d.state] <= 0 {
		return
	}
	n, next := a.Node(x.node), Reading{}
	if x.link != graph.None {
		if next = a.Readings[x.link]; next.Most == 0 {
			return
		}
	}
	each := max(next.each, 1) // tries of the next reader for each message that comes to it
	// piled returns the tries in front of the next reader for each second of the fault.
	piled := func(messages float64) float64 {
		rate := a.stateRates[d.state] * messages * each
		if most == 0 {
			return rate
		}
		coming := most * messages * each
		if coming <= max(next.Most, rate) {
			return 0
		}
		return rate * (coming - next.Most) / (coming - rate)
	}
	note := func(cause, limit string, room float64) { // in tries
		after := Moment{room / piled(x.messages), 0.5 * room / piled(x.most), math.Inf(1)}
		if d.to != graph.None { // nothing goes there before
			after.At, after.low = max(after.At, d.after.At), max(after.low, d.after.low)
		} else if after.low >= d.after.low {
			return
		} else if after.At >= d.after.At { // by then something is lost before; and perhaps here before
			a.faults.deliveries[held].after.low = min(a.faults.deliveries[held].after.low, after.low)
			return
		}
		if dead := a.deadOf(x); cause == "given-up" && dead != graph.None {
			more := d
			more.state, more.link, more.node, more.cause, more.limit = x.state, x.link, x.node, cause, limit
			more.to, more.after, more.quiet = dead, after, true
			a.deliver(more)
			return
		}
		place := a.placeID(Place{Cause: cause, Node: x.node, Link: x.link, CatchUp: true})
		if d.to == graph.None {
			a.Places[place].Load = max(a.Places[place].Load, d.after.At/after.At)
		}
		lost := surge{delivery: a.lostAtPlace(d.state, place, limit, after)}
		lost.faults, lost.members, lost.others = d.faults, d.faults.list(), d.others
		lost.quiet = lost.quiet || cause == "overflow" || d.to != graph.None
		a.surges[d.state] = append(a.surges[d.state], lost)
	}
	if n.Kind.Leases() && n.Capacity > 0 {
		a.stockWhileCatchingUp(held, most, x)
		note("overflow", n.Name+" capacity", max(float64(n.Capacity)-a.stockOf(n.ID), 0)*each)
	}
	if x.link == graph.None {
		return
	}
	room, cause, limit := keptFor(n, a.Link(x.link))
	note(cause, limit, room*next.Most)
}

// stockWhileCatchingUp notes that a queue of limited capacity may be full earlier: as many more messages as come each
// second while a reader before it catches up, as many more lie in it, those that wait for another try included. Of full
// batches all come back where one message fails.
func (a *Analysis) stockWhileCatchingUp(held int, most float64, x arrival) {
	d, n := &a.faults.deliveries[held], a.Node(x.node)
	usual := 0.0
	for _, s := range a.States.Of[x.node] {
		usual += a.stateRates[s]
	}
	if usual == 0 || most == 0 {
		return
	}
	stock, batch := a.stockOf(x.node), 1
	if x.link != graph.None {
		batch = max(a.Link(x.link).Read.UpTo, 1)
	}
	if room := float64(n.Capacity) - stock; most*x.most*stock/usual*float64(batch) > room/2 {
		d.after.low = min(d.after.low, max(room, 0)/(a.stateRates[d.state]*x.most))
	}
}

// keptFor returns how long a message may wait for a reader once it is visible, in seconds,
// what becomes of it then, and the field that says so.
func keptFor(n *graph.Node, l *graph.Link) (room float64, cause, limit string) {
	kept, cause, limit := n.Retention, "expired", n.Name+" retention"
	if l.Policy.GiveUp > 0 && l.Policy.GiveUp < int64(kept) {
		kept, cause, limit = time.Duration(l.Policy.GiveUp), "given-up", l.Link.ID()+" give-up"
	}
	return (kept - n.Delay).Seconds(), cause, limit
}

// deadOf returns the state to which what a reader gives up goes; None: it is lost.
func (a *Analysis) deadOf(x arrival) int {
	for _, e := range a.States.Leaving(x.state) {
		if e.Kind == GaveUp && e.Link == x.link {
			return e.To
		}
	}
	return graph.None
}

// redirections returns what takes another way, by the state that it goes to and by the
// fault that makes it, and how many pairs of a fault and a delivery were looked at.
func (a *Analysis) redirections() (redirected map[int]map[int]redirection, work int) {
	redirected = map[int]map[int]redirection{}
	counted := map[[3]int]bool{} // messages of a state that go to another under a fault, by whichever delivery
	for k := range a.faults.deliveries {
		d := &a.faults.deliveries[k]
		if d.to == graph.None || a.grows[d.state] {
			continue
		}
		rate := a.stateRates[d.state] * (d.part() - a.usually(d))
		if work += len(d.members); rate <= 0 || work > surgeWork {
			continue
		}
		if redirected[d.to] == nil {
			redirected[d.to] = map[int]redirection{}
		}
		for _, f := range d.members {
			key := [3]int{d.state, d.to, f}
			if counted[key] {
				continue
			}
			counted[key] = true
			r, known := redirected[d.to][f]
			if !known || d.after.At < r.after.At {
				r.after = d.after
			}
			r.rate += rate
			redirected[d.to][f] = r
		}
	}
	return redirected, work
}

// surgeLoad is what a fault redirects to a reader, or to a node that nothing reads.
type surgeLoad struct {
	redirection
	states []int
}

func (l *surgeLoad) add(state int, r redirection) {
	if !slices.Contains(l.states, state) {
		l.states = append(l.states, state)
	}
	l.rate += r.rate
	if r.after.At < l.after.At {
		l.after = r.after
	}
}

// usually returns the share of the messages that a delivery redirects without a fault.
func (a *Analysis) usually(d *delivery) float64 {
	share := 0.0
	for _, e := range a.States.Leaving(d.state) {
		if e.To == d.to && e.Link == d.link {
			share += e.expected
		}
	}
	return min(share, 1)
}

// carried returns where messages redirected to a state wait for readers, a few of the
// places.
func (a *Analysis) carried(to int) []arrival { return a.waitingAlong(a.walkOn(to)) }

// waitingAlong returns where messages that come to some states wait for readers.
func (a *Analysis) waitingAlong(ways []walk) []arrival {
	var out []arrival
	for _, at := range ways {
		if a.Node(a.States.All[at.state].Node).Kind.Polled() {
			out = append(out, a.waiting(at.state, at.share, at.most, at.needs)...)
		}
	}
	return out
}

// walk is a state that redirected messages come to: so many for each, what may be so many in the worst case, and the
// faults by which they do not come so far.
type walk struct {
	state       int
	share, most float64
	needs       faultSet
}

// walkOn lists the states that messages redirected to one come to, a few of them.
func (a *Analysis) walkOn(to int) []walk {
	work := append(make([]walk, 0, 8), walk{to, 1, 1, nil})
	for k := 0; k < len(work) && k < 24; k++ {
		at := work[k]
		n := a.Node(a.States.All[at.state].Node)
		for _, e := range a.States.Leaving(at.state) {
			share := at.share * e.expected
			seen := slices.ContainsFunc(work, func(w walk) bool { return w.state == e.To })
			if !e.copies() || share < Negligible || seen {
				continue
			}
			needs, target := at.needs, a.Node(a.States.All[e.To].Node)
			switch {
			case n.Kind.Runs():
				needs.merge(a.closure(at.state))
			case target.Kind.Runs():
				needs.merge(a.closure(e.To))
			}
			if target.Kind.Channel() {
				a.faults.addNode(&needs, target.ID)
			}
			work = append(work, walk{e.To, share, at.most * max(e.expected, e.Mean.High), needs})
		}
	}
	return work[:min(len(work), 24)]
}

// waiting returns the readers that messages at a state wait for.
func (a *Analysis) waiting(s int, share, most float64, needs faultSet) []arrival {
	var out []arrival
	node := a.States.All[s].Node
	for _, e := range a.States.Leaving(s) {
		taken := max(e.expected, e.taken)
		if e.Kind != Polls || taken == 0 {
			continue
		}
		r, ok := a.Readings[e.Link]
		if !ok {
			continue
		}
		reads := a.closure(e.To)
		if target := a.Node(a.States.All[e.To].Node); target.Kind.Channel() {
			reads = slices.Clone(reads)
			a.faults.addNode(&reads, target.ID)
		}
		out = append(out, arrival{
			state:    s,
			node:     node,
			link:     e.Link,
			share:    share * taken * max(r.each, 1),
			messages: share * taken,
			most:     most * max(taken, e.Mean.High),
			needs:    needs,
			reads:    reads,
			to:       e.To,
		})
	}
	if n := a.Node(node); len(n.Out) == 0 || n.Delay >= n.Retention {
		out = append(out, arrival{
			state: s, node: node, link: graph.None, share: share, messages: share, most: most, needs: needs,
			to: graph.None,
		})
	}
	return out
}

// surgeAt notes what is lost while a fault redirects messages to a node, for a link that
// reads there or for none. The reader works as usual: the last message of a fault that
// lasts for T waits for (busy−1)·T behind those before it, and is lost where that exceeds
// what it is kept for.
func (a *Analysis) surgeAt(node, link, fault int, load *surgeLoad) {
	n := a.Node(node)
	switch {
	case a.Boundless[node]:
	case link != graph.None:
		reading := a.Readings[link]
		a.surgeFills(n, link, fault, load, reading)
		room, cause, limit := keptFor(n, a.Link(link))
		if cause == "given-up" && a.Link(link).DeadLetter != graph.None {
			return
		}
		alone := load.rate / reading.Most
		busy := alone + reading.Utilisation
		if busy <= 1.05 || reading.Utilisation > 1 {
			return
		}
		after := Moment{room / (busy - 1), 0.35 * room / (busy - 1), math.Inf(1)}
		if alone > 1.05 { // however few come as usual
			after.high = 1.3 * room / (alone - 1)
		}
		at := a.placeID(Place{Cause: cause, Node: node, Link: link, Surge: true})
		a.Places[at].Load = max(a.Places[at].Load, busy)
		a.noteSurge(at, fault, load, limit, after)
	case n.Kind.Leases() && n.Capacity > 0:
		room := max(float64(n.Capacity)-a.stockOf(node), 0)
		if load.rate*n.Retention.Seconds() > room {
			full := room / load.rate
			at := a.placeOf("overflow", node, graph.None)
			a.noteSurge(at, fault, load, n.Name+" capacity", Moment{full, 0.8 * full, math.Inf(1)})
		}
	}
}

// blocked is what becomes of messages whose reader fails: how long it tries each, whether it
// gives them up before their retention ends, and where they wait then.
type blocked struct {
	patience Moment
	ends     bool
	onward   []arrival
}

func (a *Analysis) blockedAt(x arrival) blocked {
	var b blocked
	b.patience, _, b.ends = a.ReaderPatience(a.Node(x.node), a.Link(x.link), x.to)
	dead := a.deadOf(x)
	if !b.ends || dead == graph.None {
		return b
	}
	for _, y := range a.carried(dead) {
		if y.link == graph.None || a.Readings[y.link].Most > 0 {
			b.onward = append(b.onward, y)
		}
	}
	return b
}

// surgeFills notes what a queue of limited capacity rejects while a fault redirects messages
// to it that its reader is to take.
func (a *Analysis) surgeFills(n *graph.Node, link, fault int, load *surgeLoad, reading Reading) {
	if !n.Kind.Leases() || n.Capacity == 0 {
		return
	}
	messages := load.rate / max(reading.each, 1)
	room := max(float64(n.Capacity)-a.stockOf(n.ID), 0)
	behind := load.rate/reading.Most + reading.Utilisation - 1 // its share that the reader does not take in time
	if messages*n.Delay.Seconds() <= room && behind <= 0.05 {
		return
	}
	full := room / messages
	if messages*n.Delay.Seconds() <= room {
		full = room / (messages * min(behind, 1))
	}
	at := a.placeOf("overflow", n.ID, graph.None)
	a.noteSurge(at, fault, load, n.Name+" capacity", Moment{full, 0.5 * full, math.Inf(1)})
}

// surgeBlocked notes what expires while a fault redirects messages to a node whose reader
// fails by the same fault: it tries each for long before it gives it up.
func (a *Analysis) surgeBlocked(x arrival, held blocked, fault int, r redirection) {
	n, l := a.Node(x.node), a.Link(x.link)
	if !held.ends || a.Boundless[x.node] || n.Grouped {
		return
	}
	usual, _ := a.failingRun(l, x.to)
	each, inHand := a.whileFailing(n, l, usual, held.patience.At)
	room, cause, limit := keptFor(n, l)
	busy := (r.rate + a.LinkRates[l.ID]) * each / inHand
	if busy <= overloaded || cause == "given-up" {
		return
	}
	at := a.placeID(Place{Cause: cause, Node: x.node, Link: x.link, Surge: true})
	a.Places[at].Load = max(a.Places[at].Load, busy)
	after := Moment{room * busy / (busy - 1), 0.5 * room, math.Inf(1)}
	a.noteSurge(at, fault, &surgeLoad{redirection: r, states: []int{x.state}}, limit, after)
}

func (a *Analysis) noteSurge(at int32, fault int, load *surgeLoad, limit string, after Moment) {
	for _, s := range load.states {
		list := a.surges[s]
		same := slices.IndexFunc(list, func(old surge) bool {
			return old.place == at && old.after == after && old.first == load.after
		})
		if same < 0 {
			list, same = append(list, surge{first: load.after, delivery: a.lostAtPlace(s, at, limit, after)}), len(list)
		}
		list[same].faults.add(fault)
		list[same].members = append(list[same].members, fault)
		a.surges[s] = list
	}
}

// lostAtPlace describes what is lost at a place of the messages of a state, whose faults are
// still to be filled in.
func (a *Analysis) lostAtPlace(state int, at int32, limit string, after Moment) delivery {
	p := &a.Places[at].Place
	return delivery{
		state: state,
		link:  p.Link,
		node:  p.Node,
		cause: p.Cause,
		after: after,
		limit: limit,
		place: at,
		quiet: after.low >= day,
	}
}
