package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sensitivity"
	"ironweir/core/sim"
	"ironweir/core/study"
	"ironweir/store"
)

// Task is a run made ready to be worked on.
type Task struct {
	Run      *store.Run
	Text     string          // of the revision
	Variants []study.Variant // the model as it is, then its variants
	axes     []study.Axis
	build    study.Build
	guesses  *store.Sensitivity // nil: the result itself is asked for
	limits   sim.Limits
}

// NewTask reads what a run is of.
func NewTask(run *store.Run, text string, limits sim.Limits) (*Task, error) {
	var of store.Study
	if err := json.Unmarshal(run.Study, &of); err != nil {
		return nil, fmt.Errorf("what the run is of: %w", err)
	}
	t := &Task{Run: run, Text: text, limits: limits}
	plan := func(sets []string, variant *store.Variant) (study.Plan, error) {
		return t.plan(of, append(append([]string{}, of.Sets...), sets...), variant)
	}
	if len(of.Sweep) > 0 {
		for _, a := range of.Sweep {
			t.axes = append(t.axes, study.Axis{Path: a.Path, Values: a.Values})
		}
		t.build = func(sets []string) (study.Plan, error) { return plan(sets, nil) }
	}
	if of.Sensitivity != nil {
		return t, t.askGuesses(of)
	}
	base, err := plan(nil, nil)
	if err != nil {
		return nil, err
	}
	t.Variants = []study.Variant{{Name: "as-it-is", Plan: base}}
	for i := range of.Variants {
		p, err := plan(nil, &of.Variants[i])
		if err != nil {
			return nil, fmt.Errorf("variant %s: %w", of.Variants[i].Name, err)
		}
		t.Variants = append(t.Variants, study.Variant{Name: of.Variants[i].Name, Plan: p})
	}
	return t, nil
}

// askGuesses makes the task one of sensitivity, of the model with its variant applied.
func (t *Task) askGuesses(of store.Study) error {
	var variant *store.Variant
	switch {
	case len(of.Sweep) > 0 || len(of.Variants) > 1:
		return errors.New("a sensitivity is of the model or of one variant, without a sweep")
	case len(of.Variants) == 1:
		variant = &of.Variants[0]
	}
	base, err := t.plan(of, of.Sets, variant)
	if err != nil {
		return err
	}
	t.guesses, t.Variants = of.Sensitivity, []study.Variant{{Name: "as-it-is", Plan: base}}
	return sensitivity.Ready(t.sensitivity())
}

func (t *Task) sensitivity() sensitivity.Options {
	base := t.Base()
	return sensitivity.Options{
		Graph:        base.Graph,
		Plan:         base,
		Of:           t.guesses.Of,
		Trajectories: t.guesses.Trajectories,
		Points:       t.guesses.Points,
		Workers:      1,
	}
}

// plan makes the plan of the model with settings and a variant over it.
func (t *Task) plan(of store.Study, sets []string, variant *store.Variant) (study.Plan, error) {
	options := model.Options{Environment: of.Environment, Sets: sets}
	texts := append([]string{t.Text, of.Environment}, sets...)
	if variant != nil {
		var err error
		if options.Variant, err = model.ReadDocument(variant.Name+".yaml", []byte(variant.Text)); err != nil {
			return study.Plan{}, err
		}
		texts = append(texts, variant.Text)
	}
	topology, err := model.Parse(t.Run.Model+".yaml", []byte(t.Text), options)
	if err != nil {
		return study.Plan{}, err
	}
	if topology.Name == "" {
		topology.Name = t.Run.Model
	}
	g, err := graph.Compile(topology)
	if err != nil {
		return study.Plan{}, err
	}
	s, err := model.ParseScenario(t.Run.Scenario+".yaml", []byte(t.Run.Text), topology)
	if err != nil {
		return study.Plan{}, err
	}
	if s.Name == model.DefaultScenario().Name {
		s.Name = t.Run.Scenario // the text bears none
	}
	if of.Seed != nil {
		s.Seed = *of.Seed
	}
	if of.Replications > 0 {
		s.Replications = of.Replications
	}
	why := t.Run.Stopping
	return study.Plan{
		Graph:    g,
		Scenario: s,
		Head:     document.NewHead("run", topology.Name, topology.Environment, document.Digest(texts...)),
		Workers:  1,
		Limits:   t.limits,
		Stop:     func() string { return why },
	}, nil
}

