// Package check works on a compiled topology without running it: what keys
// reach where, what loops, what is lost when something fails, how busy
// everything is. Each rule is one value in one file, listed in Rules.
package check

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Severity is how bad a finding is.
type Severity string

const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Note    Severity = "note"
)

// rank orders severities, worst first.
func (s Severity) rank() int {
	return map[Severity]int{Error: 0, Warning: 1, Note: 2}[s]
}

// AtLeast tells whether s is as bad as t or worse.
func (s Severity) AtLeast(t Severity) bool { return s.rank() <= t.rank() }

// Rule is one thing that is looked for.
type Rule struct {
	Code     string
	Title    string
	Severity Severity
	Doc      string // what it means, why it matters, what to do
	Run      func(*Pass)
}

// Rules lists every rule, by code. To add one, write its file and name it here.
var Rules = []*Rule{certainLoop, possibleLoop, brokenLoop, waitingCycle, endlessSendBack,
	lostByDesign, singlePointOfLoss, unreadParked, shortDeadLetterRetention, untakenKeys, unreadQueue, unusedDeadLetter,
	deadResultLinks, impossibleFilter, competingLinks, refusedLink, oversizedPayload, unreachedNode, declinedPayload,
	shortLease, startSendsRepeat, wholeBatchFails, blockedPartition, shortCallerTimeout, lostOrder, halfDone, repeatedEffects,
	overloaded, nearlyOverloaded, overcommittedPool, tooManyReaders, multiplyingRetries,
	overlappingSchedule, everySecond, clockChange, idleSchedule, uselessKeepWarm}

// RuleByCode gives a rule, or nil.
func RuleByCode(code string) *Rule {
	for _, r := range Rules {
		if strings.EqualFold(r.Code, code) {
			return r
		}
	}
	return nil
}

// Pass is what a rule looks at and reports to.
type Pass struct {
	*Analysis
	rule     *Rule
	findings []Finding
}

// Finding is one thing found. Its id stays the same while its cause does.
type Finding struct {
	ID       string         `json:"id"`
	Code     string         `json:"code"`
	Severity Severity       `json:"severity"`
	Title    string         `json:"title"`
	Message  string         `json:"message"`
	Nodes    []string       `json:"nodes"`
	Links    []string       `json:"links"`
	Owners   []string       `json:"owners"` // of the nodes
	Position model.Position `json:"position"`
	Evidence map[string]any `json:"evidence"`
	Accepted *Acceptance    `json:"accepted"`
	Remedies []Remedy       `json:"remedies"`
}

// Acceptance says that somebody decided to live with a finding.
type Acceptance struct {
	Because string     `json:"because"`
	Until   *time.Time `json:"until"`
}

// Remedy is a change that makes a finding go away: a JSON Merge Patch
// (RFC 7396) over the model.
type Remedy struct {
	Say   string         `json:"say"`
	Patch map[string]any `json:"patch"`
}

// report adds a finding at a place, about some nodes and links.
func (p *Pass) report(pos model.Position, nodes, links []string, evidence map[string]any, remedies []Remedy, format string, args ...any) {
	if nodes == nil {
		nodes = []string{}
	}
	if links == nil {
		links = []string{}
	}
	if evidence == nil {
		evidence = map[string]any{}
	}
	if remedies == nil {
		remedies = []Remedy{}
	}
	sum := sha256.Sum256([]byte(p.rule.Code + "|" + strings.Join(nodes, ",") + "|" + strings.Join(links, ",")))
	p.findings = append(p.findings, Finding{ID: hex.EncodeToString(sum[:6]), Code: p.rule.Code, Severity: p.rule.Severity, Title: p.rule.Title,
		Message: fmt.Sprintf(format, args...), Nodes: nodes, Links: links, Position: pos, Evidence: evidence, Remedies: remedies})
}

// patchNode is a remedy that sets fields of a node.
func patchNode(say, node string, fields map[string]any) Remedy {
	return Remedy{Say: say, Patch: map[string]any{"nodes": map[string]any{node: fields}}}
}

