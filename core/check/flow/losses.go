package flow

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Entry is what is known of the messages that come in at a node.
type Entry struct {
	Survives        int                `json:"survives"`         // faults together without a loss, as far as searched
	Searched        int                `json:"searched"`         // faults together of which every set was looked at
	Considered      []string           `json:"considered"`       // fault kinds
	LossSets        []LossSet          `json:"loss_sets"`        // smallest first
	Unlisted        int                `json:"unlisted"`         // single faults that are not listed, in a large model
	Partial         bool               `json:"partial"`          // in a large model: only what is near the entry was searched
	LossProbability *float64           `json:"loss_probability"` // of a message, without a fault; null: it sets off ever more
	LossBy          map[string]float64 `json:"loss_by"`          // messages lost for one that enters, by cause
	Parked          *float64           `json:"parked"`           // messages parked for one that enters; null: without bound
	Amplification   Amplification      `json:"amplification"`
	Availability    *Availability      `json:"availability,omitempty"` // where some node states `breaks`
	Basis           Basis              `json:"basis,omitempty"`
	Assumptions     []string           `json:"assumptions,omitempty"`
}

// Basis says of fields how sure they are; one that it does not name is exact.
type Basis map[string]string

// Guess adds that some fields are estimates.
func (b Basis) Guess(fields ...string) Basis {
	out := maps.Clone(b)
	if out == nil {
		out = Basis{}
	}
	for _, f := range fields {
		out[f] = Estimate
	}
	return out
}

// How sure a number is.
const (
	AtMost   = "at_most"
	AtLeast  = "at_least"
	Estimate = "estimate"
)

// Fault is an element of a loss set: any one of some faults.
type Fault []string

// MarshalJSON writes a single fault as its name, several as a list.
func (f Fault) MarshalJSON() ([]byte, error) {
	if len(f) == 1 {
		return json.Marshal(f[0])
	}
	return json.Marshal([]string(f))
}

// UnmarshalJSON reads what MarshalJSON writes.
func (f *Fault) UnmarshalJSON(data []byte) error {
	var one string
	if json.Unmarshal(data, &one) == nil {
		*f = Fault{one}
		return nil
	}
	return json.Unmarshal(data, (*[]string)(f))
}

// LossSet is a set of faults that loses messages.
type LossSet struct {
	Faults []Fault        `json:"faults"` // none: lost in normal operation
	Cause  string         `json:"cause"`
	Node   string         `json:"node"`                  // where it is lost
	After  document.State `json:"after"`                 // how long the fault must last before the first loss
	Range  *[2]*float64   `json:"after_range,omitempty"` // seconds; where After is an estimate; null: without bound
	Some   bool           `json:"some,omitempty"`        // only some messages

	Link   int `json:"-"` // through which it goes, or None
	quiet  bool
	after  Moment
	Limit  string `json:"-"`
	Why    string `json:"-"`
	Stated bool   `json:"-"` // by stated `fails` shares alone
	Share  Span   `json:"-"`
}

// day is in seconds.
const day = 86400

// Rare is a share of messages below which a finding would be noise.
const Rare = 1e-6

// MaxFaults is how many faults together are looked at.
const MaxFaults = 3

// FaultKinds are the kinds of fault that are considered.
var FaultKinds = []string{"node", "channel", "group", "stopped", "crash", "disabled"}

// explored bounds what is looked at for all entries together, in states: in a model
// that is larger, the loss sets of an entry are those near it. The findings do not
// depend on that.
const explored = 600_000

// detours bounds the states that are reached by a fault only, likewise.
const detours = 60_000

// families bounds the families of pairs, and of triples, that are looked at in all.
const families = 4_000

// listed bounds the names of faults that a document lists in all.
const listed = 24_000

func (a *Analysis) setAfter(s *LossSet, m Moment) {
	s.after = m
	s.After = document.At(m.At)
	s.Range = rangeOf(m)
}

// findLosses works out, for every entry, what is lost with nothing broken, and
// which sets of up to MaxFaults faults lose messages.
func (a *Analysis) findLosses() {
	a.Entries = map[string]Entry{}
	a.findCrowding()
	a.quietest = math.Inf(1)
	for _, i := range a.EntryNodes {
		if a.Rates[i] > 0 {
			a.quietest = min(a.quietest, a.Rates[i])
		}
	}
	a.findFaults()
	a.findSurges()
	a.deadAt = make([][]int32, len(a.States.All))
	for k := range a.dead {
		a.deadAt[a.dead[k].state] = append(a.deadAt[a.dead[k].state], int32(k))
	}
	a.openFirst = make([]int32, 1, len(a.States.All)+1)
	a.open = a.open[:0]
	for s := range a.States.All { // the edges that messages take without a fault
		for _, e := range a.States.Leaving(s) {
			if e.Mean.High >= Negligible {
				a.open = append(a.open, int32(e.To))
			}
		}
		a.openFirst = append(a.openFirst, int32(len(a.open)))
	}
	a.notePlaces()
	values := a.entryValues()
	budget := max(listed/max(len(a.EntryNodes), 1), 40)
	for _, i := range a.EntryNodes {
		e := Entry{LossSets: []LossSet{}, Considered: FaultKinds, Searched: MaxFaults, LossBy: map[string]float64{}}
		values.into(a, i, &e)
		x := a.explore(i)
		x.list(&e, budget)
		if e.Partial = x.partial; x.shallow {
			e.Searched = min(e.Searched, 2)
		}
		sort.SliceStable(
			e.LossSets,
			func(i, j int) bool { return len(e.LossSets[i].Faults) < len(e.LossSets[j].Faults) },
		)
		e.Survives = e.Searched
		if len(e.LossSets) > 0 {
			e.Survives = len(e.LossSets[0].Faults) - 1
		}
		a.Entries[a.Node(i).Name] = e
	}
}

