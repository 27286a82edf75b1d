package engine

import (
	"fmt"
)

// Audit checks that every node's copies add up: entered = fates + in flight.
func (e *Engine) Audit() error {
	under := make([]int64, len(e.Nodes))
	rest := make([]int64, len(e.Nodes))
	for i := uint32(1); i < e.Copies.Count; i++ {
		c := e.Copies.At(i)
		if c.Journey == 0 || c.Flags&(Done|Duplicate) != 0 {
			continue
		}
		if c.Flags&AtRest != 0 {
			rest[c.Node]++
		} else {
			under[c.Node]++
		}
	}
	for i := range e.Nodes {
		n := &e.Nodes[i]
		sum := under[i]
		for _, f := range n.Fates {
			sum += f
		}
		if sum != n.Copies {
			return fmt.Errorf(
				"the ledger of %s does not add up at %v: %d entered, %d are accounted for (a fault of the engine; please report the model)",
				n.Name,
				e.Instant(e.Now),
				n.Copies,
				sum,
			)
		}
		if rest[i] != n.Fates[Arrived]+n.Fates[Parked] && n.Kind.Leases() {
			return fmt.Errorf(
				"the messages at rest in %s do not add up: %d lie there, %d are counted (a fault of the engine)",
				n.Name,
				rest[i],
				n.Fates[Arrived]+n.Fates[Parked],
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
func (e *Engine) auditLimits(n *Node) error {
	fault := func(format string, args ...any) error {
		return fmt.Errorf(
			"%s at %v: %s (a fault of the engine; please report the model)",
			n.Name,
			e.Instant(e.Now),
			fmt.Sprintf(format, args...),
		)
	}
	if n.capacity > 0 && n.Depth.Count > n.capacity {
		return fault("it holds %d messages and has room for %d", n.Depth.Count, n.capacity)
	}
	if limit := n.concurrency; limit > 0 && !e.Incidents.Squeezes(n.ID) && n.Active.Count > limit {
		return fault("%d concurrent runs, at most %d", n.Active.Count, limit)
	}
	q := n.Queue
	if q == nil || q.Feed != nil {
		return nil
	}
	for i, last := q.leases.Head, int64(0); i != 0; i = e.Copies.At(i).next {
		c := e.Copies.At(i)
		due := e.InFlightOf(c).due
		if due < last || due < e.Now || due > e.Now+q.lease || c.Flags&Leased == 0 {
			return fault(
				"the lease of message %d ends at %v, after one that ends at %v",
				c.Age,
				e.Instant(due),
				e.Instant(last),
			)
		}
		last = due
	}
	busy := map[uint32]int{}
	for b := range e.Batches {
		if bt := &e.Batches[b]; b > 0 && len(bt.Entries) > 0 && bt.filling {
			busy[bt.reader]++
		}
	}
	for _, rl := range q.Links {
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
