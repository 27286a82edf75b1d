// Package flow works out where the messages of a compiled topology go: how often, how
// late, round which loops, and where they are lost, without a fault and with some. It
// works on states: an abstract message at a node, in one delivery context.
//
// It does so in layers, each on those before it: abstract messages (messages.go), the
// graph of what can be where (states.go), what becomes of a run (outcomes.go, tasks.go),
// how many messages that makes (weights.go, traffic.go), loops (loops.go, growth.go),
// losses (faults.go, losses.go), outages, capacity, availability.
package flow

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"ironweir/core/check/internal/dist"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Analysis is what rules and guarantees look at. Its graph has its nodes in the order
// of their names, so that nothing depends on the order in which a file lists them.
type Analysis struct {
	Graph    *graph.Graph
	Off      []*graph.Link // links that are switched off, and no part of Graph
	Scenario *model.Scenario
	Inputs   map[string]model.EventFile // events by file name

	// What is printed, by the name of a node where nothing else is said.
	Loops    []Loop
	Entries  map[string]Entry
	Outages  map[string]Outage
	Capacity map[string]Capacity
	Readings map[int]Reading // by link that polls
	Cost     *Cost

	// By node or link.
	EntryNodes    []int // where messages from outside come in
	Sources       map[int][]Source
	At            []Incoming         // by node
	Reach         []reach            // by link
	DeadLettersOf [][]int            // by node: where its messages may be dead-lettered
	DeadLetterFor [][]string         // by node: the nodes that state it as their own dead-letter, by name
	Rates         []float64          // by node, per second
	LinkRates     []float64          // by link, per second
	GuessedLinks  []bool             // whose rates rest on what only a payload decides
	Boundless     []bool             // by node: its rate has no bound
	Rejected      map[int]float64    // by node: the share of writes that it rejects for want of room
	narrowing     map[int]*narrowing // of it
	Places        []PlaceLoss        // where messages are lost
	Payloads      Payloads

	// By state: see StateGraph.
	States    *StateGraph
	IsEntry   []bool    // messages from outside come in there
	Into      [][]int32 // the states that lead to it
	Parks     [][]Park
	Unmatched map[int]bool // of which no link takes a message

	memo      *Memo                       // of the check that this analysis is part of
	arrivals  []float64                   // from outside, by node, per second
	simpler   map[string]*expr.Expression // conditions of which the key decides a part
	hopLimit  int16                       // the largest hop limit that is counted; -1: none is
	keepsRows []bool

	doomedCalls map[int]float64 // by state that is called: the share of calls for messages that it never processes

	policies   []graph.Policy
	policyIDs  map[string]int32
	linkPolicy []int32
	ownPolicy  []int32

	surely        []bool // by state: some message certainly comes there
	guessedStates []bool
	losses        [][]loss        // by state: with nothing broken
	behind        map[int]float64 // by reader link: the share that it has no time for
	throttled     map[int]float64 // by node: the share of offers that find no free run
	loads         map[int]float64 // by node with a limit: utilisation of it
	grows         []bool          // by state: its rate has no bound
	stateRates    []float64
	partitions    []int          // by node: of its partitions, those that get messages; 0: as many as it needs
	mates         map[int][]mate // by link that reads
	runs          []float64      // by node, per second

	faults   *faultModel
	surges   map[int][]surge // by state
	quietest float64         // messages per second at the entry that gets the fewest
	limited  []int           // queues that fill up
	dead     []lastResort    // writes to dead-letter nodes
	deadAt   [][]int32       // of them, those at each state

	stamps       []int32 // see exploration
	open         []int32 // the edges that messages take without a fault
	openFirst    []int32
	placeIDs     map[Place]int32
	passed       []faultSet // by state: callees that have processed all that comes there; nil: none to look at
	designStamp  []int32    // by place: the exploration in which everything is lost there
	explorations int32
}

// Analyse works out everything that the rules look at.
func Analyse(g *graph.Graph, s *model.Scenario) *Analysis { return AnalyseWith(g, s, nil) }