// exploration is what the messages of one entry can reach.
type exploration struct {
	a       *Analysis
	entry   int
	stamps  []int32 // by state: the exploration that reached it last, without a fault
	stamp   int32
	shallow bool // not every pair of faults was looked at
	partial bool // it was ended before it was complete
	work    []int32
	// What they reach after one fault, any one of those in the set, and after how
	// long.
	first map[int]*detour
	// The same after two faults.
	second map[int][]pairDetour
}

type detour struct {
	faults faultSet
	others []string // further single faults
	given  Moment   // how long the fault lasts when the first message is given up
	after  Moment   // when it comes here
	rate   float64  // messages per second that come while the fault lasts
}

type pairDetour struct {
	one, two faultSet
	after    Moment
}

func (a *Analysis) explore(entry int) *exploration {
	a.explorations++
	if a.stamps == nil {
		a.stamps = make([]int32, len(a.States.All))
	}
	x := &exploration{
		a:      a,
		stamps: a.stamps,
		stamp:  a.explorations,
		first:  map[int]*detour{},
		second: map[int][]pairDetour{},
	}
	for _, in := range a.Spread(entry) {
		if !x.has(in.State) {
			x.stamps[in.State] = x.stamp
			x.work = append(x.work, int32(in.State))
		}
	}
	most := max(explored/max(len(a.EntryNodes), 1), 1_000)
	for k := 0; k < len(x.work); k++ {
		if len(x.work) > most {
			x.partial = true
			break
		}
		from := x.work[k]
		for _, to := range a.open[a.openFirst[from]:a.openFirst[from+1]] {
			if !x.has(int(to)) {
				x.stamps[to] = x.stamp
				x.work = append(x.work, to)
			}
		}
	}
	x.entry = entry
	x.afterOne()
	x.afterTwo()
	return x
}

// has reports whether messages reach a state without a fault.
func (x *exploration) has(s int) bool { return x.stamps[s] == x.stamp }

// afterOne follows what goes another way under one fault.
func (x *exploration) afterOne() {
	a := x.a
	var work []int
	most := max(detours/max(len(a.EntryNodes), 1), 150)
	arrive := func(to int, faults faultSet, others []string, given, after Moment, rate float64) {
		d := x.first[to]
		fresh := d == nil
		if fresh && len(x.first) >= most {
			x.partial = true
			return
		}
		if fresh {
			d = &detour{given: given, after: after, rate: rate}
			x.first[to] = d
		}
		if given.At < d.given.At {
			d.given, d.after = given, after
		}
		d.rate = max(d.rate, rate)
		for _, o := range others {
			if !slices.Contains(d.others, o) {
				d.others, fresh = append(d.others, o), true
			}
		}
		if d.faults.merge(faults) || fresh {
			work = append(work, to)
		}
	}
	for _, s := range x.work {
		for _, k := range a.faults.at[s] {
			d := &a.faults.deliveries[k]
			if d.to != graph.None && !x.has(d.to) && (!d.faults.empty() || len(d.others) > 0) {
				arrive(d.to, d.faults, d.others, d.after, d.after, a.stateRates[s])
			}
		}
	}
	for k := 0; k < len(work); k++ {
		from := x.first[work[k]]
		for _, e := range a.States.Leaving(work[k]) {
			if e.Mean.High >= Negligible && !x.has(e.To) {
				arrive(
					e.To,
					from.faults,
					from.others,
					from.given,
					from.after.plus(exactMoment(e.Delay)),
					a.atMost(&e, from.rate)*e.expected,
				)
			}
		}
		for _, k := range a.faults.at[work[k]] { // the same fault sends it on once more
			d := &a.faults.deliveries[k]
			if d.to == graph.None || x.has(d.to) || !from.faults.meets(d.faults) {
				continue
			}
			common, _ := from.faults.both(d.faults)
			after := from.after.plus(d.after)
			arrive(d.to, common, nil, after, after, from.rate)
		}
	}
}

// atMost returns how many messages per second of a rate a reader takes.
func (a *Analysis) atMost(e *Edge, rate float64) float64 {
	if r, ok := a.Readings[e.Link]; ok && r.Most > 0 {
		return min(rate, r.Most/max(r.each, 1))
	}
	return rate
}

