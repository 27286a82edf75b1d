// Package sensitivity says which guesses of a model decide the result of a scenario. It
// screens them by elementary effects, works out the variance shares of those that matter,
// and looks for the value at which an expectation turns.
package sensitivity

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"regexp"
	"slices"
	"sync/atomic"

	"ironweir/core/document"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/parallel"
	"ironweir/core/study"
)

// Options say what is looked at.
type Options struct {
	Graph        *graph.Graph
	Plan         study.Plan // of the scenario; its graph is replaced
	Of           []string   // expressions over the result; none: the scenario's expectations
	Trajectories int        // of the screening; 0: 6
	Points       int        // of the variance shares; 0: none are worked out
	Workers      int        // concurrent runs; at least 1
	Stop         func() bool
	Progress     func(done, of int)
}

// Document says for each output which guesses decide it.
type Document struct {
	document.Head
	Scenario string `json:"scenario"`
	Output
	Others  []Output `json:"others"` // further outputs
	Runs    int      `json:"runs"`
	Partial bool     `json:"partial"`
}

// Outputs lists all of them.
func (d *Document) Outputs() []*Output {
	out := []*Output{}
	if d.Of != "" {
		out = append(out, &d.Output)
	}
	for k := range d.Others {
		out = append(out, &d.Others[k])
	}
	return out
}

// Output is one number of the result, or one expectation.
type Output struct {
	Of     string  `json:"of"`
	Value  float64 `json:"value"`  // with every guess as it is written; of an expectation, its left side
	Holds  *bool   `json:"holds"`  // of an expectation
	Inputs []Input `json:"inputs"` // the one that decides most first: it is the one to measure
}

// Moved reports whether any guess changes the output within its range, as far as was seen.
func (o *Output) Moved() bool {
	return slices.ContainsFunc(o.Inputs, func(in Input) bool {
		return in.Effect.Size > 0 || in.Share != nil && in.Share.Total > 0 || in.Values != [2]float64{o.Value, o.Value}
	})
}

// Input is a guess.
type Input struct {
	Path    string      `json:"path"`
	Range   [2]string   `json:"range"`
	Effect  InputEffect `json:"effect"`
	Share   *SharesOf   `json:"share"`    // of the variance; null: screened out
	TurnsAt *string     `json:"turns_at"` // where the expectation turns, the others being as written; null: nowhere
	Values  [2]float64  `json:"values"`   // of the output at the ends of the range, the others being as written
}

// InputEffect is the mean elementary effect over the range, and of its absolute values.
type InputEffect struct {
	Mean float64        `json:"mean"`
	CI   study.Interval `json:"ci"`
	Size float64        `json:"size"`
}

// SharesOf are parts of the variance.
type SharesOf struct {
	First   float64    `json:"first"`
	FirstCI [2]float64 `json:"first_ci"` // 95%
	Total   float64    `json:"total"`
	TotalCI [2]float64 `json:"total_ci"`
}

// screenedOut is the part of the largest effect below which a guess is left out of the
// variance shares.
const screenedOut = 0.05

// compared is an expectation that compares a number with a constant.
var compared = regexp.MustCompile(`^\s*(.+?)\s*(<=|>=|==|<|>)\s*([0-9.eE+-]+)\s*$`)

// output is what is read off each result.
type output struct {
	of     string
	number *expr.Judgement
	judge  *expr.Judgement // nil: it is no expectation
}

type analysis struct {
	Options
	guesses []guess
	outputs []output
	runs    atomic.Int64
	planned int
}

var errStopped = errors.New("interrupted")

// Ready reports what stands in the way of Find: a model without guesses, a guess that
// cannot be varied, an expression that cannot be read.
func Ready(o Options) error {
	_, err := prepare(o)
	return err
}

// Find looks at every guess of the model.
func Find(o Options) (*Document, error) {
	a, err := prepare(o)
	if err != nil {
		return nil, err
	}
	doc := &Document{Scenario: o.Plan.Scenario.Name, Output: Output{Inputs: []Input{}}, Others: []Output{}}
	err = a.look(doc)
	doc.Runs = int(a.runs.Load())
	if errors.Is(err, errStopped) {
		doc.Partial, err = true, nil
	}
	return doc, err
}

func prepare(o Options) (*analysis, error) {
	a := &analysis{Options: o}
	a.Trajectories = cmp.Or(a.Trajectories, 6)
	var err error
	if a.guesses, err = guessesOf(o.Graph.Topology); err != nil {
		return nil, err
	}
	if len(a.guesses) == 0 {
		return nil, errors.New(
			"the model marks no number as a guess: write one as `{guess: 5s, range: [2s, 20s]}` where you are not sure")
	}
	return a, a.findOutputs()
}

