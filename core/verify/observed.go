package verify

import (
	"strings"
	"time"

	"ironweir/core/graph"
	"ironweir/core/learn"
)

// Comparison is a model beside what was observed of the system that it is of.
type Comparison struct {
	Drift    learn.Drift    `json:"drift"`
	Numbers  []learn.Number `json:"numbers" doc:"the numbers of the model of which enough was observed"`
	Patch    map[string]any `json:"patch" doc:"a merge patch that brings what was observed into the model"`
	Comments []string       `json:"comments" doc:"what the patch changes, and the evidence"`
}

// Compare compares a model with what was observed. A patch is offered only where it brings the model no error that it
// did not have; else the comments say why there is none.
func Compare(g *graph.Graph, seen *learn.Observed, now time.Time) Comparison {
	out := Comparison{Numbers: []learn.Number{}, Patch: map[string]any{}, Comments: []string{}}
	if seen.Spans == 0 { // nothing was observed, which says nothing of any node
		out.Drift = *learn.NoDrift()
		return out
	}
	out.Drift, out.Numbers = *seen.Drift(g.Topology), seen.Numbers(g.Topology)
	patch, comments := seen.Update(g.Topology, &out.Drift)
	if len(patch.Get("nodes").Fields) > 0 {
		changed, err := g.Topology.Patched(patch)
		var problems []string
		if err != nil {
			problems = []string{err.Error()}
		} else {
			problems = Sound(g, changed, now)
		}
		if len(problems) == 0 {
			out.Patch = patch.Plain().(map[string]any)
		} else {
			out.Comments = append(out.Comments,
				"No patch is offered, since it would bring errors of its own: "+strings.Join(problems, "; "))
		}
	}
	out.Comments = append(out.Comments, comments...)
	return out
}