// afterTwo follows what goes another way under two faults.
func (x *exploration) afterTwo() {
	a := x.a
	var work []int
	most := max(detours/4/max(len(a.EntryNodes), 1), 40)
	arrive := func(to int, p pairDetour) {
		if x.has(to) || x.first[to] != nil {
			return
		}
		for k := range x.second[to] {
			old := &x.second[to][k]
			if slices.Equal(old.two, p.two) {
				if old.one.merge(p.one) {
					work = append(work, to)
				}
				return
			}
			if slices.Equal(old.one, p.one) {
				if old.two.merge(p.two) {
					work = append(work, to)
				}
				return
			}
		}
		if len(x.second[to]) == 0 && len(x.second) >= most {
			x.shallow = true
			return
		}
		if len(x.second[to]) < 16 {
			x.second[to] = append(x.second[to], p)
			work = append(work, to)
		}
	}
	for _, s := range x.work {
		for _, k := range a.faults.at[s] {
			if d := &a.faults.deliveries[k]; d.to != graph.None {
				for _, p := range d.pairs {
					arrive(d.to, pairDetour{p[0], p[1], d.after})
				}
			}
		}
	}
	for _, s := range slices.Sorted(maps.Keys(x.first)) {
		from := x.first[s]
		for _, k := range a.faults.at[s] {
			d := &a.faults.deliveries[k]
			if d.to == graph.None {
				continue
			}
			if !d.faults.empty() {
				arrive(d.to, pairDetour{from.faults, d.faults, from.after.plus(d.after)})
			}
			for _, pair := range d.pairs { // of which one has happened
				for side, happened := range pair {
					if common, _ := happened.both(from.faults); !common.empty() {
						arrive(d.to, pairDetour{common, pair[1-side], from.after.plus(d.after)})
					}
				}
			}
		}
	}
	for k := 0; k < len(work) && k < 20_000; k++ {
		for _, e := range a.States.Leaving(work[k]) {
			if e.Mean.High < Negligible {
				continue
			}
			for _, p := range x.second[work[k]] {
				arrive(e.To, p)
			}
		}
	}
}

// list lists the loss sets of an entry, at most budget single faults by name.
func (x *exploration) list(e *Entry, budget int) {
	a := x.a
	x.listNormal(e, &budget)
	var main []int32 // deliveries that lose, by rank
	for _, s := range x.work {
		for _, k := range a.faults.at[s] {
			if d := &a.faults.deliveries[k]; d.to == graph.None && a.designStamp[d.place] != x.stamp {
				main = append(main, a.faults.rank[k])
			}
		}
	}
	slices.Sort(main)
	var found []single
	note := func(d *delivery, faults faultSet, members []int, others []string, after Moment) {
		if a.designStamp[d.place] != x.stamp {
			found = append(found, single{d, faults, members, others, after})
		}
	}
	for _, s := range x.work {
		for _, k := range a.deadAt[s] {
			if !a.dead[k].normal {
				continue
			}
			d := a.dead[k].delivery
			d.after = d.after.byChance(a.stateRates[s] * d.share)
			few, rest := a.fewOf(d)
			for _, d := range []delivery{few, rest} {
				if !d.faults.empty() {
					note(&d, d.faults, d.faults.list(), nil, d.after)
				}
			}
		}
	}
	for _, s := range slices.Sorted(maps.Keys(x.first)) { // where it is lost whatever holds it
		from := x.first[s]
		for _, l := range a.losses[s] {
			if l.share.High > Rare {
				after := from.given.byChance(from.rate * l.share.Low)
				note(a.lossAt(s, l.cause, l.node, l.link), from.faults, from.faults.list(), from.others, after)
			}
		}
		for _, k := range a.deadAt[s] { // the same fault keeps the last resort from taking it
			if r := &a.dead[k]; r.normal && from.faults.meets(r.faults) {
				common, _ := from.faults.both(r.faults)
				after := from.after.plus(r.after).byChance(a.atMost(&Edge{Link: r.link}, from.rate) * r.share)
				note(&r.delivery, common, common.list(), nil, after)
			}
		}
		for k := range a.surges[s] {
			if g := &a.surges[s][k]; from.faults.meets(g.faults) {
				common, _ := from.faults.both(g.faults)
				note(&g.delivery, common, common.list(), nil, from.given.plus(g.after))
			}
		}
	}
	for _, s := range x.work {
		for k := range a.surges[int(s)] {
			g := &a.surges[int(s)][k]
			note(&g.delivery, g.faults, g.members, g.others, g.first.plus(g.after))
		}
	}
	for _, s := range x.work { // what a dead-letter node rejects by its own share
		for _, k := range a.faults.at[s] {
			d := &a.faults.deliveries[k]
			if by := a.rejectedByShare(d); by != nil {
				note(by, d.faults, d.members, d.others, d.after.plus(by.after))
			}
		}
	}
	p := &pairs{x: x, entry: e, seen: a.faults.newMarks(), note: note, budget: &budget}
	p.run()
	x.listSingles(e, main, found, p.seen, &budget)
	p.flush()
}

// rejectedByShare describes what the node to which a delivery sends its messages on rejects
// by its own share, or nil.
func (a *Analysis) rejectedByShare(d *delivery) *delivery {
	if d.to == graph.None {
		return nil
	}
	to := a.Node(a.States.All[d.to].Node)
	if !to.Kind.Channel() || to.Fails.EachTry == 0 {
		return nil
	}
	edges := a.States.Leaving(d.state)
	for k := range edges {
		if e := &edges[k]; e.To == d.to && e.Kind == Result && deadEdge(edges, e.Link) != nil {
			return nil // the link that sends it on has a dead letter of its own
		}
	}
	by := a.lossAt(d.to, "rejected", to.ID, graph.None)
	by.after = Moment{3, 3, math.Inf(1)}
	return by
}

// lossAt describes a loss at a state that is no delivery of its own.
func (a *Analysis) lossAt(s int, cause string, node, link int) *delivery {
	return &delivery{state: s, node: node, link: link, cause: cause, place: a.placeOf(cause, node, link)}
}

// placeOf numbers the places of loss.
func (a *Analysis) placeOf(cause string, node, link int) int32 {
	return a.placeID(Place{Cause: cause, Node: node, Link: link})
}