func (a *analysis) findOutputs() error {
	of := a.Of
	if len(of) == 0 {
		for _, x := range a.Plan.Scenario.Expect {
			of = append(of, x.Expression)
		}
	}
	if len(of) == 0 {
		return errors.New("nothing to look at: the scenario has no expectation, and no -of names a number of the result")
	}
	for _, source := range of {
		out := output{of: source}
		whole, err := expr.CompileMeasure(source)
		if err != nil {
			return err
		}
		out.number = whole
		if parts := compared.FindStringSubmatch(source); parts != nil {
			out.judge = whole
			if left, err := expr.CompileMeasure(parts[1]); err == nil {
				out.number = left
			}
		} else if len(a.Of) == 0 {
			out.judge = whole
		}
		a.outputs = append(a.outputs, out)
	}
	return nil
}

// result is what the outputs come to in one run.
type result struct {
	numbers []float64
	holds   []bool
}

// seen is what the runs of one analysis come to.
type seen struct {
	base    result
	ends    []result   // by guess: at the lower and at the upper end of its range
	effects [][]Effect // by output and guess
	kept    []int      // the guesses that are not screened out
	shares  [][]Share  // by output and place among those that are kept; nil: not worked out
}

// look screens, works out shares, and looks for turning points.
func (a *analysis) look(doc *Document) error {
	d := len(a.guesses)
	a.planned = 1 + 2*d + a.Trajectories*(d+1) + a.Points*(d+2)
	w := &seen{}
	for _, step := range []func(*seen) error{a.runEnds, a.screenAll, a.shareAll} {
		if err := step(w); err != nil {
			return err
		}
	}
	for k := range a.outputs {
		o, err := a.describe(w, k)
		if err != nil {
			return err
		}
		if k == 0 {
			doc.Output = o
		} else {
			doc.Others = append(doc.Others, o)
		}
	}
	return nil
}

// runEnds runs the model as it is written, and with each guess at the ends of its range.
func (a *analysis) runEnds(w *seen) error {
	values := []map[int]string{{}}
	for i := range a.guesses {
		values = append(values, map[int]string{i: a.guesses[i].at(0)}, map[int]string{i: a.guesses[i].at(1)})
	}
	results, err := a.at(values)
	if err == nil {
		w.base, w.ends = results[0], results[1:]
	}
	return err
}

// screenAll works out the elementary effects of all guesses on all outputs, and which
// guesses are kept.
func (a *analysis) screenAll(w *seen) error {
	d := len(a.guesses)
	method := func(f Function) ([]Effect, error) {
		return screen(f, d, a.Trajectories, rand.New(rand.NewPCG(1, uint64(d))))
	}
	of, err := a.points(func(f Function) error {
		_, err := method(f)
		return err
	})
	if err != nil {
		return err
	}
	keep := make([]bool, d)
	for k := range a.outputs {
		effects, err := method(of(k))
		if err != nil {
			return err
		}
		most := 0.0
		for _, e := range effects {
			most = max(most, e.Size)
		}
		for i, e := range effects {
			keep[i] = keep[i] || e.Size > screenedOut*most
		}
		w.effects = append(w.effects, effects)
	}
	for i, k := range keep {
		if k {
			w.kept = append(w.kept, i)
		}
	}
	a.planned -= a.Points * (d - len(w.kept))
	return nil
}

// shareAll works out the variance shares of the guesses that are kept.
func (a *analysis) shareAll(w *seen) error {
	if len(w.kept) == 0 || a.Points == 0 {
		return nil
	}
	method := func(f Function) ([]Share, error) {
		return shares(a.among(w.kept, f), len(w.kept), a.Points, rand.New(rand.NewPCG(2, uint64(len(w.kept)))))
	}
	of, err := a.points(func(f Function) error {
		_, err := method(f)
		return err
	})
	if err != nil {
		return err
	}
	for k := range a.outputs {
		list, err := method(of(k))
		if err != nil {
			return err
		}
		w.shares = append(w.shares, list)
	}
	return nil
}

// describe says what decides one output, the most decisive guess first.
func (a *analysis) describe(w *seen, k int) (Output, error) {
	out := a.outputs[k]
	o := Output{Of: out.of, Value: w.base.numbers[k]}
	if out.judge != nil {
		o.Holds = &w.base.holds[k]
	}
	for i := range a.guesses {
		g, e, low, high := &a.guesses[i], w.effects[k][i], w.ends[2*i], w.ends[2*i+1]
		in := Input{
			Path:   g.Path,
			Range:  [2]string{g.at(0), g.at(1)},
			Effect: InputEffect{e.Mean, e.CI, e.Size},
			Values: [2]float64{low.numbers[k], high.numbers[k]},
		}
		if at := slices.Index(w.kept, i); at >= 0 && w.shares != nil {
			s := w.shares[k][at]
			in.Share = &SharesOf{s.First, s.FirstCI, s.Total, s.TotalCI}
		}
		if out.judge != nil {
			var err error
			if in.TurnsAt, err = a.turn(k, i, w.base.holds[k], low.holds[k], high.holds[k]); err != nil {
				return o, err
			}
		}
		o.Inputs = append(o.Inputs, in)
	}
	slices.SortStableFunc(o.Inputs, func(x, y Input) int {
		total := func(i Input) float64 {
			if i.Share == nil {
				return -1
			}
			return i.Share.Total
		}
		return cmp.Or(cmp.Compare(total(y), total(x)), cmp.Compare(y.Effect.Size, x.Effect.Size))
	})
	return o, nil
}

