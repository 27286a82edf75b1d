package check

import (
	"ironweir/core/graph"
	"ironweir/core/model"
)

// lossProbability gives the chance that something that comes of a message is
// lost through failure shares, summed over the ways (an upper bound, near exact
// while it is small). It takes how many messages reach each spot.
func (a *Analysis) lossProbability(reached []inflow) *float64 {
	sum := 0.0
	for _, in := range reached {
		at := a.states.spots[in.spot]
		n := a.node(at.node)
		if n.Kind.Runs() && at.manner.async && at.manner.dead == graph.None && !hasFailureLink(n, a.Graph) {
			sum += in.count * a.exhausted(n, at.manner.tries)
		}
		for _, e := range a.states.leaving(in.spot) {
			if l := a.link(e.Link); !e.Dead && l.Relation.Polls() && l.DeadLetter == graph.None && a.node(l.To).Kind.Runs() {
				sum += in.count * e.expected * a.exhausted(a.node(l.To), l.Policy.Tries)
			}
		}
	}
	sum = min(sum, 1)
	return &sum
}

func hasFailureLink(n *graph.Node, g *graph.Graph) bool {
	for _, id := range n.Out {
		if g.Links[id].When == model.Failure {
			return true
		}
	}
	return false
}
