// Package mend finds the smallest set of changes after which a model has no error left
// and meets the expectations of its scenarios. Changes are the remedies that the
// analysis offers, and doubled values where a run shows what falls short; each set is
// proven by the analysis and by runs.
package mend

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironweir/core/check/remedy"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/study"
)

// Options say what has to hold and how long to look.
type Options struct {
	Graph     *graph.Graph
	Scenarios []study.Plan // whose expectations have to hold; their graph is replaced
	Most      int          // changes of a plan at most; 0: 12
	Runs      int          // simulated models at most; 0: 300
	Stop      func() bool  // or nil
	Progress  func(tried int)
}

// Document is the plan that was found.
type Document struct {
	document.Head
	Met          bool            `json:"met"`
	Changes      []remedy.Remedy `json:"changes"`      // in the order in which they are applied
	Alternatives []Alternative   `json:"alternatives"` // of as many changes, that cost less or lose less
	Smallest     bool            `json:"smallest"`     // every smaller set of the changes that are known was tried
	Before       State           `json:"before"`
	After        State           `json:"after"`    // of the nearest that was found, if nothing meets the expectations
	Tried        int             `json:"tried"`    // sets of changes
	Unsolved     []string        `json:"unsolved"` // errors that no remedy removes without bringing another
	Partial      bool            `json:"partial"`
}

// State is how a model stands.
type State struct {
	Errors    int      `json:"errors"`
	Warnings  int      `json:"warnings"`
	Fails     []string `json:"fails"` // expectations, as SCENARIO: NAME
	Lost      int64    `json:"lost"`  // copies, over the scenarios and their replications
	Parked    int64    `json:"parked"`
	CostMonth *float64 `json:"cost_month"` // null without prices

	misses int     // expectations × replications that do not hold
	harm   float64 // messages lost or parked a second, as the analysis expects
}

// Alternative is another plan.
type Alternative struct {
	Changes   []remedy.Remedy `json:"changes"`
	CostMonth *float64        `json:"cost_month"`
	Lost      int64           `json:"lost"`
	Parked    int64           `json:"parked"`
}

// candidate is a model with some changes.
type candidate struct {
	graph   *graph.Graph
	changes []remedy.Remedy
	check   *check.Document
	errors  map[string]bool // ids
	state   State
	results []*study.Document
	full    bool // with all replications
}

type search struct {
	Options
	doc   *Document
	seen  map[string]bool
	runs  int
	check func(*graph.Graph) *check.Document
}

// What bounds the search: how many sets without an error are looked for, and how many of
// them are extended.
const (
	mostSolutions = 24
	beam          = 2
)

// Find looks for the plan.
func Find(o Options) (*Document, error) {
	o.Most, o.Runs = cmp.Or(o.Most, 12), cmp.Or(o.Runs, 300)
	s := &search{
		Options: o,
		doc:     &Document{Changes: []remedy.Remedy{}, Alternatives: []Alternative{}, Unsolved: []string{}},
		seen:    map[string]bool{},
		check:   check.Unproven(time.Now()),
	}
	start := s.look(o.Graph, nil)
	if err := s.simulate(start, true); err != nil {
		return nil, err
	}
	s.doc.Before, s.doc.After = start.state, start.state
	found, err := s.withoutErrors(start)
	if err != nil {
		return nil, err
	}
	if len(found) > 0 {
		found, err = s.meeting(found)
	}
	if err != nil {
		return nil, err
	}
	s.conclude(found)
	return s.doc, nil
}

func (s *search) stopped() bool {
	if s.Stop != nil && s.Stop() {
		s.doc.Partial = true
	}
	return s.doc.Partial
}

// look analyses a model; nothing is simulated yet.
func (s *search) look(g *graph.Graph, changes []remedy.Remedy) *candidate {
	s.doc.Tried++
	if s.Progress != nil {
		s.Progress(s.doc.Tried)
	}
	c := &candidate{graph: g, changes: changes, errors: map[string]bool{}}
	c.check = s.check(g)
	for _, f := range c.check.Findings {
		if f.Accepted == nil && f.Severity == check.Error {
			c.errors[f.ID] = true
		}
	}
	c.state = State{Errors: len(c.errors), Warnings: c.check.Summary.Warnings, Fails: []string{}}
	if c.check.Cost != nil {
		month := c.check.Cost.Month
		c.state.CostMonth = &month
	}
	for name, e := range c.check.Entries {
		if rate := c.check.Capacity[name].Rate; rate != nil && e.LossProbability != nil && e.Parked != nil {
			c.state.harm += *rate * (*e.LossProbability + *e.Parked)
		}
	}
	return c
}

// with returns a candidate with one more change, nil where it cannot be applied or the
// same set has been looked at.
func (s *search) with(c *candidate, change remedy.Remedy) *candidate {
	says := []string{change.Say}
	for _, r := range c.changes {
		says = append(says, r.Say)
	}
	slices.Sort(says)
	key := strings.Join(says, "\n")
	if s.seen[key] || len(slices.Compact(says)) <= len(c.changes) {
		return nil
	}
	s.seen[key] = true
	g, err := change.Apply(c.graph)
	if err != nil {
		return nil
	}
	return s.look(g, append(slices.Clone(c.changes), change))
}

