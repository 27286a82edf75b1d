package main

import (
	"fmt"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"time"

	"ironweir/core/expr"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
)

// runFlags are the flags of every command that simulates.
type runFlags struct {
	m                     *modelFlags
	scenario, maxTime     *string
	maxMemory             *string
	traffic, down, expect repeated
	seed, events          *int64
	replications, workers *int
	formats               string
	memory                int64
	deadline              time.Time
}

func (c *call) runFlags(formats string) *runFlags {
	f := &runFlags{m: c.modelFlags(formats), formats: formats}
	f.scenario = c.String("scenario", "", "run scenario `FILE`; without one, a day of the nodes' own rates")
	c.Var(&f.traffic, "traffic", "send `NODE=RATE` instead of the scenario's traffic; may be repeated")
	c.Var(&f.down, "down", "let `NODE=DURATION[@AT]` fail for a while; may be repeated")
	c.Var(&f.expect, "expect", "judge `EXPR`, CEL over the result as run; may be repeated")
	f.seed = c.Int64("seed", -1, "`N` instead of the scenario's seed")
	f.replications = c.Int("replications", 0, "`N` instead of the scenario's replications")
	f.workers = c.Int("workers", runtime.GOMAXPROCS(0), "replications at once")
	f.events = c.Int64("max-events", 0, "end a replication after `N` events with what it has")
	f.maxMemory = c.String(
		"max-memory",
		"",
		"end a replication whose messages take `SIZE`, such as 2GB, with what it has",
	)
	f.maxTime = c.String("max-time", "", "end the whole after `DURATION` of the clock on the wall, with what it has")
	return f
}

// check looks at the values of the flags.
func (f *runFlags) check(c *call) (err error) {
	if err := c.oneOf("format", *f.m.format, f.formats); err != nil {
		return err
	}
	if *f.replications != 0 && (*f.replications < 1 || *f.replications > model.MaxReplications) {
		return fmt.Errorf("-replications %d: from 1 to %d", *f.replications, model.MaxReplications)
	}
	if *f.maxMemory != "" {
		if f.memory, err = model.ParseSize(*f.maxMemory); err != nil {
			return fmt.Errorf("-max-memory: %w", err)
		}
	}
	if *f.maxTime != "" {
		d, err := model.ParseDuration(*f.maxTime)
		if err != nil {
			return fmt.Errorf("-max-time: %w", err)
		}
		f.deadline = time.Now().Add(d)
	}
	return nil
}

// stop gives the reason to end a run, or nothing.
func (f *runFlags) stop(c *call) func() string {
	return func() string {
		switch {
		case c.Err() != nil:
			return "an interruption"
		case !f.deadline.IsZero() && time.Now().After(f.deadline):
			return "the limit of " + *f.maxTime + " of time"
		}
		return ""
	}
}

// plan makes the run of the model with a variant (none: an empty name) and with
// more that is set in it.
func (f *runFlags) plan(c *call, variant string, sets ...string) (study.Plan, *loaded, error) {
	m := *f.m
	m.variants = nil
	if variant != "" {
		m.variants = repeated{variant}
	}
	m.sets = append(append(repeated{}, m.sets...), sets...)
	l, err := c.loadModel(c.Arg(0), &m)
	if err != nil {
		return study.Plan{}, nil, err
	}
	s, inputs, err := c.loadScenario(*f.scenario, l)
	if err != nil {
		return study.Plan{}, nil, err
	}
	if err := changeScenario(s, l, f.traffic, f.down, f.expect); err != nil {
		return study.Plan{}, nil, err
	}
	if *f.seed >= 0 {
		s.Seed = uint64(*f.seed)
	}
	if *f.replications != 0 {
		s.Replications = *f.replications
	}
	return study.Plan{Graph: l.graph, Scenario: s, Inputs: inputs, Head: l.head("run"), Workers: *f.workers,
		Limits: c.limited(sim.Limits{Events: *f.events, Memory: f.memory}), Stop: f.stop(c)}, l, nil
}

// build makes plans for a sweep or for sizing.
func (f *runFlags) build(c *call, origin string) study.Build {
	return func(sets []string) (study.Plan, error) {
		f := *f
		m := *f.m
		f.m, m.origin = &m, map[string]string{}
		for _, set := range sets {
			path, _, _ := strings.Cut(set, "=")
			m.origin[path] = origin
		}
		p, _, err := f.plan(c, f.m.one(), sets...)
		return p, err
	}
}

// variantName is how a variant is called: by its file, without folder and
// ending.
func variantName(file string) string {
	if file == "" {
		return "as-it-is"
	}
	return strings.TrimSuffix(filepath.Base(file), filepath.Ext(file))
}

// changeScenario applies the flags that stand for parts of a scenario.
func changeScenario(s *model.Scenario, l *loaded, traffic, down, expect repeated) error {
	if len(traffic) > 0 {
		s.Traffic, s.TrafficGiven = nil, true
	}
	for _, t := range traffic {
		node, rate, ok := strings.Cut(t, "=")
		perSecond, err := model.ParseRate(rate)
		if !ok || err != nil {
			return fmt.Errorf("-traffic %s: write it as NODE=RATE, such as manifest-drop=40/h", t)
		}
		if l.graph.NodeID(node) < 0 {
			return fmt.Errorf("-traffic: %w", l.graph.NoNode(node))
		}
		s.Traffic = append(s.Traffic, &model.Traffic{Name: node, Into: node, Rate: perSecond, Arrivals: "poisson"})
	}
	for i, d := range down {
		node, span, ok := strings.Cut(d, "=")
		length, at, _ := strings.Cut(span, "@")
		if at == "" {
			at = "0s"
		}
		duration, err := model.ParseDuration(length)
		start, err2 := model.ParseDuration(at)
		if !ok || err != nil || err2 != nil {
			return fmt.Errorf(
				"-down %s: write it as NODE=DURATION or NODE=DURATION@AT, such as goods-registry=30m@2h",
				d,
			)
		}
		if l.graph.NodeID(node) < 0 {
			return fmt.Errorf("-down: %w", l.graph.NoNode(node))
		}
		whole := 1.0
		s.Incidents = append(
			s.Incidents,
			&model.Incident{Name: "down-" + strconv.Itoa(i+1), At: start, For: duration, Node: node, Fails: &whole},
		)
	}
	for i, x := range expect {
		if _, err := expr.CompileJudgement(x); err != nil {
			return fmt.Errorf("-expect: %w", err)
		}
		s.Expect = append(s.Expect, model.Expectation{Name: "expect-" + strconv.Itoa(i+1), Expression: x})
	}
	return nil
}

// limited holds limits to those of whoever this is done for.
func (c *call) limited(to sim.Limits) sim.Limits {
	if m := c.limits.Events; m > 0 && (to.Events == 0 || to.Events > m) {
		to.Events = m
	}
	if m := c.limits.Memory; m > 0 && (to.Memory == 0 || to.Memory > m) {
		to.Memory = m
	}
	if to.Copies == 0 {
		to.Copies = c.limits.Copies
	}
	return to
}
