// Package guarantees says what holds between entries and destinations of a topology:
// how many faults are survived, how often a message has its effect, in which order and
// how late.
package guarantees

import (
	"runtime"
	"slices"
	"strings"

	"ironweir/core/check/flow"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/parallel"
)

// Guarantee is what holds between an entry and a destination: where its messages take
// effect, be it a row, an object, an outside system, a queue without a consumer, or the answer to a request.
type Guarantee struct {
	From     string    `json:"from"`
	To       string    `json:"to"`
	Answer   bool      `json:"answer,omitempty"` // the destination is the answer that the entry, an endpoint, gives
	Reaches  string    `json:"reaches"`          // certain or possible: whether a message has an effect there
	Survives int       `json:"survives"`         // faults together that lose no message on the way, as far as searched
	Searched int       `json:"searched"`         // faults together of which every set was looked at
	Effects  Effects   `json:"effects"`
	Losses   []Breach  `json:"losses"`  // why an effect may be missing
	Repeats  []Breach  `json:"repeats"` // why an effect may happen again
	Absorbed []Absorb  `json:"absorbed,omitempty"`
	Parks    []Parking `json:"parks"`
	Order    Order     `json:"order"`
	Delay    Delay     `json:"delay"`
}

// Effects says how often an effect happens: exactly_once, at_most_once, at_least_once
// or any_number. A parked message is neither lost nor repeated: its effect is delayed.
type Effects struct {
	NoFault  string `json:"no_fault"`
	OneFault string `json:"one_fault"`
}

// Breach is one reason why an effect is missing or repeated.
type Breach struct {
	Fault string `json:"fault,omitempty"` // the single fault that it takes; none: in normal operation
	Node  string `json:"node"`
	Link  string `json:"link,omitempty"`
	Why   string `json:"why"`

	Shows string `json:"-"` // the node whose failing or slowness shows it in a run; none: any run may
	Slow  bool   `json:"-"` // slowness
}

// Absorb names a function that drops a repeated message by its key, unless both are
// handled at the same time.
type Absorb struct {
	Node string `json:"node"`
	Key  string `json:"key"`
}

// Parking is a node that keeps messages whose effect is still missing.
type Parking struct {
	Node  string `json:"node"`
	Fault bool   `json:"fault"` // only under a fault
}

// Order says whether messages of one key take effect in the order in which they entered.
type Order struct {
	Kept bool     `json:"kept"`
	By   []string `json:"by"`             // the keys by which it is kept; none: the order of entry
	Link string   `json:"link,omitempty"` // where one may overtake another
	Why  string   `json:"why,omitempty"`

	Unused bool `json:"-"` // no message comes there with nothing broken: none overtakes another
}

// Delay is the time between the entry and the effect.
type Delay struct {
	Typical *float64 `json:"typical_s"` // seconds, mean without load on the shortest path, tries included
	AtMost  *float64 `json:"at_most_s"` // seconds; null: no bound
	Why     string   `json:"why"`       // what bounds it, or why nothing does
}

// breaches bounds the reasons that are listed of each kind.
const breaches = 4

// destinations finds the nodes at which messages take effect.
func destinations(a *flow.Analysis) []bool {
	out := make([]bool, len(a.Graph.Nodes))
	for i := range out {
		switch n := a.Node(i); n.Kind {
		case model.Table, model.Bucket, model.Outside:
			out[i] = true
		case model.Queue:
			out[i] = len(n.Out) == 0 && len(n.DeadFrom) == 0
		}
	}
	for _, list := range a.DeadLettersOf {
		for _, d := range list {
			out[d] = out[d] && !a.Node(d).Kind.Leases()
		}
	}
	return out
}

// guarantor works out guarantees of one analysis. What it knows of states and edges is
// complete before the entries are followed, which is done side by side.
type guarantor struct {
	a             *flow.Analysis
	g             *flow.StateGraph
	into          [][]int32          // by state: edges that lead to it
	place         []int32            // by state: its place in the order of the graph
	cycles        [2]*cycles         // by which messages come to a state again, in normal operation and under a fault
	rounds        [2]*cycles         // the same without hop limits; nil: none is counted
	again         map[int]string     // by state: by what its run is made again when it fails; empty: it is not
	causes        [2][]cause         // that repeat: in normal operation, under one fault
	breaches      [2][]Breach        // the causes, described
	byState       [2][][]int32       // causes by state
	holds         []holding          // by state
	overtaking    []string           // by edge: how a message can overtake an earlier one on it; empty: it cannot
	gaps          map[int]float64    // by schedule: the shortest time between two instants, seconds
	tasks         map[int]*taskOrder // by workflow
	isDestination []bool             // by node
	answers       map[int]Guarantee  // by endpoint
}