// withoutErrors returns the smallest sets of remedies that leave no error. Each set has
// to remove the first error that is left, so the search branches on what removes it:
// with any one of its remedies, or of those of findings about the same nodes.
func (s *search) withoutErrors(start *candidate) ([]*candidate, error) {
	for most := 0; most <= s.Most; most++ {
		clear(s.seen)
		var found []*candidate
		var extend func(c *candidate, left int)
		extend = func(c *candidate, left int) {
			if len(c.errors) == 0 {
				found = append(found, c)
				return
			}
			if left == 0 || len(found) >= mostSolutions || s.stopped() {
				return
			}
			target := firstError(c)
			solved := false
			for _, r := range remediesNear(c, target) {
				next := s.with(c, r)
				solved = solved || next == nil // it has been looked at with other changes
				if next == nil || next.errors[target.ID] || bringsErrors(c, next) {
					continue
				}
				solved = true
				extend(next, left-1)
			}
			if says := target.Code + " " + target.Message; !solved && !slices.Contains(s.doc.Unsolved, says) {
				s.doc.Unsolved = append(s.doc.Unsolved, says)
			}
		}
		extend(start, most)
		if len(found) > 0 || s.doc.Partial {
			s.doc.Unsolved = []string{} // there is another way
			return found, nil
		}
	}
	return nil, nil
}

func firstError(c *candidate) *check.Finding {
	for i := range c.check.Findings {
		if f := &c.check.Findings[i]; c.errors[f.ID] {
			return f
		}
	}
	return nil
}

func bringsErrors(before, after *candidate) bool {
	for id := range after.errors {
		if !before.errors[id] {
			return true
		}
	}
	return false
}

// remediesNear lists the remedies of a finding, and of others about its nodes or links.
func remediesNear(c *candidate, target *check.Finding) []remedy.Remedy {
	out := slices.Clone(target.Remedies)
	touches := func(f *check.Finding) bool {
		return slices.ContainsFunc(f.Nodes, func(n string) bool { return slices.Contains(target.Nodes, n) }) ||
			slices.ContainsFunc(f.Links, func(l string) bool { return slices.Contains(target.Links, l) })
	}
	for i := range c.check.Findings {
		if f := &c.check.Findings[i]; f.ID != target.ID && touches(f) {
			out = append(out, f.Remedies...)
		}
	}
	return out
}

// simulate runs the scenarios of a candidate, with one replication each to tell it from
// others, or with all.
func (s *search) simulate(c *candidate, all bool) error {
	if c.results != nil && (c.full || !all) {
		return nil
	}
	c.results, c.full = []*study.Document{}, all
	c.state.Fails, c.state.misses, c.state.Lost, c.state.Parked = []string{}, 0, 0, 0
	for k := range s.Scenarios {
		p := s.Scenarios[k]
		p.Graph, p.Progress = c.graph, nil
		p.Stop = func() string {
			if s.Stop != nil && s.Stop() {
				return "an interruption"
			}
			return ""
		}
		if !all {
			one := *p.Scenario
			one.Replications = 1
			p.Scenario = &one
		}
		doc, err := study.Run(p)
		if err != nil {
			return fmt.Errorf("scenario %s: %w", p.Scenario.Name, err)
		}
		s.runs++
		c.results = append(c.results, doc)
		c.state.Lost += doc.Ledger.Lost["total"]
		c.state.Parked += doc.Ledger.Parked
		for _, name := range sortedKeys(doc.Expect) {
			if x := doc.Expect[name]; !x.Holds {
				c.state.Fails = append(c.state.Fails, doc.Scenario+": "+name)
				c.state.misses += doc.Replications - x.HoldsIn
			}
		}
	}
	return nil
}

// meeting extends candidates without an error until the scenarios' expectations hold.
// If none of them meets them as it is, those that come nearest grow by every change that
// brings them nearer, and are then pruned of what proves not to be needed.
func (s *search) meeting(found []*candidate) ([]*candidate, error) {
	var met []*candidate
	keep := func(c *candidate) error {
		err := s.simulate(c, true)
		if err == nil && len(c.state.Fails) == 0 && !s.stopped() {
			met = append(met, c)
		}
		return err
	}
	for _, c := range found {
		if err := keep(c); err != nil {
			return nil, err
		}
	}
	least := len(found[0].changes)
	s.doc.Smallest = len(found) < mostSolutions
	slices.SortStableFunc(found, nearer)
	s.doc.After, s.doc.Changes = found[0].state, found[0].changes
	if len(met) > 0 || s.stopped() {
		return met, nil
	}
	for _, c := range found[:min(len(found), beam)] {
		grown, err := s.grow(c)
		if err != nil {
			return nil, err
		}
		if err := s.simulate(grown, true); err != nil {
			return nil, err
		}
		if nearer(grown, &candidate{state: s.doc.After}) < 0 {
			s.doc.After, s.doc.Changes = grown.state, grown.changes
		}
		if len(grown.state.Fails) > 0 || s.stopped() {
			continue
		}
		if grown, err = s.prune(grown); err != nil {
			return nil, err
		}
		if err := keep(grown); err != nil {
			return nil, err
		}
	}
	if len(met) > 0 { // sets of the least size have all been tried, larger ones not
		size := len(slices.MinFunc(met, bySize).changes)
		met = slices.DeleteFunc(met, func(c *candidate) bool { return len(c.changes) > size })
		s.doc.Smallest = s.doc.Smallest && size <= least+1
	}
	return met, nil
}

