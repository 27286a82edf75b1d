// Package check analyses a compiled topology without running it: which messages
// reach which node, what loops, what is lost with and without faults, how busy
// everything is. What it says is never safer than what a run can show, and never an
// alarm that no run can show; core/verify holds it to that.
//
// What it says is worked out in flow. Here, each rule is one value in a rules_*.go file,
// listed in Rules, and what it offers is proven on a copy of the model (prove.go).
package check

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"ironweir/core/check/flow"
	"ironweir/core/check/remedy"
	"ironweir/core/document"
	"ironweir/core/expr"
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

// AtLeast reports whether s is as bad as t or worse.
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
	lostNormally, singlePointOfLoss, unreadParked, shortDeadLetterRetention, unmatchedKeys, unreadQueue,
	unusedDeadLetter, parkedNormally,
	deadResultLinks, impossibleFilter, competingLinks, refusedLink, oversizedPayload, unreachedNode, declinedPayload,
	shortLease, startSendsRepeat, wholeBatchFails, blockedPartition, shortCallerTimeout, lostOrder, nonAtomicSends,
	repeatedEffects, lateRuns,
	overloaded, nearlyOverloaded, overcommittedPool, tooManyReaders, multiplyingRetries, unknownLength,
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
	*flow.Analysis
	rule     *Rule
	findings []Finding
}

// Finding is one thing found. Its id stays the same while its cause does.
type Finding struct {
	ID       string          `json:"id"`
	Code     string          `json:"code"`
	Severity Severity        `json:"severity"`
	Title    string          `json:"title"`
	Message  string          `json:"message"`
	Nodes    []string        `json:"nodes"`
	Links    []string        `json:"links"`
	Owners   []string        `json:"owners"` // of the nodes
	Position model.Position  `json:"position"`
	Evidence map[string]any  `json:"evidence"`
	Accepted *Acceptance     `json:"accepted"`
	Remedies []remedy.Remedy `json:"remedies"`           // proven: see prove
	Unproven int             `json:"unproven,omitempty"` // remedies that a model of this size leaves unproven, and that are not offered
}

// Acceptance says that somebody decided to live with a finding.
type Acceptance struct {
	Because string     `json:"because"`
	Until   *time.Time `json:"until"`
}

// report adds a finding at a place, about some nodes and links.
func (p *Pass) report(
	pos model.Position,
	nodes, links []string,
	evidence map[string]any,
	remedies []remedy.Remedy,
	format string,
	args ...any,
) {
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
		remedies = []remedy.Remedy{}
	}
	p.findings = append(
		p.findings,
		Finding{
			ID:       findingID(p.rule.Code, nodes, links),
			Code:     p.rule.Code,
			Severity: p.rule.Severity,
			Title:    p.rule.Title,
			Message: fmt.Sprintf(
				format,
				args...),
			Nodes:    nodes,
			Links:    links,
			Position: pos,
			Evidence: evidence,
			Remedies: remedies,
		},
	)
}

// rated sets the severity of the finding reported last, where it is not the rule's.
func (p *Pass) rated(s Severity) { p.findings[len(p.findings)-1].Severity = s }

// findingID returns the id of a finding: it depends on its code and on what it is
// about, in no order.
func findingID(code string, nodes, links []string) string {
	nodes, links = slices.Clone(nodes), slices.Clone(links)
	slices.Sort(nodes)
	slices.Sort(links)
	sum := sha256.Sum256([]byte(code + "|" + strings.Join(nodes, ",") + "|" + strings.Join(links, ",")))
	return hex.EncodeToString(sum[:6])
}

// Summary counts findings.
type Summary struct {
	Errors   int `json:"errors"`
	Warnings int `json:"warnings"`
	Notes    int `json:"notes"`
	Accepted int `json:"accepted"`
}

// Verdict says in a few words what the findings come to.
func (s Summary) Verdict() string {
	switch {
	case s.Errors > 0:
		return "do not deploy as is"
	case s.Warnings > 0:
		return "review before you deploy"
	case s.Notes > 0:
		return "ready to build"
	}
	return "no findings"
}