// patchLink is a remedy that sets fields of a link.
func patchLink(say string, l *graph.Link, fields map[string]any) Remedy {
	return patchNode(say, l.Link.From, map[string]any{"links": map[string]any{l.Link.Name: fields}})
}

// Summary counts findings.
type Summary struct {
	Errors   int `json:"errors"`
	Warnings int `json:"warnings"`
	Notes    int `json:"notes"`
	Accepted int `json:"accepted"`
}

// Document is what `check -format json` prints.
type Document struct {
	document.Head
	Summary  Summary              `json:"summary"`
	Findings []Finding            `json:"findings"`
	Loops    []Loop               `json:"loops"`
	Entries  map[string]Entry     `json:"entries"`
	Outages  map[string]Outage    `json:"outages"`
	Capacity map[string]Capacity  `json:"capacity"`
	Links    map[string]LinkReach `json:"links"`
	Cost     *Cost                `json:"cost"`
	Guesses  []string             `json:"guesses"`
	Owners   []string             `json:"owners"`         // all that the model names
	Gone     []Gone               `json:"gone,omitempty"` // with -since: what the older model had
}

// LinkReach tells whether anything can take a link, and how much does.
type LinkReach struct {
	Reach   string   `json:"reach"`
	Rate    *float64 `json:"rate"`              // per second; null: without bound or unknown
	Reading *Reading `json:"reading,omitempty"` // of a link whose readers take messages
}

// Run checks a graph; s, where given, says what outsiders send.
func Run(g *graph.Graph, s *model.Scenario, head document.Head, now time.Time) *Document {
	a := Analyse(g, s)
	doc := &Document{Head: head, Findings: []Finding{}, Loops: a.Loops, Entries: a.Entries, Outages: a.Outages, Capacity: a.Capacity,
		Links: map[string]LinkReach{}, Cost: a.Cost, Guesses: append([]string{}, g.Topology.Guesses...)}
	doc.Owners = []string{}
	for _, n := range g.Topology.Nodes {
		if n.Owner != "" && !slices.Contains(doc.Owners, n.Owner) {
			doc.Owners = append(doc.Owners, n.Owner)
		}
	}
	sort.Strings(doc.Owners)
	for _, r := range Rules {
		p := &Pass{Analysis: a, rule: r}
		r.Run(p)
		doc.Findings = append(doc.Findings, p.findings...)
	}
	for i := range doc.Findings {
		f := &doc.Findings[i]
		f.Accepted = acceptance(g.Topology, f, now)
		f.Owners = ownersOf(g.Topology, f)
	}
	doc.count()
	sort.SliceStable(doc.Findings, func(i, j int) bool {
		a, b := &doc.Findings[i], &doc.Findings[j]
		if (a.Accepted != nil) != (b.Accepted != nil) {
			return b.Accepted != nil
		}
		if a.Severity != b.Severity {
			return a.Severity.rank() < b.Severity.rank()
		}
		return a.Position.Line < b.Position.Line
	})
	for i := range g.Links {
		l := LinkReach{Reach: a.Reach[i].String()}
		if !a.boundless[g.Links[i].From] {
			rate := a.linkRate[i]
			l.Rate = &rate
			if r, ok := a.Readings[i]; ok {
				l.Reading = &r
			}
		}
		doc.Links[g.Links[i].Link.ID()] = l
	}
	return doc
}

// count sums the findings up.
func (d *Document) count() {
	d.Summary = Summary{}
	for i := range d.Findings {
		switch f := &d.Findings[i]; {
		case f.Accepted != nil:
			d.Summary.Accepted++
		case f.Severity == Error:
			d.Summary.Errors++
		case f.Severity == Warning:
			d.Summary.Warnings++
		default:
			d.Summary.Notes++
		}
	}
}

// ownersOf lists who answers for the nodes of a finding.
func ownersOf(t *model.Topology, f *Finding) []string {
	owners := []string{}
	for _, name := range f.Nodes {
		if n := t.Node(name); n != nil && n.Owner != "" && !slices.Contains(owners, n.Owner) {
			owners = append(owners, n.Owner)
		}
	}
	return owners
}

// Gone is a finding of an older model that a newer one does not have.
type Gone struct {
	ID      string `json:"id"`
	Code    string `json:"code"`
	Message string `json:"message"`
}

