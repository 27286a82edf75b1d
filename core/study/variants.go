package study

import (
	"fmt"
	"strings"

	"ironweir/core/document"
	"ironweir/core/sim"
)

// Variant is one of several models that are run side by side. The first is the
// one that the others are compared with.
type Variant struct {
	Name string
	Plan Plan
}

// Variants is the result of several models side by side.
type Variants struct {
	document.Head
	Base        string                `json:"base"`
	Variants    map[string]*Document  `json:"variants"`
	Differences map[string]Difference `json:"differences"` // by VARIANT.PATH of a number: variant minus base
}

// Difference is a number's mean change over the replications. The same luck
// meets each variant, so differences are taken replication by replication.
type Difference struct {
	Mean float64  `json:"mean"`
	CI   Interval `json:"ci"`
}

// RunVariants runs models side by side with common random numbers.
func RunVariants(variants []Variant, progress func(share float64)) (*Variants, error) {
	results := make([][]*sim.Result, len(variants))
	for i, v := range variants {
		p := v.Plan
		if progress != nil {
			p.Progress = func(share float64) { progress((float64(i) + share) / float64(len(variants))) }
		}
		var err error
		if results[i], err = p.simulate(); err != nil {
			return nil, fmt.Errorf("variant %s: %w", v.Name, err)
		}
	}
	return MergeVariants(variants, results)
}

// MergeVariants puts the replications of models side by side: one list for each
// variant, in order. Replications that a run was stopped before are left out.
func MergeVariants(variants []Variant, replications [][]*sim.Result) (*Variants, error) {
	out := &Variants{
		Head:        variants[0].Plan.Head,
		Base:        variants[0].Name,
		Variants:    map[string]*Document{},
		Differences: map[string]Difference{},
	}
	var base []map[string]float64
	for i, v := range variants {
		if out.Variants[v.Name] != nil {
			return nil, fmt.Errorf("two variants are named %q", v.Name)
		}
		p, results := v.Plan, replications[i]
		doc, err := p.Merge(results)
		if err != nil {
			return nil, fmt.Errorf("variant %s: %w", v.Name, err)
		}
		doc.Variant = v.Name
		out.Variants[v.Name] = doc
		numbers, err := p.numbers(results)
		if err != nil {
			return nil, err
		}
		if i == 0 {
			base = numbers
			continue
		}
		differences(out.Differences, v.Name, base, numbers)
	}
	return out, nil
}

// numbers gives the numbers of each replication by path.
func (p *Plan) numbers(results []*sim.Result) ([]map[string]float64, error) {
	var out []map[string]float64
	for _, r := range results {
		one, err := plain(merge(p.Graph, p.Scenario, []*sim.Result{r}, p.Head, false))
		if err != nil {
			return nil, err
		}
		out = append(out, Numbers(one))
	}
	return out, nil
}

// notCompared are the parts of a document that say nothing about the model.
var notCompared = map[string]bool{
	"engine":          true,
	"series":          true,
	"per_replication": true,
	"seed":            true,
	"replications":    true,
	"reached_s":       true,
	"length_s":        true,
	"warm_up_s":       true,
}

// Numbers gives the numbers of a plain document by path, with dots between keys.
// Intervals and what says nothing about the model are left out.
func Numbers(doc any) map[string]float64 {
	out := map[string]float64{}
	var walk func(v any, path string, top bool)
	walk = func(v any, path string, top bool) {
		switch t := v.(type) {
		case map[string]any:
			for k, x := range t {
				if top && notCompared[k] || strings.HasSuffix(k, "_ci") || k == "ci" {
					continue
				}
				next := k
				if path != "" {
					next = path + "." + k
				}
				walk(x, next, false)
			}
		case float64:
			out[path] = t
		}
	}
	walk(doc, "", true)
	return out
}

// NumbersOf gives the numbers of a result by path; see Numbers.
func NumbersOf(doc *Document) map[string]float64 {
	v, err := plain(doc)
	if err != nil {
		return nil
	}
	return Numbers(v)
}

// differences adds what differs between two variants in any replication. A
// number that one of them does not have in some replication is left out.
func differences(into map[string]Difference, name string, base, other []map[string]float64) {
	paths := map[string]bool{}
	for path := range other[0] {
		paths[path] = true
	}
	for path := range paths {
		var ds []float64
		differs := false
		for r := range min(len(base), len(other)) {
			a, ok1 := base[r][path]
			b, ok2 := other[r][path]
			if !ok1 || !ok2 {
				ds = nil
				break
			}
			ds = append(ds, b-a)
			differs = differs || a != b
		}
		if differs && ds != nil {
			into[name+"."+path] = Difference{mean(ds), confidence(ds)}
		}
	}
}

// Significant reports whether a difference's interval leaves 0 out; without an
// interval nobody can tell.
func (d Difference) Significant() bool {
	return d.CI != nil && (d.CI[0] > 0 || d.CI[1] < 0)
}
