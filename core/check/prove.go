package check

import (
	"runtime"
	"time"

	"ironweir/core/check/flow"
	"ironweir/core/check/remedy"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/parallel"
)

// proofWork bounds the proofs of one check, in nodes and links analysed: a model of
// ten thousand nodes has its remedies proven when they are asked for (`-fix`).
const proofWork = 4_000

// prove leaves only the remedies that hold: applied to a copy of the model, the
// finding is gone, no finding as bad has come up, and no entry survives fewer
// faults. What a check has no time to prove is counted instead of offered.
func prove(
	doc *Document,
	g *graph.Graph,
	s *model.Scenario,
	inputs map[string]model.EventFile,
	now time.Time,
) {
	left, cost := proofWork, len(g.Nodes)+len(g.Links)+len(doc.Entries)*len(g.Nodes)/20+1
	known := map[string]Severity{}
	for _, f := range doc.Findings {
		known[f.ID] = f.Severity
	}
	type proof struct {
		finding *Finding
		remedy  remedy.Remedy
		holds   bool
	}
	var proofs []*proof
	for i := range doc.Findings {
		f := &doc.Findings[i]
		for _, r := range f.Remedies {
			if left -= cost; left < 0 {
				f.Unproven++
				continue
			}
			proofs = append(proofs, &proof{finding: f, remedy: r})
		}
	}
	// Each holds or not whatever becomes of the others.
	parallel.Each(len(proofs), runtime.GOMAXPROCS(0), func() func(int) bool {
		m := flow.NewMemo()
		return func(i int) bool {
			p := proofs[i]
			p.holds = holds(p.finding, p.remedy, doc, known, g, s, inputs, now, m)
			return true
		}
	})
	for i := range doc.Findings {
		doc.Findings[i].Remedies = []remedy.Remedy{}
	}
	for _, p := range proofs {
		if p.holds {
			p.finding.Remedies = append(p.finding.Remedies, p.remedy)
		}
	}
}

// holds reports whether a remedy does what it says, and no harm.
func holds(
	f *Finding,
	r remedy.Remedy,
	doc *Document,
	known map[string]Severity,
	g *graph.Graph,
	s *model.Scenario,
	inputs map[string]model.EventFile,
	now time.Time,
	m *flow.Memo,
) bool {
	copied, err := r.Apply(g)
	if err != nil {
		return false
	}
	_, after := run(copied, s, inputs, document.Head{}, now, m)
	for _, other := range after.Findings {
		if other.ID == f.ID {
			return false
		}
		if _, had := known[other.ID]; !had && other.Severity.AtLeast(f.Severity) && other.Accepted == nil &&
			!sameKind(other, doc) {
			return false
		}
	}
	for name, e := range doc.Entries {
		if now, still := after.Entries[name]; still && now.Survives < e.Survives {
			return false
		}
	}
	return true
}

// sameKind reports whether a finding was there before with other nodes beside its
// first: a remedy that adds a dead-letter queue changes who takes part in it.
func sameKind(f Finding, doc *Document) bool {
	for _, old := range doc.Findings {
		if old.Code == f.Code && len(old.Nodes) > 0 && len(f.Nodes) > 0 && old.Nodes[0] == f.Nodes[0] {
			return true
		}
	}
	return false
}
