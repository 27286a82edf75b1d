// Package observation keeps what was observed of the systems that models are of: traces are taken in, summed up by the
// hour, and compared with the model; where both drift apart, that is noted with its history, and sent to a webhook.
package observation

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"ironweir/core/learn"
	"ironweir/formats/otlp"
	"ironweir/store"
)

// Bounds of what waits to be summed up, by model.
const (
	mostWaiting = 200_000 // spans; those beyond are counted and refused
	manyWaiting = 20_000  // spans; from here on, traces are summed up before their hour is over
	quiet       = 2 * time.Minute
)

// Bounds of the texts of a span, in bytes: what spans unpack to is bounded by their number, then. Longer attributes,
// such as statements and stack traces, say nothing of who sends what to whom, and are left out.
const (
	longestValue = 1 << 10
	longestSpan  = 8 << 10
)

// Bounds of the time of spans: exporters whose clocks are wrong would begin hours that never end.
const (
	mostAhead = time.Hour
	mostAge   = 400 * 24 * time.Hour
)

// Keep takes spans of a model's system in. It says how many it refuses, and why.
func Keep(
	ctx context.Context, s *store.Store, m *store.Model, spans []learn.Span,
) (refused int64, why string, err error) {
	now := time.Now()
	oldest, latest := now.Add(-mostAge).UnixNano(), now.Add(mostAhead).UnixNano()
	byTrace, wrong, long := map[string][]learn.Span{}, int64(0), int64(0)
	for _, x := range spans {
		if x.Start < oldest || x.End > latest || x.End < x.Start {
			wrong++
			continue
		}
		if shorten(&x) > longestSpan {
			long++
			continue
		}
		byTrace[x.Trace] = append(byTrace[x.Trace], x)
	}
	var traces []store.ObservedTrace
	for _, id := range slices.Sorted(maps.Keys(byTrace)) {
		list := byTrace[id]
		began := list[0].Start
		for _, x := range list {
			began = min(began, x.Start)
		}
		packed, err := pack(list)
		if err != nil {
			return 0, "", err
		}
		traces = append(traces,
			store.ObservedTrace{Trace: id, Began: time.Unix(0, began), Spans: len(list), Packed: packed})
	}
	if len(traces) > 0 {
		if refused, err = s.KeepTraces(ctx, m, traces, mostWaiting); err != nil {
			return 0, "", err
		}
	}
	if len(traces) > 0 && refused > 0 && refused+wrong+long == int64(len(spans)) {
		return 0, "", &otlp.Busy{Seconds: 60, Why: fmt.Sprintf(
			"%d spans wait to be summed up, the most that may; send fewer, or a sample", mostWaiting)}
	}
	if refused > 0 {
		why = fmt.Sprintf("at most %d spans wait to be summed up", mostWaiting)
	}
	if long > 0 {
		refused += long
		why = fmt.Sprintf("%d spans hold more than %d bytes of names, ids and attributes", long, longestSpan)
	}
	if wrong > 0 {
		refused += wrong
		why = fmt.Sprintf("%d spans end before they start, over an hour from now, or started over 400 days ago", wrong)
	}
	return refused, why, nil
}

// shorten leaves out attributes that are too long, and gives the size of the texts that are left, in bytes.
func shorten(x *learn.Span) (size int) {
	kept := make(map[string]string, len(x.Attributes))
	for name, value := range x.Attributes {
		if len(name)+len(value) <= longestValue {
			kept[name] = value
			size += len(name) + len(value)
		}
	}
	x.Attributes = kept
	for _, l := range x.Links {
		size += len(l.Trace) + len(l.ID)
	}
	return size + len(x.Trace) + len(x.ID) + len(x.Parent) + len(x.Service) + len(x.Name) + len(x.Error)
}

// pack makes spans small.
func pack(spans any) ([]byte, error) {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	if err := json.NewEncoder(z).Encode(spans); err != nil {
		return nil, err
	}
	err := z.Close()
	return out.Bytes(), err
}

// unpack reads what pack has made.
func unpack(packed []byte, into any) error {
	z, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return err
	}
	text, err := io.ReadAll(z)
	if err != nil {
		return err
	}
	return json.Unmarshal(text, into)
}

// unpackAll reads the spans of several traces.
func unpackAll(packed [][]byte) (spans []learn.Span, err error) {
	for _, p := range packed {
		var some []learn.Span
		if err := unpack(p, &some); err != nil {
			return nil, fmt.Errorf("kept spans: %w", err)
		}
		spans = append(spans, some...)
	}
	return spans, nil
}

// summariesOf gives the summaries of hours, as they are kept.
func summariesOf(hours []store.ObservedHour) (out [][]byte) {
	for _, h := range hours {
		if h.Summary != nil {
			out = append(out, h.Summary)
		}
	}
	return out
}

// summaries reads the summaries of hours.
func summaries(packed [][]byte) (out []*learn.Summary, err error) {
	for _, p := range packed {
		s := &learn.Summary{}
		if err := unpack(p, s); err != nil {
			return nil, fmt.Errorf("the summary of an hour: %w", err)
		}
		out = append(out, s)
	}
	return out, nil
}
