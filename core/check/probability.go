package check

import (
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// lossProbability gives the chance that something that comes of a message is
// lost through failure shares, summed over the ways (an upper bound, near exact
// while it is small).
func (a *Analysis) lossProbability(at []float64) *float64 {
	sum := 0.0
	for i := range a.Graph.Links {
		l := a.link(i)
		if at[l.From] == 0 {
			continue
		}
		target := a.node(l.To)
		if !target.Kind.Runs() || l.Relation.OfRun() && l.Relation != model.RunIntake && l.Relation != model.RunPush || l.DeadLetter != graph.None || a.Reach[i] == expr.Impossible {
			continue
		}
		if hasFailureLink(target, a.Graph) && l.Relation.Asynchronous() {
			continue
		}
		_, expected := a.linkMean(a.node(l.From), l)
		sum += at[l.From] * expected * a.exhausted(target, l.Policy.Tries)
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
