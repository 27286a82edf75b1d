package study

import (
	"sync/atomic"

	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/parallel"
	"ironweir/core/sim"
)

// Plan is a run with its replications.
type Plan struct {
	Graph    *graph.Graph
	Scenario *model.Scenario
	Inputs   sim.Inputs
	Head     document.Head
	Limits   sim.Limits
	Workers  int                 // replications at once; at least 1
	Progress func(share float64) // of the whole run, from any goroutine; or nil
	Stop     func() string       // a reason ends the run early with what it has; or nil
}

// Run simulates all replications and merges them. Replications that were never
// started because the run was stopped are left out of a partial document.
func Run(p Plan) (*Document, error) {
	results, err := p.simulate()
	if err != nil {
		return nil, err
	}
	return p.Merge(results)
}

// simulate runs the replications, in order; those never started are left out.
func (p *Plan) simulate() ([]*sim.Result, error) {
	if err := CheckExpectations(p.Graph, p.Scenario, p.Inputs); err != nil {
		return nil, err
	}
	n := p.Scenario.Replications
	results, errs := make([]*sim.Result, n), make([]error, n)
	shares := make([]atomic.Uint64, n)
	simulateOne := func(r int) bool {
		if r > 0 && p.Stop != nil && p.Stop() != "" {
			return false
		}
		plan := p.Replication(r)
		plan.Progress = func(now sim.Progress) {
			share := now.Share
			shares[r].Store(uint64(share * 1e6))
			report(shares, p.Progress)
		}
		results[r], errs[r] = sim.Run(plan)
		shares[r].Store(1e6)
		return true
	}
	parallel.Each(n, p.Workers, func() func(int) bool { return simulateOne })
	var done []*sim.Result
	for r := range results {
		if errs[r] != nil {
			return nil, errs[r]
		}
		if results[r] != nil {
			done = append(done, results[r])
		}
	}
	report(shares, p.Progress)
	return done, nil
}

// Replication is the plan of one replication, for the engine.
func (p *Plan) Replication(r int) sim.Plan {
	return sim.Plan{
		Graph:       p.Graph,
		Scenario:    p.Scenario,
		Inputs:      p.Inputs,
		Replication: r,
		Limits:      p.Limits,
		Stop:        p.Stop,
	}
}

// Merge makes the document of a run from its replications, in order. Those that
// are missing were never started, and the document is partial.
func (p *Plan) Merge(results []*sim.Result) (*Document, error) {
	doc, err := Merge(p.Graph, p.Scenario, results, p.Head)
	if err == nil && len(results) < p.Scenario.Replications {
		doc.Partial, doc.Stopped = true, "an interruption"
		if p.Stop != nil {
			doc.Stopped = p.Stop()
		}
	}
	return doc, err
}

// report passes on the share of the whole that is done.
func report(shares []atomic.Uint64, progress func(share float64)) {
	if progress == nil {
		return
	}
	sum := 0.0
	for i := range shares {
		sum += float64(shares[i].Load()) / 1e6
	}
	progress(sum / float64(len(shares)))
}