func (a *Analysis) placeID(key Place) int32 {
	if id, ok := a.placeIDs[key]; ok {
		return id
	}
	if a.placeIDs == nil {
		a.placeIDs = map[Place]int32{}
	}
	id := int32(len(a.Places))
	a.designStamp = append(a.designStamp, 0)
	a.placeIDs[key], a.Places = id, append(a.Places, PlaceLoss{Place: key})
	return id
}

// Place is where messages are lost, and how.
type Place struct {
	Cause      string
	Node, Link int
	Surge      bool // a fault sends more there than its readers can take
	CatchUp    bool // what a fault held up comes at once when it is over, more than its readers can take
}

// PlaceLoss is what is lost at a place, over all entries: without a fault, and by
// single faults.
type PlaceLoss struct {
	Place
	Normal, Single Losing
	Lost, Of       float64 // messages per second that are lost there without a fault, and that come there
	Load           float64 // of a surge, or when it is over: a multiple of what the readers can take
}

// Losing is what is lost at a place in one of these ways.
type Losing struct {
	Entries []int32         // ids of the nodes, in order; shared, not to be changed
	Faults  map[string]bool // MostFaults of them, where there are more
	First   LossSet         // the set that loses first
	Any     bool
}

// note adds what entries lose.
func (l *Losing) note(entries []int32, s LossSet) {
	if !l.Any || s.after.At < l.First.after.At {
		some := l.Any && l.First.Some
		l.First = s
		l.First.Some = l.First.Some || some
	}
	l.Any = true
	l.First.Some = l.First.Some || s.Some
	if s.Share.High > l.First.Share.High {
		l.First.Share = s.Share
	}
	l.Entries = union(l.Entries, entries)
}

// union returns the numbers that two ascending lists hold: one of them, where it holds all.
func union(a, b []int32) []int32 {
	if within(b, a) {
		return a
	}
	if within(a, b) {
		return b
	}
	out := make([]int32, 0, len(a)+1)
	for len(a) > 0 && len(b) > 0 {
		out = append(out, min(a[0], b[0]))
		next := out[len(out)-1]
		if a[0] == next {
			a = a[1:]
		}
		if b[0] == next {
			b = b[1:]
		}
	}
	return slices.Clip(append(append(out, a...), b...))
}

// within reports whether an ascending list holds all numbers of another.
func within(part, all []int32) bool {
	if len(part) > len(all) {
		return false
	}
	if len(part) == 0 || &part[0] == &all[0] {
		return true
	}
	for _, e := range part {
		at, found := slices.BinarySearch(all, e)
		if !found {
			return false
		}
		all = all[at:]
	}
	return true
}

// MostFaults are as many single faults as are noted of a place.
const MostFaults = 200

// single is a family of single faults, any one of which loses messages.
type single struct {
	d       *delivery
	faults  faultSet
	members []int
	others  []string
	after   Moment
}

// listSingles lists single faults, each where it loses messages first: those of
// deliveries, which are in order, and further ones.
func (x *exploration) listSingles(e *Entry, main []int32, more []single, seen faultMarks, budget *int) {
	a := x.a
	slices.SortFunc(more, func(s, t single) int {
		return cmp.Or(
			cmp.Compare(s.after.At, t.after.At),
			cmp.Compare(s.d.place, t.d.place),
			cmp.Compare(s.d.state, t.d.state),
			cmp.Compare(len(s.members), len(t.members)),
		)
	})
	seenOthers := map[string]bool{}
	var names Fault
	list := func(s *single, noted bool) {
		names = names[:0]
		for _, f := range s.members {
			if !seen.has(f) {
				seen.mark(f)
				names = append(names, a.faults.names[f])
			}
		}
		for _, o := range s.others {
			if !seenOthers[o] {
				seenOthers[o] = true
				names = append(names, o)
			}
		}
		if len(names) == 0 {
			return
		}
		if noted && *budget < len(names) {
			e.Unlisted += len(names)
			return
		}
		set := a.setOf(s.d, s.after)
		if !noted {
			a.noteSingle([]int32{int32(x.entry)}, s.d, &set, names)
		}
		if *budget < len(names) {
			e.Unlisted += len(names)
			return
		}
		*budget -= len(names)
		slices.Sort(names)
		set.Faults = []Fault{slices.Clone(names)}
		e.LossSets = append(e.LossSets, set)
	}
	next := 0
	for _, rank := range main {
		d := &a.faults.deliveries[a.faults.byTime[rank]]
		for ; next < len(more) && more[next].after.At < d.after.At; next++ {
			list(&more[next], false)
		}
		list(&single{d, d.faults, d.members, d.others, d.after}, true)
	}
	for ; next < len(more); next++ {
		list(&more[next], false)
	}
}

// setOf describes what a delivery loses; its faults are still to be filled in.
func (a *Analysis) setOf(d *delivery, after Moment) LossSet {
	set := LossSet{Cause: d.cause, Node: a.Node(d.node).Name, Link: d.link, quiet: d.quiet, Limit: d.limit}
	a.setAfter(&set, after)
	return set
}

