package study

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironweir/core/document"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// CheckExpectations reports the expectations that name something which no result of the
// model has, with the nearest name that it does have, before anything is simulated. What
// it reports are model.Problems, each at its place in the scenario.
func CheckExpectations(g *graph.Graph, s *model.Scenario, inputs sim.Inputs) error {
	if len(s.Expect) == 0 {
		return nil
	}
	result, err := sim.Run(sim.Plan{Graph: g, Scenario: s, Inputs: inputs, Limits: sim.Limits{Events: 1}})
	if err != nil {
		return err
	}
	doc := merge(g, s, []*sim.Result{result}, document.Head{}, true)
	doc.Expect = nil
	shape, err := plain(doc)
	if err != nil {
		return err
	}
	var problems model.Problems
	for _, x := range s.Expect {
		if said := unnamed(x.Expression, shape, g); said != "" {
			message := fmt.Sprintf("`%s`: %s", x.Expression, said)
			problems = append(problems, model.Problem{Position: x.At, Path: "expect." + x.Name, Message: message})
		}
	}
	if len(problems) > 0 {
		return problems
	}
	return nil
}

// unnamed says what an expression names that no result has; empty: nothing.
func unnamed(expression string, shape any, g *graph.Graph) string {
	j, err := expr.CompileJudgement(expression)
	if err != nil {
		return err.Error()
	}
	for _, p := range j.Paths() {
		if p.Probe {
			continue
		}
		if said := missing(shape, p.Steps, g); said != "" {
			return said
		}
	}
	return ""
}

// renamed are names of earlier versions, with what they are called now.
var renamed = map[string]string{"damaged": "failed", "open": "in_flight"}

// perhaps are fields that a result has only where something has been counted.
var perhaps = []string{"answers", "failed_by", "deduplicated", "stopped", "warm_up_s"}

// missing says which step of a path no result has; empty: each may be there.
func missing(at any, steps []string, g *graph.Graph) string {
	for k, step := range steps {
		here, ok := at.(map[string]any)
		if !ok || slices.Contains(perhaps, step) {
			return "" // a number, a list, or nothing that could be known before
		}
		next, there := here[step]
		if there {
			at = next
			continue
		}
		where := strings.Join(append([]string{"run"}, steps[:k]...), ".")
		if k == 1 && steps[0] == "latency" {
			from, to, both := strings.Cut(step, ":")
			if !both {
				return fmt.Sprintf("%s has keys of the form FROM:TO, not %q", where, step)
			}
			for _, name := range []string{from, to} {
				if g.NodeID(name) == graph.None {
					return fmt.Sprintf("no node %q%s", name, model.DidYouMean(name, g.Topology.NodeNames()))
				}
			}
			return ""
		}
		if now := renamed[step]; now != "" {
			return fmt.Sprintf("%s has no %q; it is called %q now", where, step, now)
		}
		names := slices.Sorted(maps.Keys(here))
		hint := model.DidYouMean(step, names)
		if hint == "" && len(names) <= 30 {
			hint = "; it has " + strings.Join(names, ", ")
		}
		return fmt.Sprintf("%s has no %q%s", where, step, hint)
	}
	return ""
}