// Parts returns how many parts the run has.
func (t *Task) Parts() (int, error) {
	switch {
	case t.guesses != nil:
		return 1, nil // which runs are made depends on those before
	case t.axes != nil:
		return study.Points(t.axes)
	}
	return len(t.Variants) * t.replications(), nil
}

func (t *Task) replications() int { return t.Variants[0].Plan.Scenario.Replications }

// Base is the model as it is under the scenario.
func (t *Task) Base() study.Plan { return t.Variants[0].Plan }

// part works on one part and gives its result as bytes.
func (t *Task) part(number int, progress func(sim.Progress), stop func() string) ([]byte, error) {
	if t.guesses != nil {
		o := t.sensitivity()
		o.Stop = func() bool { return stop() != "" }
		o.Progress = func(done, of int) { progress(sim.Progress{Share: float64(done) / float64(of)}) }
		doc, err := sensitivity.Find(o)
		if err != nil {
			return nil, err
		}
		head := o.Plan.Head
		doc.Head = document.NewHead("sensitivity", head.Model, head.Environment, head.Digest)
		return json.Marshal(doc)
	}
	if t.axes != nil {
		point, err := study.RunPoint(
			t.axes,
			number,
			t.build,
			1,
			func(share float64) { progress(sim.Progress{Share: share}) },
			stop,
		)
		if err != nil {
			return nil, err
		}
		return json.Marshal(point)
	}
	p := t.Variants[number/t.replications()].Plan
	p.Stop = stop
	plan := p.Replication(number % t.replications())
	plan.Progress = progress
	result, err := sim.Run(plan)
	if err != nil {
		return nil, err
	}
	return result.Encode()
}

// merge puts the results of the parts together; those that are missing were
// never started.
func (t *Task) merge(parts map[int][]byte) (any, error) {
	if t.guesses != nil {
		if len(parts) == 0 {
			return nil, errNothing
		}
		return json.RawMessage(parts[0]), nil
	}
	if t.axes != nil {
		count, err := study.Points(t.axes)
		if err != nil {
			return nil, err
		}
		points := make([]*study.Point, count)
		for i, data := range parts {
			if err := json.Unmarshal(data, &points[i]); err != nil {
				return nil, err
			}
		}
		return study.MergeSweep(t.axes, t.Base(), points), nil
	}
	results := make([][]*sim.Result, len(t.Variants))
	for v := range t.Variants {
		for r := range t.replications() {
			data, ok := parts[v*t.replications()+r]
			if !ok {
				continue
			}
			result, err := sim.DecodeResult(data)
			if err != nil {
				return nil, err
			}
			results[v] = append(results[v], result)
		}
		if len(results[v]) == 0 {
			return nil, errNothing
		}
	}
	if len(t.Variants) == 1 {
		return t.Variants[0].Plan.Merge(results[0])
	}
	return study.MergeVariants(t.Variants, results)
}

// errNothing says that a run was ended before all of its variants had a
// replication.
var errNothing = fmt.Errorf("it was ended before there was anything to show")

// load reads a run and makes it ready.
func load(ctx context.Context, s *store.Store, id int64) (*Task, store.Settings, error) {
	settings, err := s.Settings(ctx)
	if err != nil {
		return nil, settings, err
	}
	run, err := s.Run(ctx, id)
	if err != nil {
		return nil, settings, err
	}
	revision, err := s.RevisionOfRun(ctx, run)
	if err != nil {
		return nil, settings, err
	}
	t, err := NewTask(run, revision.Text, LimitsOf(settings))
	if err != nil {
		return nil, settings, badTask{err}
	}
	return t, settings, nil
}

// badTask is an error of the run itself, which trying again does not mend.
type badTask struct{ error }

// LimitsOf gives the limits of a replication that the settings name.
func LimitsOf(s store.Settings) sim.Limits {
	return sim.Limits{Events: s.MaxEvents, Copies: s.MaxCopies, Memory: s.MaxMemory}
}