// notePlaces notes for the findings what is lost at each place, without a fault and by
// single faults, in one pass over the graph.
func (a *Analysis) notePlaces() {
	g := a.States
	for s := range g.All {
		for k := range a.losses[s] {
			l := &a.losses[s][k]
			l.place = a.placeOf(l.cause, l.node, l.link)
			p := &a.Places[l.place]
			p.Lost += a.stateRates[s] * l.expected
			if p.Of += a.stateRates[s]; l.node == g.All[s].Node { // all of the node's
				p.Of = a.Rates[l.node]
			}
		}
	}
	for s, from := range a.entriesByState() {
		if len(from) > 0 {
			a.notePlacesAt(s, from)
		}
	}
	for _, i := range a.EntryNodes {
		away := a.turnedAwayBy(i)
		for _, cause := range SortedKeys(away) {
			place := &a.Places[a.placeOf(cause, i, graph.None)]
			place.Normal.note([]int32{int32(i)}, a.turnedAwaySet(i, cause, away[cause]))
		}
	}
}

// entriesByState returns the entries whose messages come to each state, ascending.
func (a *Analysis) entriesByState() [][]int32 {
	g := a.States
	from := make([][]int32, len(g.All))
	for _, i := range a.EntryNodes {
		for _, in := range a.Spread(i) {
			from[in.State] = union(from[in.State], []int32{int32(i)})
		}
	}
	var list []graph.Edge
	for s := range g.All {
		for _, to := range a.open[a.openFirst[s]:a.openFirst[s+1]] {
			list = append(list, graph.Edge{From: s, To: int(to)})
		}
	}
	components := graph.Strong(len(g.All), list)
	for _, members := range slices.Backward(components) { // what leads to a component comes before it
		var all []int32 // a message that comes to one of them comes to all
		for _, s := range members {
			all = union(all, from[s])
		}
		for _, s := range members {
			from[s] = all
			for _, to := range a.open[a.openFirst[s]:a.openFirst[s+1]] {
				from[to] = union(from[to], all)
			}
		}
	}
	return from
}

// notePlacesAt notes what is lost at a state to which the messages of entries come.
func (a *Analysis) notePlacesAt(s int, from []int32) {
	certain := map[int32]bool{}
	for k := range a.losses[s] {
		l := &a.losses[s][k]
		certain[l.place] = certain[l.place] || l.share.Low > 1-1e-9
		a.Places[l.place].Normal.note(from, a.normalSet(l))
	}
	for _, k := range a.faults.at[s] {
		d := &a.faults.deliveries[k]
		if d.to != graph.None || d.quiet || certain[d.place] {
			continue
		}
		names := make([]string, 0, len(d.members))
		for _, f := range d.members {
			names = append(names, a.faults.names[f])
		}
		set := a.setOf(d, d.after)
		a.noteSingle(from, d, &set, append(names, d.others...))
	}
}

// normalSet describes what is lost without a fault.
func (a *Analysis) normalSet(l *loss) LossSet {
	set := LossSet{
		Faults: []Fault{},
		Cause:  l.cause,
		Node:   a.Node(l.node).Name,
		Some:   l.share.Low < 1-1e-9,
		Link:   l.link,
		Why:    l.why,
		Stated: l.stated,
		Share:  l.share,
	}
	// What is lost whenever it gets so far, as over a hop limit, may be a small part of
	// the messages of the place.
	if p := &a.Places[l.place]; !set.Some && p.Of > 0 && p.Lost < 0.9995*p.Of {
		set.Some, set.Share = true, exactly(p.Lost/p.Of)
	}
	after := 0.0
	if l.cause == "expired" && l.why == "no reader" {
		after = a.Node(l.node).Retention.Seconds()
	}
	a.setAfter(&set, exactMoment(after))
	return set
}

// turnedAwaySet describes what a channel rejects of what outsiders send.
func (a *Analysis) turnedAwaySet(i int, cause string, share float64) LossSet {
	set := LossSet{
		Faults: []Fault{},
		Cause:  cause,
		Node:   a.Node(i).Name,
		Some:   share < 1,
		Link:   graph.None,
		Stated: cause == "rejected",
		Share:  exactly(share),
	}
	a.setAfter(&set, exactMoment(0))
	return set
}

// noteSingle notes single faults for the findings: those that have one of their own.
func (a *Analysis) noteSingle(from []int32, d *delivery, s *LossSet, names []string) {
	if s.quiet {
		return
	}
	l := &a.Places[d.place].Single
	for _, f := range names {
		if strings.HasSuffix(f, "/disabled") || strings.HasSuffix(f, "/stopped") && s.after.At >= day {
			continue
		}
		if l.Faults == nil {
			l.Faults = map[string]bool{}
		}
		if len(l.Faults) < MostFaults || l.Faults[f] {
			l.Faults[f] = true
		}
		l.note(from, *s)
	}
}

// listNormal lists what is lost with nothing broken, and where.
func (x *exploration) listNormal(e *Entry, budget *int) {
	a := x.a
	at := map[int32]int{} // by place: its set
	add := func(p int32, set LossSet) {
		if k, ok := at[p]; ok {
			old := &e.LossSets[k]
			old.Some = old.Some || set.Some
			old.Stated = old.Stated && set.Stated
			if set.Share.High > old.Share.High {
				old.Share = set.Share
			}
			return
		}
		if *budget <= 0 {
			e.Unlisted++
			return
		}
		*budget--
		at[p] = len(e.LossSets)
		e.LossSets = append(e.LossSets, set)
	}
	away := a.turnedAwayBy(x.entry)
	for _, cause := range SortedKeys(away) {
		set := a.turnedAwaySet(x.entry, cause, away[cause])
		add(a.placeOf(cause, x.entry, graph.None), set)
	}
	for _, s := range x.work {
		for k := range a.losses[s] {
			l := &a.losses[s][k]
			if l.share.Low > 1-1e-9 {
				a.designStamp[l.place] = x.stamp
			}
			add(l.place, a.normalSet(l))
		}
	}
}