func newGuarantor(a *flow.Analysis) *guarantor {
	q := &guarantor{
		a:             a,
		g:             a.States,
		into:          make([][]int32, len(a.States.All)),
		holds:         make([]holding, len(a.States.All)),
		overtaking:    make([]string, len(a.States.Edges)),
		gaps:          map[int]float64{},
		tasks:         map[int]*taskOrder{},
		again:         map[int]string{},
		answers:       map[int]Guarantee{},
		isDestination: destinations(a),
		place:         make([]int32, len(a.States.All)),
	}
	for k, s := range q.g.Order {
		q.place[s] = int32(k)
	}
	q.cycles = [2]*cycles{q.findCycles(normally), q.findCycles(taken)}
	q.rounds = [2]*cycles{q.findRounds(normally), q.findRounds(taken)}
	for k := range q.g.Edges {
		if e := &q.g.Edges[k]; taken(e) {
			q.into[e.To] = append(q.into[e.To], int32(k))
			if e.Link != graph.None {
				q.overtaking[k] = q.overtakes(e.From, a.Link(e.Link), e.To)
			}
		}
	}
	for m := range q.causes {
		q.byState[m] = make([][]int32, len(q.g.All))
	}
	for s := range q.g.All {
		q.repeatedRuns(s)
		q.repeatedPasses(s)
		q.holds[s].most, q.holds[s].by = q.findHold(s)
	}
	for m := range q.causes {
		for k := range q.causes[m] {
			q.breaches[m] = append(q.breaches[m], q.breach(&q.causes[m][k]))
		}
	}
	for _, e := range a.EntryNodes {
		switch n := a.Node(e); n.Kind {
		case model.Schedule:
			q.gaps[e] = a.ShortestGap(n).Seconds()
		case model.Endpoint:
			q.answers[e] = q.answer(e)
		}
	}
	return q
}

// Of works out what holds for every entry and destination, or of one entry or
// destination where from or to names it. They come by entry and destination.
func Of(a *flow.Analysis, from, to string) []Guarantee {
	q := newGuarantor(a)
	var entries []int
	for _, e := range a.EntryNodes {
		if name := a.Node(e).Name; from == "" || from == name {
			entries = append(entries, e)
		}
	}
	found := make([][]Guarantee, len(entries))
	parallel.Each(len(entries), runtime.GOMAXPROCS(0), func() func(int) bool {
		w := &walker{guarantor: q, number: slices.Repeat([]int32{-1}, len(q.g.All))}
		w.marks = make([]int32, max(len(q.g.All), len(a.At)))
		return func(k int) bool {
			found[k] = w.from(entries[k], to)
			return true
		}
	})
	out := []Guarantee{}
	for _, list := range found {
		out = append(out, list...)
	}
	return out
}

// walker follows one entry after the other.
type walker struct {
	*guarantor
	number  []int32 // by state: its place on the way that is followed; negative: none
	visited []int32 // the states of that way
	buffers [][]few // those in use first
	used    int
	steps   []step
	marks   []int32 // by state or node: the last count of those that were marked
	marked  int32
}

// from works out what holds for an entry and every destination that its messages reach,
// or the one that is named.
func (w *walker) from(entry int, to string) []Guarantee {
	p := w.reach(entry)
	ends := slices.DeleteFunc(p.nodes(), func(d int) bool {
		n := w.a.Node(d)
		return d == entry || to != n.Name && (to != "" || !w.isDestination[d])
	})
	out := make([]Guarantee, len(ends))
	if len(ends) > 0 {
		p.follow()
	}
	for k, d := range ends {
		out[k] = p.guarantee(d)
	}
	if n := w.a.Node(entry); n.Kind.Answers() && (to == "" || to == n.Name) {
		out = append([]Guarantee{w.answers[entry]}, out...)
	}
	return out
}

// few returns a list for each place of the way, empty, until the next entry is followed.
func (w *walker) few(places int) []few {
	if w.used == len(w.buffers) {
		w.buffers = append(w.buffers, nil)
	}
	b := w.buffers[w.used]
	if cap(b) < places {
		b = make([]few, places)
	}
	b = b[:places]
	for k := range b {
		b[k].count = 0
	}
	w.buffers[w.used] = b
	w.used++
	return b
}

