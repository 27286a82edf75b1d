package sim

import (
	"fmt"
)

// audit checks that every node's copies add up: came in = fates + under way.
func (e *engine) audit() error {
	under := make([]int64, len(e.nodes))
	rest := make([]int64, len(e.nodes))
	for i := uint32(1); i < e.copies.Count; i++ {
		c := e.copies.At(i)
		if c.journey == 0 || c.flags&(done|duplicate) != 0 {
			continue
		}
		if c.flags&atRest != 0 {
			rest[c.node]++
		} else {
			under[c.node]++
		}
	}
	for i := range e.nodes {
		n := &e.nodes[i]
		sum := under[i]
		for _, f := range n.fates {
			sum += f
		}
		if sum != n.copies {
			return fmt.Errorf(
				"the ledger of %s does not add up at %v: %d entered, %d are accounted for (a fault of the engine; please report the model)",
				n.name,
				e.instant(e.Now),
				n.copies,
				sum,
			)
		}
		if rest[i] != n.fates[Arrived]+n.fates[Parked] && n.kind.Leases() {
			return fmt.Errorf(
				"the messages at rest in %s do not add up: %d lie there, %d are counted (a fault of the engine)",
				n.name,
				rest[i],
				n.fates[Arrived]+n.fates[Parked],
			)
		}
		if err := e.auditLimits(n); err != nil {
			return err
		}
	}
	for name, p := range e.pools {
		if p.used < 0 || p.used > p.size {
			return fmt.Errorf("pool %s has %d of %d taken (a fault of the engine)", name, p.used, p.size)
		}
	}
	return nil
}

// auditLimits checks that a node keeps the limits that its model states: capacity,
// concurrency, leases, readers.
func (e *engine) auditLimits(n *node) error {
	fault := func(format string, args ...any) error {
		return fmt.Errorf(
			"%s at %v: %s (a fault of the engine; please report the model)",
			n.name,
			e.instant(e.Now),
			fmt.Sprintf(format, args...),
		)
	}
	if n.capacity > 0 && n.depth.Count > n.capacity {
		return fault("it holds %d messages and has room for %d", n.depth.Count, n.capacity)
	}
	if limit := n.concurrency; limit > 0 && !e.squeezed(n.id) && n.active.Count > limit {
		return fault("%d concurrent runs, at most %d", n.active.Count, limit)
	}
	q := n.queue
	if q == nil || q.feed != nil {
		return nil
	}
	for i, last := q.leases.head, int64(0); i != 0; i = e.copies.At(i).next {
		c := e.copies.At(i)
		due := e.inFlightOf(c).due
		if due < last || due < e.Now || due > e.Now+q.lease || c.flags&leased == 0 {
			return fault(
				"the lease of message %d ends at %v, after one that ends at %v",
				c.age,
				e.instant(due),
				e.instant(last),
			)
		}
		last = due
	}
	busy := map[uint32]int{}
	for b := range e.batches {
		if bt := &e.batches[b]; b > 0 && len(bt.entries) > 0 && bt.filling {
			busy[bt.reader]++
		}
	}
	for _, rl := range q.links {
		if rl.idles < 0 || rl.idles > len(rl.free) {
			return fault("%d of %d readers of %s are idle", rl.idles, len(rl.free), rl.link.Link.ID())
		}
		for k := range rl.idles {
			if r := rl.free[(rl.head+k)%len(rl.free)]; busy[rl.first+r] > 0 {
				return fault("reader %d of %s is idle and fills a batch", r, rl.link.Link.ID())
			}
		}
	}
	return nil
}

// squeezed reports whether an incident of the scenario changes a node's concurrency.
func (e *engine) squeezed(id int) bool {
	for k := range e.incidents {
		if e.incidents[k].spec.Concurrency != nil && e.incidents[k].hits(id) {
			return true
		}
	}
	return false
}
