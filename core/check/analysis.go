package check

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

// Analysis is what all rules look at. Its graph has its nodes in the order of their
// names, so that nothing depends on the order in which a file lists them.
type Analysis struct {
	Graph    *graph.Graph
	Reach    []reach // by link
	At       []flow  // by node: what can come to it
	Loops    []Loop
	Entries  map[string]Entry
	Outages  map[string]Outage
	Capacity map[string]Capacity
	Readings map[int]Reading // by link that polls
	Cost     *Cost

	scenario *model.Scenario
	memo     *memo                      // of the check that this analysis is part of
	inputs   map[string]model.EventFile // events by file name
	entries  []int                      // node ids where messages from outside come in
	sources  map[int][]source
	arrivals []float64 // from outside, by node, per second

	payloads      payloads
	simpler       map[string]*expr.Expression // conditions of which the key decides a part
	hopLimit      int16                       // the largest hop limit that is counted; -1: none is
	keepsRows     []bool
	deadLettersOf [][]int // by node: where its messages may be dead-lettered
	policies      []graph.Policy
	policyIDs     map[string]int32
	linkPolicy    []int32
	ownPolicy     []int32

	states                      *stateGraph
	isEntry                     []bool    // by state: messages from outside come in there
	surely                      []bool    // by state: some message certainly comes there
	into                        [][]int32 // by state: the states that lead to it
	guessedStates, guessedLinks []bool    // whose rates rest on what only a payload decides
	losses                      [][]loss  // by state: with nothing broken
	parks                       [][]park
	unmatched                   map[int]bool    // states of which no link takes a message
	behind                      map[int]float64 // by reader link: the share that it has no time for
	overfull                    map[int]float64 // by node: the share of writes that it rejects for want of room
	throttled                   map[int]float64 // by node: the share of offers that find no free run
	loads                       map[int]float64 // by node with a limit: utilisation of it
	grows                       []bool          // by state: its rate has no bound
	boundless                   []bool          // by node
	rates                       []float64       // by node, per second
	linkRate                    []float64
	stateRates                  []float64
	runs                        []float64 // by node, per second

	Off     []*graph.Link // links that are switched off, and no part of Graph
	faults  *faultModel
	surges  map[int][]surge // by state
	limited []int           // queues that fill up
	dead    []lastResort    // writes to dead-letter nodes
	deadAt  [][]int32       // of them, those at each state

	stamps       []int32 // see exploration
	open         []int32 // the edges that messages take without a fault
	openFirst    []int32
	places       []placeLoss
	placeIDs     map[place]int32
	designStamp  []int32 // by place: the exploration in which everything is lost there
	explorations int32
}

// Analyse works out everything that the rules look at.
func Analyse(g *graph.Graph, s *model.Scenario) *Analysis { return AnalyseWith(g, s, nil) }

// AnalyseWith does what Analyse does; inputs holds the events of files.
func AnalyseWith(g *graph.Graph, s *model.Scenario, inputs map[string]model.EventFile) *Analysis {
	return analyse(g, s, inputs, newMemo())
}

func analyse(g *graph.Graph, s *model.Scenario, inputs map[string]model.EventFile, m *memo) *Analysis {
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
		flat.findLoops()
		flat.findRates()
		flat.findBatches()
		flat.findCapacity()
		flat.findLimits()
		a.Loops = flat.Loops
		a.findEntryStates()
	} else {
		a.findLoops()
	}
	a.findRates()
	a.findBatches()
	a.balance()
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

// memo keeps what does not depend on the rest of a model, for a check and for the
// proofs of its remedies.
type memo struct {
	rates   map[string]float64       // of schedules, per second
	gaps    map[string]time.Duration // the shortest between two firings
	changes map[string]changedInstant
	sums    *dist.Sums
}

