package sim

import (
	"fmt"

	"ironweir/core/model"
)

// audit checks that every node's copies add up: came in = fates + under way.
func (e *engine) audit() error {
	under := make([]int64, len(e.nodes))
	rest := make([]int64, len(e.nodes))
	for i := uint32(1); i < e.copies.count; i++ {
		c := e.copies.at(i)
		if c.journey == 0 || c.flags&(done|ghost) != 0 {
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
			return fmt.Errorf("the ledger of %s does not add up at %v: %d came in, %d are accounted for (a fault of the engine; please report the model)",
				n.name, e.instant(e.now), n.copies, sum)
		}
		if rest[i] != n.fates[Arrived]+n.fates[Parked] && n.kind == model.Queue {
			return fmt.Errorf("the messages at rest in %s do not add up: %d lie there, %d are counted (a fault of the engine)", n.name, rest[i], n.fates[Arrived]+n.fates[Parked])
		}
	}
	return nil
}