func bySize(x, y *candidate) int { return cmp.Compare(len(x.changes), len(y.changes)) }

// grow adds changes to a candidate as long as they bring it nearer: in each round every
// change is tried alone, and those that help are added one after the other, the best
// first.
func (s *search) grow(c *candidate) (*candidate, error) {
	if err := s.simulate(c, true); err != nil {
		return nil, err
	}
	for {
		base := *c
		base.results = nil
		if err := s.simulate(&base, false); err != nil {
			return nil, err
		}
		var helpful []*candidate
		for _, r := range s.further(c) {
			if s.runs >= s.Runs || len(c.changes) >= s.Most || s.stopped() {
				break
			}
			n := s.with(c, r)
			if n == nil || len(n.errors) > 0 {
				continue
			}
			if err := s.simulate(n, false); err != nil {
				return nil, err
			}
			if nearer(n, &base) < 0 {
				helpful = append(helpful, n)
			}
		}
		if len(helpful) == 0 {
			return c, nil
		}
		slices.SortStableFunc(helpful, nearer)
		best := helpful[0]
		for _, h := range helpful[1:] {
			if best.state.misses == 0 && best.state.Lost == 0 || len(best.changes) >= s.Most || s.stopped() {
				break
			}
			n := s.with(best, h.changes[len(h.changes)-1])
			if n == nil || len(n.errors) > 0 {
				continue
			}
			if err := s.simulate(n, false); err != nil {
				return nil, err
			}
			if nearer(n, best) < 0 {
				best = n
			}
		}
		c = best
		if err := s.simulate(c, true); err != nil {
			return nil, err
		}
		if len(c.state.Fails) == 0 {
			return c, nil
		}
	}
}

// prune drops every change without which a candidate still has no error and meets all
// expectations, the latest first.
func (s *search) prune(c *candidate) (*candidate, error) {
	for k := len(c.changes) - 1; k >= 0; k-- {
		if s.stopped() {
			break
		}
		fewer := &candidate{graph: s.Graph}
		for i, r := range c.changes {
			if i == k {
				continue
			}
			g, err := r.Apply(fewer.graph)
			if err != nil {
				fewer = nil
				break
			}
			fewer = &candidate{graph: g, changes: append(slices.Clone(fewer.changes), r)}
		}
		if fewer == nil {
			continue
		}
		fewer = s.look(fewer.graph, fewer.changes)
		if len(fewer.errors) > 0 {
			continue
		}
		if err := s.simulate(fewer, true); err != nil {
			return nil, err
		}
		if len(fewer.state.Fails) == 0 {
			c = fewer
		}
	}
	return c, nil
}

// nearer orders candidates by what is left to do.
func nearer(x, y *candidate) int {
	return cmp.Or(
		cmp.Compare(x.state.misses, y.state.misses),
		cmp.Compare(x.state.Lost, y.state.Lost),
		cmp.Compare(x.state.Parked, y.state.Parked),
		cmp.Compare(x.state.Warnings, y.state.Warnings),
	)
}

// conclude picks the plan that loses least, then parks least, then costs least, and
// lists what is cheaper or loses less beside it.
func (s *search) conclude(met []*candidate) {
	if len(met) == 0 {
		s.doc.Smallest = false
		return
	}
	cost := func(c *candidate) float64 {
		if c.state.CostMonth == nil {
			return 0
		}
		return *c.state.CostMonth
	}
	slices.SortStableFunc(met, func(x, y *candidate) int {
		return cmp.Or(cmp.Compare(x.state.Lost, y.state.Lost), cmp.Compare(x.state.Parked, y.state.Parked),
			cmp.Compare(x.state.harm, y.state.harm), cmp.Compare(x.state.Warnings, y.state.Warnings),
			cmp.Compare(cost(x), cost(y)))
	})
	best := met[0]
	s.doc.Met, s.doc.Changes, s.doc.After = true, best.changes, best.state
	if s.doc.Changes == nil {
		s.doc.Changes = []remedy.Remedy{}
	}
	least := cost(best)
	for _, c := range met[1:] { // in the order of what they lose: each has to cost less than those before
		if cost(c) < least*(1-1e-9) {
			least = cost(c)
			s.doc.Alternatives = append(s.doc.Alternatives,
				Alternative{c.changes, c.state.CostMonth, c.state.Lost, c.state.Parked})
		}
	}
}