// AnalyseWith does what Analyse does; inputs holds the events of files.
func AnalyseWith(g *graph.Graph, s *model.Scenario, inputs map[string]model.EventFile) *Analysis {
	return AnalyseSharing(g, s, inputs, NewMemo())
}

func AnalyseSharing(g *graph.Graph, s *model.Scenario, inputs map[string]model.EventFile, m *Memo) *Analysis {
	a := newAnalysis(byName(g), s, inputs, m)
	for i := range g.Links {
		if l := g.Links[i].Link; l.Disabled && a.Graph.LinkID(l.ID()) == graph.None {
			a.Off = append(a.Off, &g.Links[i])
		}
	}
	a.countHops()
	a.follow()
	a.findMeans()
	if a.hopLimit >= 0 { // loops are found without counting hops
		flat := newAnalysis(a.Graph, s, inputs, m)
		flat.follow()
		flat.findMeans()
		flat.findLoads()
		flat.findLoops()
		flat.findCapacity()
		flat.findLimits()
		a.Loops = flat.Loops
		a.findEntryStates()
	}
	a.findLoads()
	if a.hopLimit < 0 { // what is rejected or given up for want of room or time may close one
		a.findLoops()
	}
	a.findCapacity()
	if a.hopLimit < 0 {
		a.findLimits()
	}
	a.priceMonth()
	a.findLosses()
	a.findOutages()
	a.findAvailability()
	return a
}

// Memo keeps what does not depend on the rest of a model, for a check and for the
// proofs of its remedies.
type Memo struct {
	rates   map[string]float64       // of schedules, per second
	gaps    map[string]time.Duration // the shortest between two firings
	changes map[string]ChangedInstant
	sums    *dist.Sums
}

func NewMemo() *Memo {
	return &Memo{
		rates:   map[string]float64{},
		gaps:    map[string]time.Duration{},
		changes: map[string]ChangedInstant{},
		sums:    dist.NewSums(),
	}
}

// calendarKey names the calendar of a schedule.
func calendarKey(n *graph.Node) string {
	return fmt.Sprint(n.Every, "|", n.Cron, "|", n.CronFields, "|", n.Sunday, "|", n.Zone)
}

// remembered returns a value that is worked out once for each key.
func remembered[V any](known map[string]V, key string, work func() V) V {
	v, ok := known[key]
	if !ok {
		v = work()
		known[key] = v
	}
	return v
}

func newAnalysis(g *graph.Graph, s *model.Scenario, inputs map[string]model.EventFile, m *Memo) *Analysis {
	a := &Analysis{
		Graph:     g,
		Scenario:  s,
		memo:      m,
		Inputs:    inputs,
		hopLimit:  -1,
		policyIDs: map[string]int32{},
		simpler:   map[string]*expr.Expression{},
		Rejected:  map[int]float64{},
	}
	a.linkPolicy = make([]int32, len(g.Links))
	for i := range g.Links {
		a.linkPolicy[i] = a.policyID(&g.Links[i].Policy)
	}
	a.ownPolicy = make([]int32, len(g.Nodes))
	a.keepsRows = make([]bool, len(g.Nodes))
	for i := range g.Nodes {
		n := &g.Nodes[i]
		a.ownPolicy[i] = a.policyID(&n.Intake)
		for _, id := range n.Out {
			a.keepsRows[i] = a.keepsRows[i] || n.Kind.Keeps() && len(g.Links[id].Changes) > 0
		}
	}
	a.findDeadLetters()
	a.outsideRates()
	a.findEntries()
	return a
}

// follow follows messages round the links.
func (a *Analysis) follow() {
	a.flowMessages()
	a.findStates()
	a.findPartitions()
	a.findPassed()
}

// findMeans works out what each message makes.
func (a *Analysis) findMeans() {
	for m := range a.States.outcomes {
		clear(a.States.outcomes[m])
	}
	a.Unmatched, a.mates = map[int]bool{}, nil
	a.weigh()
}

