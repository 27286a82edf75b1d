// Package sim simulates: discrete events of a compiled topology on a virtual clock, one replication at a time. It is
// pure: no wall clock, no I/O, no goroutine; the same graph, plan and seed give the same result, byte for byte.
//
// Run simulates a plan and counts; Follow sends one message through; Journeys and Find record some messages step by
// step; Rest looks at what lies in a node; a Live run takes inputs on the way. What they share is below: the engine,
// and the parts that only some models need.
package sim

import (
	"maps"

	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/incident"
	"ironweir/core/sim/internal/series"
	"ironweir/core/sim/internal/trace"
	"ironweir/core/sim/internal/traffic"
	"ironweir/core/sim/internal/workflow"
)

// replication is an engine with its parts.
type replication struct {
	*engine.Engine
	sources   *traffic.Sources
	incidents *incident.Incidents
	workflows *workflow.Interpreter
	recorder  *series.Recorder
}

// Run simulates one replication. The error says what of the model cannot be
// simulated, or that the ledger does not add up (a fault of the engine).
func Run(plan Plan) (*Result, error) {
	r, err := newReplication(&plan)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return r.run()
}

func newReplication(plan *Plan) (*replication, error) {
	r := &replication{}
	var err error
	r.Engine, err = engine.New(plan, nil, r.parts)
	return r, err
}

// newFollowing makes a replication in which one message is followed, with the failures that are forced.
func newFollowing(plan *Plan, fail map[string]int) (*replication, *trace.Tracer, error) {
	r := &replication{}
	forced := map[string]int{}
	maps.Copy(forced, fail)
	var err error
	if r.Engine, err = engine.New(plan, forced, r.parts); err != nil {
		return nil, nil, err
	}
	t := trace.New(r.Engine, nil)
	r.Observe(t)
	return r, t, nil
}

// parts makes those of an engine.
func (r *replication) parts(e *engine.Engine) engine.Parts {
	r.sources, r.incidents = traffic.New(e), incident.New(e)
	r.workflows, r.recorder = workflow.New(e), series.New(e)
	return engine.Parts{Traffic: r.sources, Incidents: r.incidents, Workflows: r.workflows, Series: r.recorder}
}

// run simulates all of it.
func (r *replication) run() (*Result, error) {
	if err := r.Loop(); err != nil {
		return nil, err
	}
	return r.result()
}
