package rehearsal

import (
	"strings"
	"sync"
	"time"

	"ironweir/core/graph"
	"ironweir/core/learn"
	"ironweir/core/model"
	"ironweir/core/verify"
)

// mostSpans bounds what is kept of the real system's traces: the latest.
const mostSpans = 50_000

// Observed keeps the latest spans of the real system that the model is of. It is
// safe for any number of goroutines.
type Observed struct {
	graph *graph.Graph
	mu    sync.Mutex
	spans []learn.Span
	next  int // where the next one goes, once it is full
	all   int64
}

// Beside is what was observed beside what is modelled.
type Beside struct {
	Spans    int            `json:"spans" doc:"that are looked at: the latest"`
	All      int64          `json:"all" doc:"that have come"`
	Traces   int            `json:"traces"`
	From     *time.Time     `json:"from"`
	Until    *time.Time     `json:"until"`
	Drift    learn.Drift    `json:"drift"`
	Patch    map[string]any `json:"patch" doc:"a merge patch that brings what was observed into the model"`
	Comments []string       `json:"comments" doc:"what the patch changes, and the evidence"`
}

// Add takes spans.
func (o *Observed) Add(spans []learn.Span) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, s := range spans {
		o.all++
		if len(o.spans) < mostSpans {
			o.spans = append(o.spans, s)
			continue
		}
		o.spans[o.next] = s
		o.next = (o.next + 1) % mostSpans
	}
}

// Beside compares the latest spans with the model.
func (o *Observed) Beside() Beside {
	o.mu.Lock()
	spans := append([]learn.Span(nil), o.spans...)
	out := Beside{Spans: len(spans), All: o.all, Patch: map[string]any{}, Comments: []string{}}
	o.mu.Unlock()
	t := o.graph.Topology
	seen := learn.Observe(spans)
	out.Traces, out.Drift = seen.Traces, *seen.Drift(t)
	if len(spans) == 0 {
		return out
	}
	from, until := time.Unix(0, seen.From).UTC(), time.Unix(0, seen.Until).UTC()
	out.From, out.Until = &from, &until
	patch, comments := seen.Update(t, &out.Drift)
	if len(patch.Get("nodes").Fields) > 0 {
		if problems := o.unsound(patch); len(problems) > 0 {
			comments = append(
				[]string{
					"No patch is offered, since it would bring errors of its own: " + strings.Join(problems, "; "),
				},
				comments...)
		} else {
			out.Patch = patch.Plain().(map[string]any)
		}
	}
	out.Comments = append(out.Comments, comments...)
	return out
}

// unsound reports what a patch over the model would make wrong.
func (o *Observed) unsound(patch *model.Value) []string {
	changed, err := o.graph.Topology.Patched(patch)
	if err != nil {
		return []string{err.Error()}
	}
	return verify.Sound(o.graph, changed, time.Now())
}