// findLoads works out rates, with what they make of batches, full channels and readers.
func (a *Analysis) findLoads() {
	a.findRates()
	a.findBatches()
	a.balance()
}

// findRates solves the traffic equations.
func (a *Analysis) findRates() {
	defer func() { a.mates = nil }() // which are by rates
	if a.IsEntry == nil {
		a.findEntryStates()
	}
	a.grows = a.growingStates()
	a.Boundless = make([]bool, len(a.Graph.Nodes))
	for s, g := range a.grows {
		if g {
			a.Boundless[a.States.All[s].Node] = true
		}
	}
	a.solveTraffic()
}

// balance works rates out again for what depends on them: channels that are full reject,
// which holds up those who write there, nodes without a free run turn away what is offered
// to them, and readers that are behind let messages expire or give them up.
func (a *Analysis) balance() {
	const rounds, roundsOfRoom = 4, 16 // the first are enough for a full channel behind a full channel behind another
	a.narrowing = map[int]*narrowing{}
	for k := range roundsOfRoom {
		full := a.findOverfull()
		throttled := a.findThrottles()
		behind := a.findBehind()
		doomed := a.findDoomedCalls()
		if !full && !throttled && !behind && !doomed && (k > 0 || !a.fillsBatches()) {
			return
		}
		if k >= rounds && !full {
			return
		}
		a.findMeans()
		a.findRates()
		a.findBatches()
	}
}

// fillsBatches reports whether some batch holds more than one message on average.
func (a *Analysis) fillsBatches() bool {
	return slices.ContainsFunc(a.States.batches, func(b float64) bool { return b > 1 })
}

// mostHops bounds the hop limits that are counted exactly.
const mostHops = 64

// countHops has messages count the functions that they pass through, where a hop
// limit asks for that.
func (a *Analysis) countHops() {
	for i := range a.Graph.Nodes {
		if n := a.Node(i); n.Kind == model.Function && n.HopLimit != model.NoHopLimit && n.HopLimit <= mostHops {
			a.hopLimit = max(a.hopLimit, int16(n.HopLimit))
		}
	}
}

// byName returns a graph with its nodes in the order of their names, without the links
// that are switched off: those count as absent. A workflow's calls keep theirs, since its
// tasks name them.
func byName(g *graph.Graph) *graph.Graph {
	less := func(x, y *model.Node) int { return strings.Compare(x.Name, y.Name) }
	off := func(l *model.Link) bool { return l.Disabled && !l.ByTask }
	anyOff := slices.ContainsFunc(g.Links, func(l graph.Link) bool { return off(l.Link) })
	if !anyOff && slices.IsSortedFunc(g.Topology.Nodes, less) {
		return g
	}
	sorted := *g.Topology
	sorted.Nodes = slices.Clone(g.Topology.Nodes)
	for i, n := range sorted.Nodes {
		if slices.ContainsFunc(n.Links, off) {
			without := *n
			without.Links = slices.DeleteFunc(slices.Clone(n.Links), off)
			sorted.Nodes[i] = &without
		}
	}
	slices.SortFunc(sorted.Nodes, less)
	out, err := graph.Compile(&sorted)
	if err != nil {
		return g // it has been compiled before: it does compile
	}
	return out
}

func (a *Analysis) Node(i int) *graph.Node { return &a.Graph.Nodes[i] }
func (a *Analysis) Link(i int) *graph.Link { return &a.Graph.Links[i] }

// findDeadLetters lists the nodes that each node's messages may be dead-lettered to.
func (a *Analysis) findDeadLetters() {
	a.DeadLettersOf, a.DeadLetterFor = make([][]int, len(a.Graph.Nodes)), make([][]string, len(a.Graph.Nodes))
	add := func(holder, to int) {
		if to != graph.None && !slices.Contains(a.DeadLettersOf[holder], to) {
			a.DeadLettersOf[holder] = append(a.DeadLettersOf[holder], to)
		}
	}
	for i := range a.Graph.Nodes {
		if to := a.Node(i).DeadLetter; to != graph.None {
			add(i, to)
			a.DeadLetterFor[to] = append(a.DeadLetterFor[to], a.Node(i).Name)
		}
	}
	for i := range a.Graph.Links {
		l := a.Link(i)
		if l.Relation.Delivering() || l.Refused {
			add(l.From, l.DeadLetter)
		}
		if !l.Relation.Polls() {
			add(l.To, l.DeadLetter)
		}
	}
}