// Since leaves only the findings that an older model did not have, and lists
// those that are gone.
func (d *Document) Since(old *Document) {
	had, has := map[string]bool{}, map[string]bool{}
	for _, f := range old.Findings {
		had[f.ID] = true
	}
	fresh := []Finding{}
	for _, f := range d.Findings {
		has[f.ID] = true
		if !had[f.ID] {
			fresh = append(fresh, f)
		}
	}
	d.Gone = []Gone{}
	for _, f := range old.Findings {
		if !has[f.ID] {
			d.Gone = append(d.Gone, Gone{f.ID, f.Code, f.Message})
		}
	}
	d.Findings = fresh
	d.count()
}

// OnlyOwner leaves only the findings on nodes of an owner.
func (d *Document) OnlyOwner(owner string) error {
	if !slices.Contains(d.Owners, owner) {
		return fmt.Errorf("no node has the owner %q%s", owner, model.DidYouMean(owner, d.Owners))
	}
	kept := []Finding{}
	for _, f := range d.Findings {
		if slices.Contains(f.Owners, owner) {
			kept = append(kept, f)
		}
	}
	d.Findings = kept
	d.count()
	return nil
}

// acceptance gives the decision to live with a finding, unless it has run out.
func acceptance(t *model.Topology, f *Finding, now time.Time) *Acceptance {
	for _, a := range t.Accepted {
		if a.Code != f.Code || a.Until != nil && !now.Before(*a.Until) {
			continue
		}
		if a.Node != "" && !slices.Contains(f.Nodes, a.Node) || a.Link != "" && !slices.Contains(f.Links, a.Link) {
			continue
		}
		return &Acceptance{a.Because, a.Until}
	}
	return nil
}

// Analysis is what all rules look at.
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

	entries   []int // node ids where messages from outside come in
	rates     []float64
	linkRate  []float64
	boundless []bool // by node: its rate grows without bound
	arrivals  []float64
	sources   map[int]*model.Traffic
	scenario  *model.Scenario
	states    *stateGraph
	spotRates []float64
	runs      []float64 // by node, per second
	waves     *waves
	grows     []bool    // by spot: its rate has no bound
	failing   []float64 // by node: the share of its runs that fail; see runFails
	holding   []float64 // by node; see holdingTime
	meanRuns  []float64 // by node; see meanRun
}

// Analyse works out everything that the rules look at.
func Analyse(g *graph.Graph, s *model.Scenario) *Analysis {
	a := &Analysis{Graph: g, scenario: s}
	a.findEntries(s)
	a.flowKeys(s)
	a.findStates()
	a.findLoops()
	a.solveTraffic(s)
	a.findCapacity()
	a.findLimits()
	a.priceMonth()
	a.findLosses()
	a.findOutages()
	return a
}

func (a *Analysis) node(i int) *graph.Node { return &a.Graph.Nodes[i] }
func (a *Analysis) link(i int) *graph.Link { return &a.Graph.Links[i] }

// findEntries finds where messages from outside come in: schedules, endpoints,
// nodes with keys, a rate or traffic, channels that nothing feeds, and the first
// of those that feed each other and that nothing else feeds: while a model grows,
// nobody has said yet who fills them.
func (a *Analysis) findEntries(s *model.Scenario) {
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
	traffic := map[string]bool{}
	if s != nil {
		for _, t := range s.Traffic {
			traffic[t.Into] = true
		}
	}
	said := func(n *graph.Node) bool {
		return n.Kind == model.Schedule || n.Kind == model.Endpoint || n.Rate > 0 || len(n.Node.Keys) > 0 || traffic[n.Name]
	}
	for i := range a.Graph.Nodes {
		if said(a.node(i)) {
			fed[ring[i]] = true
		}
	}
	for i := range a.Graph.Nodes {
		n := a.node(i)
		if said(n) || !fed[ring[i]] && n.Kind.Channel() && len(n.Out) > 0 {
			a.entries = append(a.entries, i)
			fed[ring[i]] = true // of a ring, the one that is written first
		}
	}
}
