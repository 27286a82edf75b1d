package observation

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"ironweir/core/graph"
	"ironweir/core/learn"
	"ironweir/core/verify"
	"ironweir/store"
)

// Window is how long back a model is compared with what was observed, from the latest traces on.
const Window = 24 * time.Hour

// mostOpen bounds how many spans that are not summed up yet are looked at.
const mostOpen = 50_000

// mostFindings bounds the history that is shown.
const mostFindings = 200

// View is a model beside what was observed of its system in the latest day with traces.
type View struct {
	verify.Comparison
	From     *time.Time           `json:"from" doc:"of the first span; null: nothing was observed"`
	Until    *time.Time           `json:"until"`
	Spans    int                  `json:"spans"`
	Traces   int                  `json:"traces"`
	Waiting  int64                `json:"waiting" doc:"spans that are not summed up yet"`
	Hours    []store.ObservedHour `json:"hours" doc:"of the day, those that are summed up"`
	Skipped  map[string]int       `json:"skipped" doc:"spans that were not used, by reason"`
	Findings []Finding            `json:"findings" doc:"where model and system differ for sure, with when: those that last, then those that ended, the latest first"`
	Webhook  string               `json:"webhook" doc:"where findings are sent; empty: nowhere, or not for a viewer to see"`
}

// Finding is a drift with its numbers, in words.
type Finding struct {
	store.Drift
	Difference *learn.Difference `json:"difference" doc:"null: the drift is not of a number"`
	Says       string            `json:"says"`
}

// Look gives a model beside what was observed; g is the revision that it is compared with.
func Look(ctx context.Context, s *store.Store, m *store.Model, g *graph.Graph) (*View, error) {
	latest, waiting, err := s.LatestObserved(ctx, m.ID)
	if err != nil {
		return nil, err
	}
	since := latest.Add(time.Hour - Window)
	hours, err := s.ObservedHours(ctx, m.ID, since, true)
	if err != nil {
		return nil, err
	}
	parts, err := summaries(hours)
	if err != nil {
		return nil, err
	}
	packed, err := s.WaitingTraces(ctx, m.ID, since, mostOpen)
	if err != nil {
		return nil, err
	}
	open, err := unpackAll(packed)
	if err != nil {
		return nil, err
	}
	if len(open) > 0 {
		parts = append(parts, learn.Observe(open).Summary())
	}
	seen := learn.Together(parts...)
	out := &View{
		Comparison: verify.Compare(g, seen, time.Now()),
		Spans:      seen.Spans, Traces: seen.Traces, Waiting: waiting, Hours: hours, Skipped: seen.Skipped,
		Findings: []Finding{}, Webhook: m.Webhook,
	}
	if seen.Spans > 0 {
		from, until := time.Unix(0, seen.From).UTC(), time.Unix(0, seen.Until).UTC()
		out.From, out.Until = &from, &until
	}
	drifts, err := s.Drifts(ctx, m.ID, mostFindings)
	if err != nil {
		return nil, err
	}
	for _, d := range drifts {
		f, err := find(d)
		if err != nil {
			return nil, err
		}
		out.Findings = append(out.Findings, f)
	}
	return out, nil
}

// find puts a drift in words.
func find(d store.Drift) (Finding, error) {
	f := Finding{Drift: d}
	switch d.What {
	case node:
		f.Says = d.Subject + " was observed, and is not in the model"
	case link:
		f.Says = "the link " + d.Subject + " was observed, and is not in the model"
	case stopped:
		f.Says = "nothing has been observed of " + d.Subject + " for a day, though there was much in the week before"
	default:
		f.Difference = &learn.Difference{}
		if err := json.Unmarshal(d.Numbers, f.Difference); err != nil {
			return f, fmt.Errorf("drift %d: %w", d.ID, err)
		}
		f.Says = f.Difference.String()
	}
	return f, nil
}
