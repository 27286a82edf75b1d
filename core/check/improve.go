package check

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"ironweir/core/check/flow"
	"ironweir/core/check/remedy"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// What is looked at to improve availability: the contributions that lose most of each
// entry's messages, and what is offered of what helps.
const (
	worstBreakdowns = 3
	bestChanges     = 5
)

// improve works out for each entry what single changes would leave of what is lost, or
// parked where nothing is lost: repairs in half the time, twice the tries, `give-up` or
// retention, and a dead-letter queue. Each is applied to a copy of the model, which is
// analysed. In a large model it looks at a part of them.
func improve(a *flow.Analysis, m *flow.Memo) {
	if len(a.Breakers()) == 0 {
		return
	}
	left, cost := proofWork, len(a.Graph.Nodes)+len(a.Graph.Links)
	type answer map[string]flow.Entry
	known := map[string]answer{}
	try := func(r remedy.Remedy) answer {
		after, done := known[r.Say]
		if done {
			return after
		}
		if left -= cost; left >= 0 {
			if g, err := r.Apply(a.Graph); err == nil {
				after = flow.AnalyseSharing(g, a.Scenario, a.Inputs, m).Entries
			}
		}
		known[r.Say] = after
		return after
	}
	for _, i := range a.EntryNodes {
		name := a.Node(i).Name
		v := a.Entries[name].Availability
		if v == nil || v.Lost == nil || *v.Lost+*v.Parked == 0 {
			continue
		}
		for _, r := range changes(a, v) {
			after, ok := try(r)[name]
			if !ok || after.Availability == nil || after.Availability.Lost == nil {
				continue
			}
			now := flow.Improvement{Remedy: r, Lost: *after.Availability.Lost, Parked: *after.Availability.Parked}
			if now.Lost < 0.99**v.Lost || now.Lost <= 1.01**v.Lost && now.Parked < 0.99**v.Parked {
				v.Improvements = append(v.Improvements, now)
			}
		}
		slices.SortStableFunc(v.Improvements, func(x, y flow.Improvement) int {
			return cmp.Or(cmp.Compare(x.Lost, y.Lost), cmp.Compare(x.Parked, y.Parked))
		})
		v.Improvements = v.Improvements[:min(len(v.Improvements), bestChanges)]
	}
}

// changes lists the changes that may help against the worst contributions.
func changes(a *flow.Analysis, v *flow.Availability) []remedy.Remedy {
	var out []remedy.Remedy
	add := func(more ...remedy.Remedy) {
		for _, r := range more {
			if !slices.ContainsFunc(out, func(old remedy.Remedy) bool { return old.Say == r.Say }) {
				out = append(out, r)
			}
		}
	}
	for k := range v.By[:min(len(v.By), worstBreakdowns)] {
		c := &v.By[k]
		if c.Lost+c.Parked == 0 {
			break
		}
		for _, f := range c.Faults {
			add(halfRepair(a, f))
		}
		add(doubled(a, c)...)
		if c.Lost > 0 && (c.Cause == "exhausted" || c.Cause == "given-up") {
			node := a.States.All[c.At].Node
			add(lossRemedies(&Pass{Analysis: a}, &flow.Place{Cause: c.Cause, Node: node, Link: c.Link})...)
		}
	}
	return out
}

// halfRepair halves how long a node or group is down.
func halfRepair(a *flow.Analysis, fault string) remedy.Remedy {
	say := fmt.Sprintf("Halve `breaks.for` of `%s`", fault)
	if b := a.Graph.Topology.GroupBreaks[fault]; b != nil {
		fields := map[string]any{fault: map[string]any{"breaks": map[string]any{"for": half(b.For)}}}
		return remedy.Remedy{Say: say, Patch: map[string]any{"fails-together": fields}}
	}
	b := a.Node(a.Graph.NodeID(fault)).Breaks
	return remedy.Node(say, fault, map[string]any{"breaks": map[string]any{"for": half(b.For)}})
}

// half returns half a time as a patch writes it.
func half(d model.Distribution) any {
	text := func(seconds float64) string {
		return model.FormatDuration(time.Duration(math.Round(seconds * 1e9 / 2)))
	}
	switch d.Dist {
	case "exponential":
		return text(d.Mean)
	case "uniform":
		return map[string]any{"min": text(d.Min), "max": text(d.Max)}
	case "lognormal":
		high := d.P50 * math.Exp(d.Sigma*1.6448536269514722)
		return map[string]any{"p50": text(d.P50), "p95": text(high), "p99": nil}
	case "samples":
		values := []any{}
		for _, v := range d.Values {
			values = append(values, text(v))
		}
		return map[string]any{"values": values}
	}
	return map[string]any{"mean": text(d.Mean)}
}

// doubled doubles the field that limits how long messages hold out.
func doubled(a *flow.Analysis, c *flow.Contribution) []remedy.Remedy {
	of, field := c.Limit, ""
	if at := strings.IndexByte(c.Limit, ' '); at >= 0 {
		of, field = c.Limit[:at], c.Limit[at+1:]
	}
	double := func(what string, from, to, patch any) (string, map[string]any) {
		return fmt.Sprintf("Raise `%s` of `%s` from %v to %v", what, of, from, to), map[string]any{what: patch}
	}
	long := func(d int64) string { return model.FormatDuration(time.Duration(d)) }
	var policy *graph.Policy
	link := a.Graph.LinkID(of)
	switch id := a.Graph.NodeID(of); {
	case link != graph.None:
		policy = &a.Link(link).Policy
	case id != graph.None && field == "retention":
		r := int64(a.Node(id).Retention)
		say, fields := double("retention", long(r), long(2*r), long(2*r))
		return []remedy.Remedy{remedy.Node(say, of, fields)}
	case id != graph.None && a.Node(id).Kind.Runs():
		policy = &a.Node(id).Intake
	default:
		return nil
	}
	var say string
	var fields map[string]any
	switch field {
	case "retry", "tries × lease":
		if policy.Tries == 0 {
			return nil
		}
		n := policy.Tries
		say, _ = double("retry.tries", n, 2*n, nil)
		fields = map[string]any{"retry": map[string]any{"tries": 2 * n}}
	case "give-up", "retry give-up":
		say, _ = double("retry.give-up", long(policy.GiveUp), long(2*policy.GiveUp), nil)
		fields = map[string]any{"retry": map[string]any{"give-up": long(2 * policy.GiveUp)}}
	default:
		return nil
	}
	if link != graph.None {
		return []remedy.Remedy{remedy.Link(say, a.Link(link), fields)}
	}
	return []remedy.Remedy{remedy.Node(say, of, fields)}
}
