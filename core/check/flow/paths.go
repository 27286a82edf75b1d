package flow

import (
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Way is one way that a message, or what comes of it, can go.
type Way struct {
	Steps []WayStep `json:"steps"`
	Reach string    `json:"reach"` // certain, possible: the least of its links
}

// WayStep is one step of a way.
type WayStep struct {
	Node string `json:"node"`           // where it leads
	Link string `json:"link,omitempty"` // by which; none at the start
	How  string `json:"how,omitempty"`
}

// MaxWays bounds what Ways lists.
const MaxWays = 200

// Ways lists the ways from a node to another, the shortest first, none passing a
// node twice; more reports whether there are others.
func (a *Analysis) Ways(from, to int) (ways []Way, more bool) {
	type step struct {
		node, before int
		link         int
		dead         bool
	}
	out := map[int][]step{}
	for _, e := range a.Graph.Edges(true) {
		if !e.Dead && a.Reach[e.Link] == expr.Impossible {
			continue
		}
		out[e.From] = append(out[e.From], step{node: e.To, link: e.Link, dead: e.Dead})
	}
	canReach := map[int]bool{to: true}
	for changed := true; changed; {
		changed = false
		for n, steps := range out {
			for _, s := range steps {
				if canReach[s.node] && !canReach[n] {
					canReach[n], changed = true, true
				}
			}
		}
	}
	// Breadth first over ways; what cannot reach the end is left out.
	trail := []step{{node: from, before: -1, link: graph.None}}
	for k := 0; k < len(trail) && len(trail) < 200_000; k++ {
		at := trail[k]
		if at.node == to && k > 0 {
			if len(ways) == MaxWays {
				return ways, true
			}
			var chain []step
			for i := k; i >= 0; i = trail[i].before {
				chain = append(chain, trail[i])
			}
			way := Way{Reach: expr.Certain.String()}
			for i := len(chain) - 1; i >= 0; i-- {
				s := chain[i]
				w := WayStep{Node: a.Node(s.node).Name}
				if s.link != graph.None {
					l := a.Link(s.link)
					w.Link, w.How = l.Link.ID(), howOf(l, s.dead)
					if a.Reach[s.link] != expr.Certain || s.dead || l.When != model.OfRun {
						way.Reach = expr.Possible.String()
					}
				}
				way.Steps = append(way.Steps, w)
			}
			ways = append(ways, way)
			continue
		}
		for _, s := range out[at.node] {
			seen := !canReach[s.node]
			for i := k; i >= 0 && !seen; i = trail[i].before {
				seen = trail[i].node == s.node && (s.node != to || i != 0)
			}
			if !seen {
				s.before = k
				trail = append(trail, s)
			}
		}
	}
	return ways, len(trail) >= 200_000
}

// howOf says in a few words how a link hands a message on.
func howOf(l *graph.Link, dead bool) string {
	switch {
	case dead:
		return "what is given up on " + l.Link.ID()
	case l.When == model.Success:
		return "the result of a run that succeeded"
	case l.When == model.Failure:
		return "the result of a run that failed"
	}
	return l.Relation.String()
}
