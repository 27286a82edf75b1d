package study

import (
	"sync"
	"sync/atomic"

	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
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
	Stop     func() bool         // true ends the run early with what it has; or nil
}

// Run simulates all replications and merges them. Replications that were never
// started because the run was stopped are left out of a partial document.
func Run(p Plan) (*Document, error) {
	n := p.Scenario.Replications
	results, errs := make([]*sim.Result, n), make([]error, n)
	shares := make([]atomic.Uint64, n)
	var next atomic.Int64
	var wg sync.WaitGroup
	for range max(1, min(p.Workers, n)) {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for {
				r := int(next.Add(1)) - 1
				if r >= n || r > 0 && p.Stop != nil && p.Stop() {
					return
				}
				results[r], errs[r] = sim.Run(sim.Plan{Graph: p.Graph, Scenario: p.Scenario, Inputs: p.Inputs, Replication: r, Limits: p.Limits, Stop: p.Stop,
					Progress: func(share float64) {
						shares[r].Store(uint64(share * 1e6))
						p.report(shares)
					}})
				shares[r].Store(1e6)
			}
		}()
	}
	wg.Wait()
	var done []*sim.Result
	for r := range results {
		if errs[r] != nil {
			return nil, errs[r]
		}
		if results[r] != nil {
			done = append(done, results[r])
		}
	}
	p.report(shares)
	doc, err := Merge(p.Graph, p.Scenario, done, p.Head)
	if err == nil && len(done) < n {
		doc.Partial, doc.Stopped = true, "interrupted"
	}
	return doc, err
}

func (p *Plan) report(shares []atomic.Uint64) {
	if p.Progress == nil {
		return
	}
	sum := 0.0
	for i := range shares {
		sum += float64(shares[i].Load()) / 1e6
	}
	p.Progress(sum / float64(len(shares)))
}