// pairs lists the sets of two and three faults.
type pairs struct {
	x      *exploration
	entry  *Entry
	seen   faultMarks // single faults that lose messages by themselves
	note   func(d *delivery, faults faultSet, members []int, others []string, after Moment)
	budget *int
	two    []family
	three  []family
}

// family is a number of loss sets: one fault of each set.
type family struct {
	sets  []faultSet
	node  int
	link  int
	cause string
	after Moment
}

func (p *pairs) run() {
	x, a := p.x, p.x.a
	for _, s := range x.work {
		for _, k := range a.faults.at[s] {
			d := &a.faults.deliveries[k]
			for _, pair := range d.pairs {
				if d.to == graph.None {
					p.loses(d, Moment{}, pair[0], pair[1])
				}
			}
		}
	}
	states := make([]int, 0, len(x.first))
	for s := range x.first {
		states = append(states, s)
	}
	slices.Sort(states)
	for _, s := range states {
		from := x.first[s]
		for _, k := range a.faults.at[s] {
			d := &a.faults.deliveries[k]
			after := from.after.byChance(from.rate * d.part())
			switch {
			case d.to != graph.None:
				if by := a.rejectedByShare(d); by != nil {
					p.loses(by, after.plus(d.after), from.faults, d.faults)
				}
			case !d.faults.empty():
				p.loses(d, after, from.faults, d.faults)
			}
			for _, pair := range d.pairs {
				if d.to == graph.None {
					p.loses(d, after, from.faults, pair[0], pair[1])
				}
			}
		}
	}
	p.deadLetters()
	states = states[:0]
	for s := range x.second {
		states = append(states, s)
	}
	slices.Sort(states)
	for _, s := range states {
		for _, from := range x.second[s] {
			for _, l := range a.losses[s] { // where it is lost whatever holds it
				if l.share.High > Rare {
					p.loses(a.lossAt(s, l.cause, l.node, l.link), from.after, from.one, from.two)
				}
			}
			for _, k := range a.faults.at[s] {
				d := &a.faults.deliveries[k]
				if d.to == graph.None && !d.faults.empty() {
					p.loses(d, from.after, from.one, from.two, d.faults)
				}
			}
		}
	}
}

// deadLetters adds what dead-letter nodes reject.
func (p *pairs) deadLetters() {
	x, a := p.x, p.x.a
	for _, k := range x.lastResorts() {
		r := &a.dead[k]
		if r.normal && x.has(r.state) {
			continue
		}
		if from := x.first[r.state]; r.normal && from != nil {
			p.loses(&r.delivery, from.after.byChance(from.rate*r.share), from.faults, r.faults)
		}
		for _, j := range a.faults.at[r.state] {
			d := &a.faults.deliveries[j]
			if d.to != r.target {
				continue
			}
			switch from := x.first[r.state]; {
			case x.has(r.state):
				p.loses(&r.delivery, d.after, d.faults, r.faults)
				for _, pair := range d.pairs {
					p.loses(&r.delivery, d.after, pair[0], pair[1], r.faults)
				}
			case from != nil:
				p.loses(&r.delivery, from.after.plus(d.after), from.faults, d.faults, r.faults)
			}
		}
	}
}

// lastResorts lists the writes to dead-letter nodes that messages can come to.
func (x *exploration) lastResorts() []int32 {
	var out []int32
	for _, s := range x.work {
		out = append(out, x.a.deadAt[s]...)
	}
	for s := range x.first {
		out = append(out, x.a.deadAt[s]...)
	}
	slices.Sort(out)
	return out
}

// loses notes that one fault of each set together lose messages. What is in several
// of the sets needs fewer.
func (p *pairs) loses(d *delivery, before Moment, sets ...faultSet) {
	after := before.plus(d.after)
	rest := make([]faultSet, len(sets))
	copy(rest, sets)
	for i := range rest {
		for j := i + 1; j < len(rest); j++ {
			if !rest[i].meets(rest[j]) {
				continue
			}
			common, _ := rest[i].both(rest[j])
			if len(rest) == 2 {
				shared := *d
				shared.quiet = false
				p.note(&shared, common, common.list(), nil, after)
			} else {
				third := rest[3-i-j]
				p.loses(d, before, common, third)
			}
			_, rest[i] = rest[i].both(common)
			_, rest[j] = rest[j].both(common)
		}
	}
	for i := range rest {
		if rest[i].empty() {
			return
		}
	}
	one := family{rest, d.node, d.link, d.cause, after}
	list := &p.two
	if len(rest) == 3 {
		list = &p.three
	}
	for k := range *list { // families that differ in one place are one
		old := &(*list)[k]
		if old.node != one.node || old.cause != one.cause {
			continue
		}
		differ, at := 0, 0
		for i := range rest {
			if !slices.Equal(old.sets[i], rest[i]) {
				differ, at = differ+1, i
			}
		}
		if differ <= 1 {
			old.sets[at].merge(rest[at])
			if after.At < old.after.At {
				old.after = after
			}
			return
		}
	}
	if len(*list) < max(families/max(len(p.x.a.EntryNodes), 1), 12) {
		*list = append(*list, one)
	} else {
		p.entry.Searched = min(p.entry.Searched, len(rest)-1)
	}
}