// findEntries finds where messages from outside come in: schedules, endpoints, nodes
// with keys, types, sources, a rate or traffic, and channels that nothing feeds but
// each other: while a model is being built, their traffic is not stated yet.
func (a *Analysis) findEntries() {
	edges := a.Graph.Edges(true)
	n := len(a.Graph.Nodes)
	ring := make([]int, n) // that a node lies in; below n: it is its own
	for i := range ring {
		ring[i] = i
	}
	for c, nodes := range a.Graph.Components(edges) {
		for _, i := range nodes {
			ring[i] = n + c
		}
	}
	fed := make([]bool, 2*n) // by ring, from outside of it
	for _, e := range edges {
		if ring[e.From] != ring[e.To] {
			fed[ring[e.To]] = true
		}
	}
	said := func(n *graph.Node) bool {
		if n.Kind.Fires() {
			return n.Enabled || a.switchedOn(n)
		}
		return n.Kind.Answers() || n.Rate > 0 || len(n.Node.Keys) > 0 || len(n.Types) > 0 ||
			len(n.Sources) > 0 ||
			len(a.Sources[n.ID]) > 0
	}
	for i := range a.Graph.Nodes {
		if said(a.Node(i)) {
			fed[ring[i]] = true
		}
	}
	for i := range a.Graph.Nodes {
		n := a.Node(i)
		grows := a.Scenario == nil || !a.Scenario.TrafficGiven // else it says who sends what
		if said(n) || grows && !fed[ring[i]] && n.Kind.Channel() && len(n.Out) > 0 {
			a.EntryNodes = append(a.EntryNodes, i)
		}
	}
}

// switchedOn reports whether an incident of the scenario switches a schedule on.
func (a *Analysis) switchedOn(n *graph.Node) bool {
	if a.Scenario == nil {
		return false
	}
	for _, in := range a.Scenario.Incidents {
		if in.Node == n.Name && in.Enabled != nil && *in.Enabled {
			return true
		}
	}
	return false
}

// LinkRate returns the messages per second that take a link, NaN where they have no
// bound or the link does not exist.
func (a *Analysis) LinkRate(id string) float64 {
	k := a.Graph.LinkID(id)
	if k == graph.None || a.Boundless[a.Link(k).From] {
		return math.NaN()
	}
	return a.LinkRates[k]
}

// LinkGuessed reports whether the rate of a link rests on what only a payload decides.
func (a *Analysis) LinkGuessed(id string) bool {
	k := a.Graph.LinkID(id)
	return k != graph.None && a.GuessedLinks[k]
}

// Overfull lists the channels that reject part of what is written to them, since more
// is written than they take.
func (a *Analysis) Overfull() []string {
	var out []string
	for i := range a.Graph.Nodes {
		if a.Rejected[i] > 0 {
			out = append(out, a.Node(i).Name)
		}
	}
	return out
}

// PolledState returns a state that a reader link brings messages to, or None.
func (a *Analysis) PolledState(l *graph.Link) int {
	for _, s := range a.States.Of[l.To] {
		if at := a.States.All[s]; at.How == AsPoll && int(at.Link) == l.ID {
			return int(s)
		}
	}
	return graph.None
}

// Asynchronous reports whether some message comes to a node without a caller that
// waits for its run.
func (a *Analysis) Asynchronous(i int) bool {
	n := a.Node(i)
	for _, id := range n.In {
		if a.Link(id).Relation.Asynchronous() {
			return true
		}
	}
	return n.Rate > 0 || a.Sources[i] != nil || len(n.DeadFrom) > 0 || len(a.DeadLetterFor[i]) > 0
}