func newMemo() *memo {
	return &memo{
		rates:   map[string]float64{},
		gaps:    map[string]time.Duration{},
		changes: map[string]changedInstant{},
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

func newAnalysis(g *graph.Graph, s *model.Scenario, inputs map[string]model.EventFile, m *memo) *Analysis {
	a := &Analysis{
		Graph:     g,
		scenario:  s,
		memo:      m,
		inputs:    inputs,
		hopLimit:  -1,
		policyIDs: map[string]int32{},
		simpler:   map[string]*expr.Expression{},
		overfull:  map[int]float64{},
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
}

// findMeans works out what each message makes.
func (a *Analysis) findMeans() {
	for m := range a.states.outcomes {
		clear(a.states.outcomes[m])
	}
	a.unmatched = map[int]bool{}
	a.weigh()
}

// findRates solves the traffic equations.
func (a *Analysis) findRates() {
	if a.isEntry == nil {
		a.findEntryStates()
	}
	a.grows = a.growingStates()
	a.boundless = make([]bool, len(a.Graph.Nodes))
	for s, g := range a.grows {
		if g {
			a.boundless[a.states.all[s].node] = true
		}
	}
	a.solveTraffic()
}

// balance works rates out again for what depends on them: channels that are full reject,
// which holds up those who write there, nodes without a free run turn away what is offered
// to them, and readers that are behind let messages expire.
func (a *Analysis) balance() {
	const rounds = 4 // enough for a full channel behind a full channel behind another
	for k := range rounds {
		full := a.findOverfull()
		throttled := a.findThrottles()
		behind := a.findBehind()
		if !full && !throttled && !behind && (k > 0 || !a.fillsBatches()) {
			return
		}
		a.findMeans()
		a.findRates()
		a.findBatches()
	}
}

// fillsBatches reports whether some batch holds more than one message on average.
func (a *Analysis) fillsBatches() bool {
	return slices.ContainsFunc(a.states.batches, func(b float64) bool { return b > 1 })
}

// mostHops bounds the hop limits that are counted exactly.
const mostHops = 64

// countHops has messages count the functions that they pass through, where a hop
// limit asks for that.
func (a *Analysis) countHops() {
	for i := range a.Graph.Nodes {
		if n := a.node(i); n.Kind == model.Function && n.HopLimit != model.NoHopLimit && n.HopLimit <= mostHops {
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

func (a *Analysis) node(i int) *graph.Node { return &a.Graph.Nodes[i] }
func (a *Analysis) link(i int) *graph.Link { return &a.Graph.Links[i] }

// findDeadLetters lists the nodes that each node's messages may be dead-lettered to.
func (a *Analysis) findDeadLetters() {
	a.deadLettersOf = make([][]int, len(a.Graph.Nodes))
	add := func(holder, to int) {
		if to != graph.None && !slices.Contains(a.deadLettersOf[holder], to) {
			a.deadLettersOf[holder] = append(a.deadLettersOf[holder], to)
		}
	}
	for i := range a.Graph.Nodes {
		add(i, a.node(i).DeadLetter)
	}
	for i := range a.Graph.Links {
		l := a.link(i)
		if l.Relation.Delivering() {
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
		if n.Kind == model.Schedule {
			return n.Enabled || a.switchedOn(n)
		}
		return n.Kind == model.Endpoint || n.Rate > 0 || len(n.Node.Keys) > 0 || len(n.Types) > 0 ||
			len(n.Sources) > 0 ||
			len(a.sources[n.ID]) > 0
	}
	for i := range a.Graph.Nodes {
		if said(a.node(i)) {
			fed[ring[i]] = true
		}
	}
	for i := range a.Graph.Nodes {
		n := a.node(i)
		grows := a.scenario == nil || !a.scenario.TrafficGiven // else it says who sends what
		if said(n) || grows && !fed[ring[i]] && n.Kind.Channel() && len(n.Out) > 0 {
			a.entries = append(a.entries, i)
		}
	}
}

// switchedOn reports whether an incident of the scenario switches a schedule on.
func (a *Analysis) switchedOn(n *graph.Node) bool {
	if a.scenario == nil {
		return false
	}
	for _, in := range a.scenario.Incidents {
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
	if k == graph.None || a.boundless[a.link(k).From] {
		return math.NaN()
	}
	return a.linkRate[k]
}

// LinkGuessed reports whether the rate of a link rests on what only a payload decides.
func (a *Analysis) LinkGuessed(id string) bool {
	k := a.Graph.LinkID(id)
	return k != graph.None && a.guessedLinks[k]
}

// Overfull lists the channels that reject part of what is written to them, since more
// is written than they take.
func (a *Analysis) Overfull() []string {
	var out []string
	for i := range a.Graph.Nodes {
		if a.overfull[i] > 0 {
			out = append(out, a.node(i).Name)
		}
	}
	return out
}

// polledState returns a state that a reader link brings messages to, or None.
func (a *Analysis) polledState(l *graph.Link) int {
	for _, s := range a.states.of[l.To] {
		if at := a.states.all[s]; at.how == asPoll && int(at.link) == l.ID {
			return int(s)
		}
	}
	return graph.None
}

// deadLettersOfNodes gives, by dead-letter, the names of the nodes that state it
// for what comes to them.
func (a *Analysis) deadLettersOfNodes() map[int][]string {
	out := map[int][]string{}
	for i := range a.Graph.Nodes {
		if n := a.node(i); n.DeadLetter != graph.None {
			out[n.DeadLetter] = append(out[n.DeadLetter], n.Name)
		}
	}
	return out
}

// asynchronous reports whether some message comes to a node without a caller that
// waits for its run.
func (a *Analysis) asynchronous(i int) bool {
	n := a.node(i)
	for _, id := range n.In {
		if a.link(id).Relation.Asynchronous() {
			return true
		}
	}
	return n.Rate > 0 || a.sources[i] != nil || len(n.DeadFrom) > 0 || len(a.deadLettersOfNodes()[i]) > 0
}