// flush lists the families, less what a smaller set loses.
func (p *pairs) flush() {
	a := p.x.a
	names := func(f faultSet) Fault {
		out := Fault{}
		for _, i := range f.list() {
			out = append(out, a.faults.names[i])
		}
		slices.Sort(out)
		return out
	}
	list := func(pr *family) {
		s := LossSet{Cause: pr.cause, Node: a.Node(pr.node).Name, Link: pr.link}
		for _, f := range pr.sets {
			f = p.seen.less(f)
			if f.empty() {
				return
			}
			s.Faults = append(s.Faults, names(f))
		}
		for _, f := range s.Faults {
			*p.budget -= len(f)
		}
		if *p.budget < 0 {
			p.entry.Searched = min(p.entry.Searched, len(pr.sets)-1)
			return
		}
		a.setAfter(&s, pr.after)
		p.entry.LossSets = append(p.entry.LossSets, s)
	}
	for k := range p.two {
		list(&p.two[k])
	}
	for k := range p.three {
		if !p.covered(&p.three[k]) {
			list(&p.three[k])
		}
	}
}

// covered reports whether a family of three contains one of two.
func (p *pairs) covered(three *family) bool {
	for k := range p.two {
		two := p.two[k].sets
		for i := range three.sets {
			for j := range three.sets {
				if i != j && three.sets[i].within(two[0]) && three.sets[j].within(two[1]) {
					return true
				}
			}
		}
	}
	return false
}

// entryValues are numbers of one message at each state, with all that it sets off.
type entryValues struct {
	runs, copies, parked []float64
	keeps                [2][]float64 // chance that nothing of it is lost: usual, at least
	causes               []string
	lost                 map[string][]float64
	sure                 []bool
}

// entryValues works them out for all entries in one pass.
func (a *Analysis) entryValues() *entryValues {
	g := a.States
	n := len(g.All)
	v := &entryValues{lost: map[string][]float64{}}
	runs, copies, parked := make([]float64, n), make([]float64, n), make([]float64, n)
	guessed := make([]float64, n)
	for s := range g.All {
		at := g.All[s]
		node := a.Node(at.Node)
		if node.Kind.Invoked() {
			runs[s] = a.runsPerMessage(s)
		}
		for _, e := range g.Leaving(s) {
			// What a reader hands to a run stays a copy of its channel; a dead letter is
			// one more.
			if e.copies() && (e.Kind != Polls || a.Link(e.Link).Relation == model.PolledMove) {
				copies[s] += e.expected
			}
			if e.Mean.Low != e.Mean.High {
				guessed[s] = 1
			}
		}
		for _, p := range a.Parks[s] {
			parked[s] += p.expected
		}
		for _, l := range a.losses[s] {
			if v.lost[l.cause] == nil {
				v.lost[l.cause] = make([]float64, n)
				v.causes = append(v.causes, l.cause)
			}
			v.lost[l.cause][s] += l.expected
			if l.share.Low != l.share.High {
				guessed[s] = 1
			}
		}
	}
	slices.Sort(v.causes)
	v.runs, v.copies, v.parked = g.valueOf(runs, a.grows), g.valueOf(copies, a.grows), g.valueOf(parked, a.grows)
	for _, c := range v.causes {
		v.lost[c] = g.valueOf(v.lost[c], a.grows)
	}
	v.keeps = [2][]float64{a.keepChance(false), a.keepChance(true)}
	v.sure = a.States.sureFrom(guessed)
	return v
}

// sureFrom reports, by state, whether nothing that a message can reach was guessed.
func (g *StateGraph) sureFrom(guessed []float64) []bool {
	sure := make([]bool, len(guessed))
	for s := range sure {
		sure[s] = guessed[s] == 0
	}
	for k := len(g.Order) - 1; k >= 0; k-- {
		s := g.Order[k]
		for _, e := range g.Leaving(int(s)) {
			if e.Mean.High > 0 && !sure[e.To] {
				sure[s] = false
			}
		}
	}
	return sure
}

// keepChance returns, by state, the chance that nothing that comes of a message is
// lost: q = (1−loss) Π (1 − m(1−q'))..., the chance that no branch loses; branches
// are independent. With least set, it is no more than any run can show.
func (a *Analysis) keepChance(least bool) []float64 {
	g := a.States
	q := make([]float64, len(g.All))
	for s := range q {
		q[s] = 1
	}
	step := func(s int) float64 {
		if a.grows[s] && least {
			return 0
		}
		keep := 1.0
		lost := 0.0
		for _, l := range a.losses[s] {
			if least {
				lost += l.share.High
			} else {
				lost += l.expected
			}
		}
		// Of what a run sends, given that it succeeds; of what is given up, one way or
		// the other.
		handled, given := 1.0, 0.0
		var failed float64 = 1
		for _, e := range g.Leaving(s) {
			m := e.expected
			if least {
				m = e.Mean.High
			}
			if m == 0 {
				continue
			}
			switch {
			case math.IsInf(m, 1):
				if q[e.To] < 1 {
					keep = 0
				}
			case e.Kind == GaveUp || e.Kind == Result && a.Link(e.Link).When == model.Failure:
				share := min(m, 1)
				given = max(given, share)
				failed *= q[e.To]
			case m <= 1 && a.States.All[s].How != AtChannel && a.Link(e.Link).Relation != model.WaitingCall &&
				e.Kind != StartSend && a.countIsOne(e.Link):
				// It is sent by the run that succeeds, with everything else that is.
				keep *= 1 - min(m/max(a.worksAt(s), 1e-12), 1)*(1-q[e.To])
			case m <= 1:
				keep *= 1 - m*(1-q[e.To])
			default:
				keep *= math.Pow(q[e.To], m)
			}
		}
		if a.States.All[s].How == AsIntake || a.States.All[s].How == AsPoll {
			handled = min(a.worksAt(s), 1)
			keep = handled*keep + (1 - handled)
		}
		keep = keep*(1-given) + given*failed*min(keep, 1)
		if given == 0 {
			return keep * max(1-lost, 0)
		}
		return keep * max(1-lost, 0)
	}
	for end := len(g.Order); end > 0; {
		k := end - 1
		for k > 0 && g.Component[g.Order[k-1]] == g.Component[g.Order[end-1]] {
			k--
		}
		for range 2000 {
			moved := 0.0
			for _, s := range g.Order[k:end] {
				v := min(max(step(int(s)), 0), 1)
				moved = max(moved, math.Abs(v-q[s]))
				q[s] = v
			}
			if end-k == 1 && !g.loopsAt(int(g.Order[k])) || moved < 1e-13 {
				break
			}
		}
		end = k
	}
	return q
}

