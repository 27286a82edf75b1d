package study

import (
	"fmt"
	"sync/atomic"

	"ironweir/core/document"
	"ironweir/core/parallel"
)

// Axis is a field of the model and the values that a sweep gives it, as
// written.
type Axis struct {
	Path   string
	Values []string
}

// MaxPoints bounds the points of one sweep.
const MaxPoints = 10_000

// Build makes the plan of a model in which PATH=VALUE settings hold.
type Build func(sets []string) (Plan, error)

// Sweep is the result of a run at each combination of values.
type Sweep struct {
	document.Head
	Scenario     string              `json:"scenario"`
	Seed         uint64              `json:"seed"`
	Replications int                 `json:"replications"`
	Partial      bool                `json:"partial"`
	Sweep        map[string][]string `json:"sweep"`
	Points       []Point             `json:"points"`
}

// Point is one combination of a sweep with its main counts.
type Point struct {
	Values         map[string]string      `json:"values"`
	Partial        bool                   `json:"partial"`
	Stopped        string                 `json:"stopped,omitempty"`
	Ledger         Ledger                 `json:"ledger"`
	PerReplication map[string]Spread      `json:"per_replication"`
	Nodes          map[string]NodeSummary `json:"nodes"`
	Journeys       Journeys               `json:"journeys"`
	Expect         map[string]Expectation `json:"expect"`
	Cost           *Cost                  `json:"cost"`
}

// NodeSummary are the numbers of a node that a sweep keeps.
type NodeSummary struct {
	Runs        int64    `json:"runs"`
	Failures    int64    `json:"failures"`
	Throttled   int64    `json:"throttled"`
	Utilisation *float64 `json:"utilisation"`
	Depth       Level    `json:"depth"`
	WaitP99     float64  `json:"wait_p99_s"`
}

// Holds reports whether all expectations hold.
func (p *Point) Holds() bool {
	for _, x := range p.Expect {
		if !x.Holds {
			return false
		}
	}
	return true
}

// RunSweep runs every combination of the axes' values, several at once.
// Whatever the number of workers, the points come out the same, in the order of
// the axes, the last axis fastest.
func RunSweep(axes []Axis, build Build, workers int, progress func(share float64), stop func() string) (*Sweep, error) {
	count, err := Points(axes)
	if err != nil {
		return nil, err
	}
	points, errs := make([]*Point, count), make([]error, count)
	shares := make([]atomic.Uint64, count)
	runOne := func(i int) bool {
		if i > 0 && stop != nil && stop() != "" {
			return false
		}
		points[i], errs[i] = RunPoint(axes, i, build, max(1, workers/count), func(share float64) {
			shares[i].Store(uint64(share * 1e6))
			report(shares, progress)
		}, stop)
		return errs[i] == nil
	}
	parallel.Each(count, workers, func() func(int) bool { return runOne })
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	sets, _ := combination(axes, 0)
	first, err := build(sets)
	if err != nil {
		return nil, err
	}
	return MergeSweep(axes, first, points), nil
}

// Points reports how many points a sweep has.
func Points(axes []Axis) (int, error) {
	count := 1
	for _, a := range axes {
		if len(a.Values) == 0 {
			return 0, fmt.Errorf("%s: a sweep needs at least one value", a.Path)
		}
		if count *= len(a.Values); count > MaxPoints {
			return 0, fmt.Errorf("the sweep has more than %d points; leave some values out", MaxPoints)
		}
	}
	return count, nil
}

// RunPoint runs the i-th point of a sweep.
func RunPoint(
	axes []Axis,
	i int,
	build Build,
	workers int,
	progress func(share float64),
	stop func() string,
) (*Point, error) {
	sets, values := combination(axes, i)
	p, err := build(sets)
	if err != nil {
		return nil, fmt.Errorf("%v: %w", sets, err)
	}
	p.Workers, p.Stop, p.Progress = workers, stop, progress
	doc, err := Run(p)
	if err != nil {
		return nil, fmt.Errorf("%v: %w", sets, err)
	}
	return point(doc, values), nil
}

// MergeSweep puts the points of a sweep together, in order; nil stands for one
// that a sweep was stopped before. first is the plan of the first point.
func MergeSweep(axes []Axis, first Plan, points []*Point) *Sweep {
	s := first.Scenario
	head := first
	out := &Sweep{
		Head:         head.Head,
		Scenario:     s.Name,
		Seed:         s.Seed,
		Replications: s.Replications,
		Sweep:        map[string][]string{},
		Points:       []Point{},
	}
	for _, a := range axes {
		out.Sweep[a.Path] = a.Values
	}
	for _, p := range points {
		if p == nil {
			out.Partial = true
			continue
		}
		out.Partial = out.Partial || p.Partial
		out.Points = append(out.Points, *p)
	}
	return out
}

// combination gives the i-th of all combinations of the axes' values.
func combination(axes []Axis, i int) (sets []string, values map[string]string) {
	values = map[string]string{}
	sets = make([]string, len(axes))
	for k := len(axes) - 1; k >= 0; k-- {
		v := axes[k].Values[i%len(axes[k].Values)]
		i /= len(axes[k].Values)
		values[axes[k].Path] = v
		sets[k] = axes[k].Path + "=" + v
	}
	return sets, values
}

func point(doc *Document, values map[string]string) *Point {
	p := &Point{
		Values:         values,
		Partial:        doc.Partial,
		Stopped:        doc.Stopped,
		Ledger:         doc.Ledger,
		PerReplication: doc.PerReplication,
		Nodes:          map[string]NodeSummary{},
		Journeys:       doc.Journeys,
		Expect:         doc.Expect,
		Cost:           doc.Cost,
	}
	for name, n := range doc.Nodes {
		p.Nodes[name] = NodeSummary{n.Runs, n.Failures, n.Throttled, n.Utilisation, n.Depth, n.Wait.P99}
	}
	return p
}
