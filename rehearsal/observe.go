package rehearsal

import (
	"sync"
	"time"

	"ironweir/core/graph"
	"ironweir/core/learn"
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
	verify.Comparison
	Spans  int        `json:"spans" doc:"that are looked at: the latest"`
	All    int64      `json:"all" doc:"that have come"`
	Traces int        `json:"traces"`
	From   *time.Time `json:"from"`
	Until  *time.Time `json:"until"`
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
	out := Beside{Spans: len(spans), All: o.all}
	o.mu.Unlock()
	seen := learn.Observe(spans)
	out.Traces, out.Comparison = seen.Traces, verify.Compare(o.graph, seen, time.Now())
	if len(spans) > 0 {
		from, until := time.Unix(0, seen.From).UTC(), time.Unix(0, seen.Until).UTC()
		out.From, out.Until = &from, &until
	}
	return out
}
