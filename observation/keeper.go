package observation

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"ironweir/core/graph"
	"ironweir/core/learn"
	"ironweir/core/model"
	"ironweir/store"
)

// Kinds of drift that are no numbers; those that are bear the number's name.
const (
	node    = "node"    // observed, and not in the model
	link    = "link"    // observed, and not in the model
	stopped = "stopped" // no longer observed
)

// How often a keeper looks, how far back it looks for what has stopped, and how much of a thing would have to be
// expected in the day for its absence to be no accident: with 20 expected, chance alone leaves none once in 5e8 days.
const (
	every        = 20 * time.Second
	before       = 7 * 24 * time.Hour
	leastMissing = 20
)

// Keeper sums traces up, notes drifts and sends them to webhooks. Any number of them, in any number of processes,
// share a database.
type Keeper struct {
	Store *store.Store
	Log   *slog.Logger
	Quiet time.Duration // how long nothing of a trace has come before it is summed up; 0: two minutes
	Every time.Duration // how often it looks; 0: every 20 seconds
	Work  Work
}

// Work is how a keeper computes.
type Work interface {
	SumUp(context.Context, *Unsummed) (*Summed, error)
	Drifts(context.Context, *Past) ([]Difference, error)
}

// Unsummed are traces, as they are kept, and the summary of their hour; nil: it has none yet.
type Unsummed struct {
	Summary []byte
	Traces  [][]byte
}

// Summed is the summary of an hour, of so many spans of so many traces.
type Summed struct {
	Summary       []byte
	Spans, Traces int
}

// Past is a model's text with the summaries of the hours of a day, and of those of the week before.
type Past struct {
	Text         string
	Earlier, Day [][]byte
}

// Difference is a drift that is there now.
type Difference struct {
	What, Subject string
	Numbers       json.RawMessage // a learn.Difference; an object without fields: it is not of a number
}

// Run keeps until ctx ends.
func (k *Keeper) Run(ctx context.Context) {
	if k.Quiet == 0 {
		k.Quiet = quiet
	}
	if k.Every == 0 {
		k.Every = every
	}
	var both sync.WaitGroup
	both.Go(func() { k.repeat(ctx, "what was observed could not be summed up", k.sumUp) })
	both.Go(func() { k.repeat(ctx, "drift could not be sent", k.send) }) // a slow webhook holds up nothing else
	both.Wait()
}

