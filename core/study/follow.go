package study

import (
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/sim"
)

// FollowDocument is what `follow -format json` prints.
type FollowDocument struct {
	document.Head
	Journey    int              `json:"journey"`
	Outcome    string           `json:"outcome"` // complete, failed or in_flight
	Fates      map[string]int64 `json:"fates"`
	Stopped    string           `json:"stopped,omitempty"`
	Runs       int64            `json:"runs"` // of all nodes; a request at an endpoint is one
	ColdStarts int64            `json:"cold_starts"`
	RunTime    float64          `json:"run_time_s"` // sum over the runs, waiting calls included
	Cost       *FollowCost      `json:"cost"`       // null: the model has no prices
	Steps      []sim.Step       `json:"steps"`
}

// FollowCost is the price of one message: of the runs, their computing time and the
// messages that it causes. What is stored costs by the month, and is left out.
type FollowCost struct {
	Currency string             `json:"currency"`
	Total    float64            `json:"total"`
	Nodes    map[string]float64 `json:"nodes"` // that cost something
}

// Follow makes the document of a followed message.
func Follow(head document.Head, g *graph.Graph, t *sim.Trace) FollowDocument {
	doc := FollowDocument{
		Head:    head,
		Journey: 1,
		Outcome: t.Outcome(),
		Fates:   t.Fates,
		Stopped: t.Stopped,
		Steps:   t.Steps,
	}
	p := g.Topology.Prices
	if p != nil {
		doc.Cost = &FollowCost{Currency: p.Currency, Nodes: map[string]float64{}}
	}
	for i := range g.Nodes {
		r := &t.Nodes[i]
		doc.Runs += r.Runs
		doc.ColdStarts += r.ColdStarts
		doc.RunTime += r.RunSeconds
		if p == nil {
			continue
		}
		if c := workCost(p, &g.Nodes[i], r); c > 0 {
			doc.Cost.Nodes[g.Nodes[i].Name] = c
			doc.Cost.Total += c
		}
	}
	return doc
}