// countIsOne reports whether a link sends at most one message for one.
func (a *Analysis) countIsOne(id int) bool {
	l := a.Link(id)
	return l.ForEach == nil && l.CountExpr == nil && l.Count.Dist.Dist == "constant" && l.Count.Dist.Mean <= 1
}

// worksAt returns the runs per message at a state that succeed.
func (a *Analysis) worksAt(s int) float64 { return a.FateOf(s, Usual).works }

// runsPerMessage returns the runs that a message, or a call, at a state starts. Runs of
// batches count as one for each message.
func (a *Analysis) runsPerMessage(s int) float64 {
	if at := a.States.All[s]; at.How == AsCall {
		return 1 - a.turnsAway(at.Node, Usual)
	}
	return a.FateOf(s, Usual).runs
}

// into fills in what is known of one message at an entry.
func (v *entryValues) into(a *Analysis, entry int, e *Entry) {
	away := a.turnedAway(entry)
	runs, copies, parked, lost, most := 0.0, 1.0, 0.0, away, away
	by := map[string]float64{}
	for cause, share := range a.turnedAwayBy(entry) {
		by[cause] = share
	}
	sure := true
	for _, in := range a.Spread(entry) {
		runs += in.share * v.runs[in.State]
		copies += in.share * v.copies[in.State]
		parked += in.share * v.parked[in.State]
		lost += in.share * (1 - v.keeps[0][in.State])
		most += in.share * (1 - v.keeps[1][in.State])
		sure = sure && v.sure[in.State]
		for _, c := range v.causes {
			by[c] += in.share * v.lost[c][in.State]
		}
	}
	bounded := func(x float64) *float64 {
		if math.IsInf(x, 1) || math.IsNaN(x) {
			return nil
		}
		return &x
	}
	e.Amplification = Amplification{Runs: bounded(runs), Copies: bounded(copies)}
	e.Parked = bounded(parked)
	e.Basis = Basis{}
	if !math.IsInf(copies, 1) {
		if lost < Negligible {
			lost = 0
		}
		e.LossProbability = &lost
		if most > lost*1.02+Negligible {
			e.LossProbability = &most
			e.Basis["loss_probability"] = AtMost
		}
		for c, x := range by {
			if x >= Negligible {
				e.LossBy[c] = x
			}
		}
	}
	if !sure {
		e.Basis["amplification"], e.Basis["loss_by"], e.Basis["parked"] = Estimate, Estimate, Estimate
	}
	e.Assumptions = a.assumed(entry)
}

// assumed says what had to be assumed about the messages of an entry.
func (a *Analysis) assumed(entry int) []string {
	n := a.Node(entry)
	var out []string
	if n.Grouped && !a.oneGroup(n) {
		out = append(out, "messages are taken to be of many groups, so that one that fails holds few others up")
	}
	if n.Kind.Fires() || len(a.traffic(entry)) > 0 {
		return out
	}
	reads := func(field string) bool {
		for _, id := range n.Out {
			for _, c := range a.Link(id).Filter.Clauses {
				if field == "types" && c.Type != nil || field == "keys" && (c.Prefix != nil || c.Suffix != nil) ||
					field == "sources" && c.Source != nil {
					return true
				}
			}
		}
		return false
	}
	if at := a.accepting(entry); at != graph.None && at != entry {
		out = append(out, fmt.Sprintf("no payload is stated: it is taken to be one that `%s` accepts", a.Node(at).Name))
	}
	if len(n.Node.Keys) == 0 && reads("keys") {
		out = append(out, "no `keys` are stated: any key is possible")
	}
	if len(n.Node.Types) == 0 && reads("types") && !n.Kind.Keeps() {
		out = append(out, "no `types` are stated: any type is possible")
	}
	if len(n.Node.Sources) == 0 && reads("sources") {
		out = append(out, "no `sources` are stated: any source is possible")
	}
	return out
}

func DescribeAfter(s document.State) string {
	if s.Seconds == nil {
		return s.State
	}
	if *s.Seconds == 0 {
		return "immediately"
	}
	return fmt.Sprintf("after %s", model.FormatDuration(time.Duration(*s.Seconds*1e9).Round(time.Second)))
}
