package study

import (
	"math"

	"ironweir/core/document"
)

// Comparison is what differs between saved results.
type Comparison struct {
	document.Head
	Results     []string               `json:"results"` // their names; the first is compared with
	Same        bool                   `json:"same"`
	Differences map[string]Comparisons `json:"differences"` // by path of a number
}

// Comparisons are the values of one number in each result.
type Comparisons struct {
	Values      []*float64 `json:"values"` // null: a result does not have it
	Significant *bool      `json:"beyond_chance"`
}

// Compare finds the numbers that differ between results, given as plain JSON
// values. Whether a difference is beyond chance is told where both numbers have
// a 95% interval: it is when the intervals do not touch, a cautious rule.
func Compare(head document.Head, names []string, docs []any) *Comparison {
	out := &Comparison{Head: head, Results: names, Differences: map[string]Comparisons{}}
	numbers := make([]map[string]float64, len(docs))
	intervals := make([]map[string][2]float64, len(docs))
	all := map[string]bool{}
	for i, d := range docs {
		numbers[i], intervals[i] = Numbers(d), map[string][2]float64{}
		perReplication(d, numbers[i], intervals[i])
		findIntervals(d, "", intervals[i])
		for path := range numbers[i] {
			all[path] = true
		}
	}
	for path := range all {
		c := Comparisons{}
		differs := false
		for i := range docs {
			v, ok := numbers[i][path]
			if !ok {
				c.Values = append(c.Values, nil)
				differs = true
				continue
			}
			c.Values = append(c.Values, &v)
			first := c.Values[0]
			differs = differs || first == nil || math.Abs(*first-v) > 1e-12*max(math.Abs(*first), math.Abs(v))
		}
		if !differs {
			continue
		}
		base, known := intervals[0][path]
		beyond := false
		for i := 1; i < len(docs); i++ {
			other, ok := intervals[i][path]
			known = known && ok
			beyond = beyond || base[0] > other[1] || base[1] < other[0]
		}
		if known {
			c.Significant = &beyond
		}
		out.Differences[path] = c
	}
	out.Same = len(out.Differences) == 0
	return out
}

// perReplication adds the main counts of one replication, in the mean, by which
// results of different numbers of replications can be compared.
func perReplication(doc any, numbers map[string]float64, intervals map[string][2]float64) {
	top, _ := doc.(map[string]any)
	per, _ := top["per_replication"].(map[string]any)
	for name, v := range per {
		spread, _ := v.(map[string]any)
		mean, ok := spread["mean"].(float64)
		if !ok {
			continue
		}
		path := "per_replication." + name
		numbers[path] = mean
		if ci, ok := spread["ci"].([]any); ok && len(ci) == 2 {
			low, _ := ci[0].(float64)
			high, _ := ci[1].(float64)
			intervals[path] = [2]float64{low, high}
		}
	}
}

// findIntervals gives the intervals of a document by the path of the number
// that they belong to; those of the main counts are taken per replication.
func findIntervals(v any, path string, into map[string][2]float64) {
	m, ok := v.(map[string]any)
	if !ok {
		return
	}
	for k, x := range m {
		at := k
		if path != "" {
			at = path + "." + k
		}
		list, isList := x.([]any)
		if len(k) > 3 && k[len(k)-3:] == "_ci" && isList && len(list) == 2 {
			low, ok1 := list[0].(float64)
			high, ok2 := list[1].(float64)
			if ok1 && ok2 {
				into[at[:len(at)-3]] = [2]float64{low, high}
			}
			continue
		}
		findIntervals(x, at, into)
	}
}