// Document is what `check -format json` prints.
type Document struct {
	document.Head
	Summary  Summary                  `json:"summary"`
	Findings []Finding                `json:"findings"`
	Loops    []flow.Loop              `json:"loops"`
	Entries  map[string]flow.Entry    `json:"entries"`
	Outages  map[string]flow.Outage   `json:"outages"`
	Capacity map[string]flow.Capacity `json:"capacity"`
	Links    map[string]LinkReach     `json:"links"`
	Cost     *flow.Cost               `json:"cost"`
	Guesses  []string                 `json:"guesses"`
	Owners   []string                 `json:"owners"`         // all that the model names
	Gone     []Gone                   `json:"gone,omitempty"` // with -since: what the older model had
}

// LinkReach says whether anything can take a link, and how much does.
type LinkReach struct {
	Reach   string        `json:"reach"`
	Rate    *float64      `json:"rate"`              // per second; null: without bound or unknown
	Reading *flow.Reading `json:"reading,omitempty"` // of a link whose readers take messages
	Basis   flow.Basis    `json:"basis,omitempty"`
}

// Run checks a graph; s, where given, says what outsiders send.
func Run(g *graph.Graph, s *model.Scenario, head document.Head, now time.Time) *Document {
	return RunWith(g, s, nil, head, now)
}

// RunWith checks a graph as Run does; inputs holds the payloads of the event files
// that the scenario names.
func RunWith(
	g *graph.Graph,
	s *model.Scenario,
	inputs map[string]model.EventFile,
	head document.Head,
	now time.Time,
) *Document {
	m := flow.NewMemo()
	a, doc := run(g, s, inputs, head, now, m)
	improve(a, m)
	prove(doc, g, s, inputs, now)
	return doc
}

// Unproven returns a function that checks graphs and offers remedies that have not been
// tried, so the model is to be checked again after one is applied. What does not depend on the rest of a model,
// such as the rate of a calendar, is worked out once for all of them.
func Unproven(now time.Time) func(*graph.Graph) *Document {
	m := flow.NewMemo()
	return func(g *graph.Graph) *Document {
		_, doc := run(g, nil, nil, document.Head{}, now, m)
		return doc
	}
}

// run checks a graph; its remedies are not proven yet.
func run(
	g *graph.Graph,
	s *model.Scenario,
	inputs map[string]model.EventFile,
	head document.Head,
	now time.Time,
	m *flow.Memo,
) (*flow.Analysis, *Document) {
	a := flow.AnalyseSharing(g, s, inputs, m)
	g = a.Graph
	doc := &Document{
		Head:     head,
		Findings: []Finding{},
		Loops:    a.Loops,
		Entries:  a.Entries,
		Outages:  a.Outages,
		Capacity: a.Capacity,
		Links:    map[string]LinkReach{},
		Cost:     a.Cost,
		Guesses:  append([]string{}, g.Topology.Guesses...),
	}
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
		return cmp.Or(
			cmp.Compare(a.Position.File, b.Position.File),
			cmp.Compare(a.Position.Line, b.Position.Line),
			cmp.Compare(a.Code, b.Code),
			cmp.Compare(a.ID, b.ID),
		) < 0
	})
	for i := range g.Links {
		l := LinkReach{Reach: a.Reach[i].String()}
		if !a.Boundless[g.Links[i].From] {
			rate := a.LinkRates[i]
			l.Rate = &rate
			if a.GuessedLinks[i] {
				l.Basis = flow.Basis{"rate": flow.Estimate}
			}
			if r, ok := a.Readings[i]; ok {
				l.Reading = &r
				if a.GuessedLinks[i] || r.Batch > 1 {
					l.Basis = l.Basis.Guess("utilisation", "most", "batch")
				}
			}
		}
		doc.Links[g.Links[i].Link.ID()] = l
	}
	for _, l := range a.Off {
		none := 0.0
		doc.Links[l.Link.ID()] = LinkReach{Reach: expr.Impossible.String(), Rate: &none}
	}
	return a, doc
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

// ownersOf lists the owners of the nodes of a finding.
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
