package learn

import (
	"cmp"
	"hash/fnv"
	"maps"
	"slices"
	"sort"
)

// Summary is what was observed in a while, small enough to be kept for years: counts and moments are exact; of single
// values (times of runs, keys, instants) a few are kept, spread evenly over what there was.
type Summary struct {
	Spans       int               `json:"spans"`
	Traces      int               `json:"traces"`
	Skipped     map[string]int    `json:"skipped"`
	From        int64             `json:"from"` // of the first and the last span, nanoseconds since 1970
	Until       int64             `json:"until"`
	Nodes       []SummaryNode     `json:"nodes"`
	Links       []SummaryLink     `json:"links"`
	Entries     map[string]Came   `json:"entries"`
	DeadLetters map[string]string `json:"dead_letters"`
}

// SummaryNode is a node, and when it was first seen.
type SummaryNode struct {
	Node
	First int64 `json:"first"`
}

// SummaryLink is a link.
type SummaryLink struct {
	LinkKey
	Link
}

// Came is what came in from outside.
type Came struct {
	Count int      `json:"count"`
	Keys  []string `json:"keys"`
}

// How many single values a summary keeps.
const (
	keptTimes = 256
	keptKeys  = 100
	keptFires = 60
)

// spread keeps at most so many of a list, evenly over it.
func spread[T any](list []T, most int) []T {
	if len(list) <= most {
		return list
	}
	out := make([]T, most)
	for i := range out {
		out[i] = list[(2*i+1)*len(list)/(2*most)]
	}
	return out
}

// fewKeys keeps at most so many keys, those with the smallest hashes: whichever of the keys of a bucket are kept, those
// that a link took of them are kept with the link.
func fewKeys(keys []string) []string {
	if len(keys) <= keptKeys {
		return keys
	}
	hash := func(key string) uint64 {
		h := fnv.New64a()
		h.Write([]byte(key))
		return h.Sum64()
	}
	out := slices.Clone(keys)
	slices.SortFunc(out, func(a, b string) int { return cmp.Or(cmp.Compare(hash(a), hash(b)), cmp.Compare(a, b)) })
	out = slices.Compact(out)
	return out[:min(keptKeys, len(out))]
}

// Summary makes what is kept of what was observed.
func (o *Observed) Summary() *Summary {
	s := &Summary{
		Spans: o.Spans, Traces: o.Traces, Skipped: o.Skipped, From: o.From, Until: o.Until,
		Nodes: []SummaryNode{}, Links: []SummaryLink{}, Entries: map[string]Came{}, DeadLetters: o.DeadLetters,
	}
	for _, n := range o.ordered() {
		kept := SummaryNode{*n, n.first}
		sorted := slices.Clone(n.Times)
		sort.Float64s(sorted)
		kept.Times = spread(sorted, keptTimes) // quantiles
		kept.Keys, kept.Fires = fewKeys(n.Keys), spread(n.Fires, keptFires)
		s.Nodes = append(s.Nodes, kept)
	}
	for key, l := range o.Links {
		kept := SummaryLink{key, *l}
		kept.Keys = fewKeys(l.Keys)
		s.Links = append(s.Links, kept)
	}
	slices.SortFunc(s.Links, func(a, b SummaryLink) int { return compareLinks(a.LinkKey, b.LinkKey) })
	for name, e := range o.Entries {
		s.Entries[name] = Came{max(e.Count, len(e.Times)), fewKeys(e.Keys)}
	}
	return s
}

func compareLinks(a, b LinkKey) int {
	return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To), cmp.Compare(a.Type, b.Type))
}

// Together puts summaries of several whiles together, each one a batch by which it is judged how much whiles differ.
// What was seen of a retry, a delay or a batch is the bound over all of them.
func Together(summaries ...*Summary) *Observed {
	out := newObserved()
	for _, s := range summaries {
		out.Spans += s.Spans
		out.Traces += s.Traces
		sum(out.Skipped, s.Skipped)
		if out.From == 0 || s.From > 0 && s.From < out.From {
			out.From = s.From
		}
		out.Until = max(out.Until, s.Until)
		for i := range s.Nodes {
			out.mergeNode(&s.Nodes[i])
		}
		for i := range s.Links {
			out.mergeLink(&s.Links[i])
		}
		for name, came := range s.Entries {
			if out.Entries[name] == nil {
				out.Entries[name] = &Entry{}
			}
			e := out.Entries[name]
			e.Count += came.Count
			e.Keys = append(e.Keys, came.Keys...)
		}
		maps.Copy(out.DeadLetters, s.DeadLetters)
	}
	return out
}

func (o *Observed) mergeNode(s *SummaryNode) {
	n := o.Nodes[s.Name]
	if n == nil {
		n = &Node{Name: s.Name, Kind: s.Kind, Why: s.Why, Errors: map[string]int{}, Types: map[string]bool{},
			Partitions: map[string]bool{}, Delay: s.Delay, first: s.First}
		o.Nodes[s.Name] = n
	}
	n.first = min(n.first, s.First)
	// A queue is what is guessed for want of signs.
	if n.Kind.Leases() && n.Why != "it says so" && s.Kind != n.Kind {
		n.Kind, n.Why = s.Kind, s.Why
	}
	n.Runs += s.Runs
	n.Failures += s.Failures
	n.Failed += s.Failed
	sum(n.Errors, s.Errors)
	n.Delay = min(n.Delay, s.Delay)
	n.Times = append(n.Times, s.Times...)
	n.Timed.add(s.Timed)
	if all := n.Handover.Count + s.Handover.Count; all > 0 {
		n.Handover.Mean += (s.Handover.Mean - n.Handover.Mean) * float64(s.Handover.Count) / float64(all)
		n.Handover.Count = all
	}
	if s.Runs > 0 {
		n.batches = append(n.batches, batch{s.Runs, s.Failures, s.Timed})
	}
	n.Fires = append(n.Fires, s.Fires...)
	n.Stops = append(n.Stops, s.Stops...)
	n.Keys = append(n.Keys, s.Keys...)
	maps.Copy(n.Types, s.Types)
	maps.Copy(n.Partitions, s.Partitions)
	for _, text := range []struct{ to, from *string }{
		{&n.Cron, &s.Cron}, {&n.Method, &s.Method}, {&n.Path, &s.Path},
	} {
		if *text.to == "" {
			*text.to = *text.from
		}
	}
}

func (o *Observed) mergeLink(s *SummaryLink) {
	l := o.Links[s.LinkKey]
	if l == nil {
		l = &Link{PerRun: map[int]int{}, PerFailed: map[int]int{}, Types: map[string]int{}}
		o.Links[s.LinkKey] = l
	}
	l.Wait, l.Async, l.Returned = l.Wait || s.Wait, l.Async || s.Async, l.Returned || s.Returned
	l.Messages += s.Messages
	sum(l.PerRun, s.PerRun)
	sum(l.PerFailed, s.PerFailed)
	l.When = cmp.Or(l.When, s.When)
	sum(l.Types, s.Types)
	l.Batch, l.Tries, l.Parallel = max(l.Batch, s.Batch), max(l.Tries, s.Tries), max(l.Parallel, s.Parallel)
	if l.RetryWait == 0 || s.RetryWait > 0 && s.RetryWait < l.RetryWait {
		l.RetryWait = s.RetryWait
	}
	l.GaveUp += s.GaveUp
	l.Keys = append(l.Keys, s.Keys...)
}

func sum[K comparable](to, from map[K]int) {
	for k, n := range from {
		to[k] += n
	}
}
