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

// Evidence is what is kept of a model's system in the latest day with traces, as it is kept.
type Evidence struct {
	Hours [][]byte // the summaries of hours
	Open  [][]byte // traces that are not summed up yet
}

// Seen is a model beside the evidence.
type Seen struct {
	verify.Comparison
	From    *time.Time     `json:"from" doc:"of the first span; null: nothing was observed"`
	Until   *time.Time     `json:"until"`
	Spans   int            `json:"spans"`
	Traces  int            `json:"traces"`
	Skipped map[string]int `json:"skipped" doc:"spans that were not used, by reason"`
}

// View is a model beside what was observed of its system in the latest day with traces.
type View struct {
	Seen
	Waiting  int64                `json:"waiting" doc:"spans that are not summed up yet"`
	Hours    []store.ObservedHour `json:"hours" doc:"of the day, those that are summed up"`
	Findings []Finding            `json:"findings" doc:"where model and system differ for sure, with when: those that last, then those that ended, the latest first"`
	Webhook  string               `json:"webhook" doc:"where findings are sent; empty: nowhere, or not for a viewer to see"`
}

// Finding is a drift with its numbers, in words.
type Finding struct {
	store.Drift
	Difference *learn.Difference `json:"difference" doc:"null: the drift is not of a number"`
	Says       string            `json:"says"`
}

// Compare gives a model beside the evidence.
func Compare(g *graph.Graph, e *Evidence) (*Seen, error) {
	parts, err := summaries(e.Hours)
	if err != nil {
		return nil, err
	}
	open, err := unpackAll(e.Open)
	if err != nil {
		return nil, err
	}
	if len(open) > 0 {
		parts = append(parts, learn.Observe(open).Summary())
	}
	seen := learn.Together(parts...)
	out := &Seen{
		Comparison: verify.Compare(g, seen, time.Now()),
		Spans:      seen.Spans, Traces: seen.Traces, Skipped: seen.Skipped,
	}
	if seen.Spans > 0 {
		from, until := time.Unix(0, seen.From).UTC(), time.Unix(0, seen.Until).UTC()
		out.From, out.Until = &from, &until
	}
	return out, nil
}

// Look gives what is kept of a model's system; compare sets the evidence beside the model.
func Look(ctx context.Context, s *store.Store, m *store.Model, compare func(*Evidence) (*Seen, error)) (*View, error) {
	latest, waiting, err := s.LatestObserved(ctx, m.ID)
	if err != nil {
		return nil, err
	}
	since := latest.Add(time.Hour - Window)
	hours, err := s.ObservedHours(ctx, m.ID, since, true)
	if err != nil {
		return nil, err
	}
	open, err := s.WaitingTraces(ctx, m.ID, since, mostOpen)
	if err != nil {
		return nil, err
	}
	seen, err := compare(&Evidence{summariesOf(hours), open})
	if err != nil {
		return nil, err
	}
	out := &View{Seen: *seen, Waiting: waiting, Hours: hours, Findings: []Finding{}, Webhook: m.Webhook}
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