// repeat does something again and again until ctx ends; a fault of it is an error like others.
func (k *Keeper) repeat(ctx context.Context, trouble string, do func(context.Context) error) {
	guarded := func() (err error) {
		defer func() {
			if r := recover(); r != nil {
				err = fmt.Errorf("a fault: %v", r)
			}
		}()
		return do(ctx)
	}
	tick := time.NewTicker(k.Every)
	defer tick.Stop()
	for {
		if err := guarded(); err != nil && ctx.Err() == nil {
			k.Log.Warn(trouble, "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// sumUp sums up what is ripe, and notes the drift of the models whose sums or text have changed.
func (k *Keeper) sumUp(ctx context.Context) error {
	ids, err := k.Store.Ripe(ctx, manyWaiting, k.Quiet)
	if err != nil {
		return err
	}
	for _, id := range ids {
		for more := true; more && ctx.Err() == nil; {
			if more, err = k.Store.SumUp(ctx, id, manyWaiting, mostOpen, k.Quiet, k.add); err != nil {
				return err
			}
		}
	}
	changed, err := k.Store.Outdated(ctx)
	if err != nil {
		return err
	}
	for _, id := range slices.Compact(slices.Sorted(slices.Values(append(ids, changed...)))) {
		if err := k.note(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

// add adds traces to the summary of their hour.
func (k *Keeper) add(ctx context.Context, summary []byte, traces [][]byte) (*store.ObservedHour, error) {
	sum, err := k.Work.SumUp(ctx, &Unsummed{summary, traces})
	if err != nil {
		return nil, err
	}
	return &store.ObservedHour{Summary: sum.Summary, Spans: int64(sum.Spans), Traces: int64(sum.Traces)}, nil
}

// SumUp adds traces to the summary of their hour.
func SumUp(of *Unsummed) (*Summed, error) {
	var before [][]byte
	if of.Summary != nil {
		before = append(before, of.Summary)
	}
	parts, err := summaries(before)
	if err != nil {
		return nil, err
	}
	list, err := unpackAll(of.Traces)
	if err != nil {
		return nil, err
	}
	hour := learn.Together(append(parts, learn.Observe(list).Summary())...).Summary()
	packed, err := pack(hour)
	return &Summed{packed, hour.Spans, hour.Traces}, err
}

// note compares a model with the latest day of its system, and notes what differs for sure.
func (k *Keeper) note(ctx context.Context, id int64) error {
	latest, _, err := k.Store.LatestObserved(ctx, id)
	if err != nil {
		return err
	}
	since := latest.Add(time.Hour - Window)
	hours, err := k.Store.ObservedHours(ctx, id, since.Add(-before), true)
	if err != nil {
		return err
	}
	first := slices.IndexFunc(hours, func(h store.ObservedHour) bool { return !h.Hour.Before(since) })
	if first < 0 { // it was removed meanwhile
		return k.Store.Compared(ctx, id, 0)
	}
	past := &Past{Earlier: summariesOf(hours[:first]), Day: summariesOf(hours[first:])}
	if len(past.Day) == 0 {
		return k.Store.Compared(ctx, id, 0)
	}
	revision, err := k.Store.RevisionOf(ctx, id, 0)
	if errors.Is(err, store.ErrNotFound) {
		return nil // it was removed meanwhile
	}
	if err != nil {
		return err
	}
	past.Text = revision.Text
	found, err := k.Work.Drifts(ctx, past)
	if errors.Is(err, ErrUnread) { // which says nothing about the system
		return k.Store.Compared(ctx, id, revision.Number)
	}
	if err != nil {
		return err
	}
	drifts := make([]store.Drift, len(found))
	for i, d := range found {
		drifts[i] = store.Drift{What: d.What, Subject: d.Subject, Numbers: d.Numbers}
	}
	return k.Store.KeepDrifts(ctx, id, revision.Number, drifts)
}

// ErrUnread says that a model's text cannot be read.
var ErrUnread = errors.New("the model cannot be read")

// Drifts lists where a model and the hours of a day differ for sure, and what has stopped since the hours before.
func Drifts(of *Past) ([]Difference, error) {
	t, err := model.Parse("model.yaml", []byte(of.Text), model.Options{})
	if err == nil {
		_, err = graph.Compile(t)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnread, err)
	}
	earlier, err := summaries(of.Earlier)
	if err != nil {
		return nil, err
	}
	day, err := summaries(of.Day)
	if err != nil {
		return nil, err
	}
	seen := learn.Together(day...)
	sure := seen.SureDrift(t)
	out := []Difference{}
	note := func(what, subject string) {
		out = append(out, Difference{What: what, Subject: subject, Numbers: json.RawMessage("{}")})
	}
	for _, name := range sure.Unmodelled.Nodes {
		note(node, name)
	}
	for _, name := range sure.Unmodelled.Links {
		note(link, name)
	}
	for _, name := range missing(t, earlier, seen, len(day)) {
		note(stopped, name)
	}
	for _, d := range sure.Different {
		numbers, err := json.Marshal(d)
		if err != nil {
			return nil, err
		}
		out = append(out, Difference{What: d.What, Subject: d.Node, Numbers: numbers})
	}
	return out, nil
}

// missing lists the nodes, and the links between others, of which nothing was seen in a day though much was to be
// expected after what was seen in the hours before.
func missing(t *model.Topology, earlier []*learn.Summary, day *learn.Observed, hours int) (out []string) {
	past := learn.Together(earlier...)
	names := past.Names(t)
	enough := func(seen int) bool {
		return float64(seen)*float64(hours) >= leastMissing*float64(len(earlier))
	}
	for name, n := range past.Nodes {
		if day.Nodes[name] == nil && enough(max(n.Runs, messagesOf(past, name))) {
			out = append(out, names[name])
		}
	}
	for key, l := range past.Links {
		if day.Links[key] == nil && day.Nodes[key.From] != nil && day.Nodes[key.To] != nil && enough(l.Messages) {
			out = append(out, names[key.From]+":"+names[key.To])
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// messagesOf counts the messages that were seen to come to a node or to leave it.
func messagesOf(o *learn.Observed, name string) (most int) {
	in, away := 0, 0
	for key, l := range o.Links {
		if key.To == name {
			in += l.Messages
		}
		if key.From == name {
			away += l.Messages
		}
	}
	return max(in, away)
}