// points has a method ask for all its points, runs the model at each of them once, and
// returns for every output the function that the method then works with.
func (a *analysis) points(method func(Function) error) (func(k int) Function, error) {
	var results []result
	err := method(func(points [][]float64) ([]float64, error) {
		values := make([]map[int]string, len(points))
		for p, x := range points {
			values[p] = map[int]string{}
			for i, u := range x {
				values[p][i] = a.guesses[i].at(u)
			}
		}
		var err error
		results, err = a.at(values)
		return make([]float64, len(points)), err
	})
	return func(k int) Function {
		return func(points [][]float64) ([]float64, error) {
			out := make([]float64, len(points))
			for p := range points {
				out[p] = results[p].numbers[k]
			}
			return out, nil
		}
	}, err
}

// among lets a method move only some of the inputs; the others stay as written.
func (a *analysis) among(kept []int, f Function) Function {
	return func(points [][]float64) ([]float64, error) {
		whole := make([][]float64, len(points))
		for p, x := range points {
			whole[p] = make([]float64, len(a.guesses))
			for i := range whole[p] {
				whole[p][i] = a.guesses[i].asWritten()
			}
			for at, i := range kept {
				whole[p][i] = x[at]
			}
		}
		return f(whole)
	}
}

// turnSteps halve the part of a range in which an expectation turns.
const turnSteps = 7

// turn looks for the value of a guess at which an expectation turns, the others being as
// written.
func (a *analysis) turn(k, i int, now, low, high bool) (*string, error) {
	from, to := a.guesses[i].asWritten(), 1.0
	switch {
	case high != now:
	case low != now:
		to = 0
	default:
		return nil, nil
	}
	for range turnSteps {
		mid := (from + to) / 2
		r, err := a.at([]map[int]string{{i: a.guesses[i].at(mid)}})
		if err != nil {
			return nil, err
		}
		if r[0].holds[k] == now {
			from = mid
		} else {
			to = mid
		}
	}
	at := a.guesses[i].at(to)
	return &at, nil
}

// at runs the model with some guesses at other values, with concurrent runs. All runs draw
// the same random numbers.
func (a *analysis) at(values []map[int]string) ([]result, error) {
	out, errs := make([]result, len(values)), make([]error, len(values))
	runOne := func(k int) bool {
		if a.Stop != nil && a.Stop() {
			errs[k] = errStopped
			return false
		}
		out[k], errs[k] = a.run(values[k])
		done := int(a.runs.Add(1))
		if a.Progress != nil {
			a.Progress(done, max(a.planned, done))
		}
		return true
	}
	parallel.Each(len(values), a.Workers, func() func(int) bool { return runOne })
	return out, errors.Join(errs...)
}

func (a *analysis) run(values map[int]string) (result, error) {
	p := a.Plan
	p.Graph, p.Progress, p.Workers = a.Graph, nil, 1
	for _, i := range slices.Sorted(maps.Keys(values)) {
		change := a.guesses[i].set(values[i])
		g, err := change.Apply(p.Graph)
		if err != nil {
			return result{}, fmt.Errorf("%s at %s: %w", a.guesses[i].Path, values[i], err)
		}
		p.Graph = g
	}
	doc, err := study.Run(p)
	if err != nil {
		return result{}, err
	}
	text, err := json.Marshal(doc)
	if err != nil {
		return result{}, err
	}
	var plain any
	if err := json.Unmarshal(text, &plain); err != nil {
		return result{}, err
	}
	r := result{make([]float64, len(a.outputs)), make([]bool, len(a.outputs))}
	for k, out := range a.outputs {
		if r.numbers[k], err = out.number.Number(plain); err != nil {
			return result{}, err
		}
		if out.judge != nil {
			if r.holds[k], err = out.judge.Holds(plain); err != nil {
				return result{}, err
			}
		}
	}
	return r, nil
}

// guessesOf lists the guesses of a model that have a range.
func guessesOf(t *model.Topology) ([]guess, error) {
	var out []guess
	for _, g := range t.Ranges {
		if g.Value == "" {
			continue // a whole distribution
		}
		x, err := newGuess(g)
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}
