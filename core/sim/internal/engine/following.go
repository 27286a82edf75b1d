package engine

import (
	"ironweir/core/model"
	"ironweir/core/sim/internal/random"
)

// forcing holds the failures that are forced while one message is followed, with typical times and no others.
type forcing struct {
	stated map[string]int // runs, or writes, that fail, by node: the first n, or all where negative
	made   map[string]int // runs and writes so far, of those nodes
}

// Follows reports whether one message is followed, in place of the scenario's traffic.
func (e *Engine) Follows() bool { return e.forcing != nil }

// CouldForce reports whether a node at which failures are stated has come to a run or a write.
func (e *Engine) CouldForce(node string) bool { return e.forcing.made[node] > 0 }

// forced reports whether the next run of a node, or the next write to it, is to fail.
func (e *Engine) forced(n *Node) bool {
	count, there := e.forcing.stated[n.Name]
	if !there {
		return false
	}
	e.forcing.made[n.Name]++
	return count < 0 || e.forcing.made[n.Name] <= count
}

func typical(d model.Distribution) random.Sampler {
	return random.Sampler{Shape: random.Constant, A: d.Typical()}
}