// effects gives the word for what may happen to an effect.
func effects(lost, repeated bool) string {
	switch {
	case lost && repeated:
		return "any_number"
	case lost:
		return "at_most_once"
	case repeated:
		return "at_least_once"
	}
	return "exactly_once"
}

// guarantee says what holds for the messages of the entry at a destination that they
// reach.
func (p *passage) guarantee(d int) Guarantee {
	a := p.q.a
	at := p.effectsAt(d)
	entry := a.Entries[a.Node(p.entry).Name]
	g := Guarantee{
		From: a.Node(p.entry).Name, To: a.Node(d).Name, Reaches: expr.Possible.String(),
		Survives: entry.Searched, Searched: entry.Searched,
		Losses: []Breach{}, Repeats: []Breach{}, Parks: p.parksBefore(at),
	}
	if p.surely[d] {
		g.Reaches = expr.Certain.String()
	}
	for _, s := range at {
		g.Survives = min(g.Survives, p.smallest[s]-1)
		for _, k := range p.losses[s].all() {
			g.Losses = addBreach(g.Losses, p.lossBreach(k))
		}
	}
	repeated, again := [2]bool{}, [2]bool{} // also where no idempotent function absorbs it
	if m, fault := p.circulates(at); m >= 0 {
		repeated[m], again[m] = true, true
		g.Repeats = append(g.Repeats, Breach{Fault: fault, Node: g.To, Why: "messages circulate through it"})
	}
	for m := range p.repeats {
		for _, s := range at {
			for _, c := range p.repeats[m][s].all() {
				repeated[m] = true
				g.Repeats = addBreach(g.Repeats, &p.q.breaches[m][c])
			}
			again[m] = again[m] || p.unabsorbed[m][s].count > 0
		}
	}
	if (repeated[0] || repeated[1]) && !again[0] && !again[1] {
		found := map[int32]bool{}
		for _, s := range at {
			for _, i := range p.absorbers[s].all() {
				found[i] = true
			}
		}
		for _, i := range flow.SortedKeys(found) {
			n := a.Node(int(i))
			g.Absorbed = append(g.Absorbed, Absorb{n.Name, n.Node.Idempotent})
		}
	}
	lost := [2]bool{g.Survives < 0, g.Survives < 1}
	g.Survives = max(g.Survives, 0)
	g.Effects = Effects{effects(lost[0], repeated[0]), effects(lost[1], repeated[0] || repeated[1])}
	g.Order = p.orderAt(at, repeated[0])
	g.Delay = p.delayAt(at)
	if n := a.Node(p.entry); n.Kind.Fires() && !g.Order.Kept && g.Delay.AtMost != nil &&
		p.q.gaps[p.entry] > *g.Delay.AtMost {
		g.Order = Order{Kept: true, By: []string{}} // each has its effect before the next begins
	}
	return g
}

// breachOf describes a loss set of at most one fault.
func breachOf(a *flow.Analysis, set *flow.LossSet) Breach {
	b := Breach{Node: set.Node, Why: strings.ReplaceAll(set.Cause, "_", " ")}
	if set.Link != graph.None {
		b.Link = a.Link(set.Link).Link.ID()
	}
	if len(set.Faults) == 1 {
		b.Fault = strings.Join(set.Faults[0], ", ")
	}
	return b
}

// lossBreach describes a loss set of the entry, once.
func (p *passage) lossBreach(k int32) *Breach {
	b, known := p.lossBreaches[k]
	if !known {
		made := breachOf(p.q.a, &p.q.a.Entries[p.q.a.Node(p.entry).Name].LossSets[k])
		b = &made
		p.lossBreaches[k] = b
	}
	return b
}

func addBreach(list []Breach, b *Breach) []Breach {
	if len(list) < breaches && !slices.Contains(list, *b) {
		return append(list, *b)
	}
	return list
}

func (q *guarantor) breach(x *cause) Breach {
	e := &q.g.Edges[x.edge]
	b := Breach{Fault: x.fault, Node: q.a.Node(q.g.All[e.From].Node).Name, Why: x.why, Slow: x.slow}
	if x.node != graph.None {
		b.Shows = q.a.Node(x.node).Name
	}
	if e.Link != graph.None {
		b.Link = q.a.Link(e.Link).Link.ID()
	}
	return b
}
