package check_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"regexp"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

var today = time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)

func modelDocument(t *testing.T, text string) *model.Value {
	t.Helper()
	v, err := model.ReadDocument("model.yaml", []byte("ironweir: topology/1\nname: case\n"+text))
	require.NoError(t, err)
	return v
}

func checked(t *testing.T, v *model.Value) *check.Document {
	t.Helper()
	m, err := model.FromDocument("model.yaml", v, model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	return check.Run(g, nil, document.Head{}, today)
}

func codes(doc *check.Document) []string {
	seen := map[string]bool{}
	for _, f := range doc.Findings {
		line := f.Code
		if len(f.Nodes) > 0 {
			line += " " + f.Nodes[0]
		}
		seen[line] = true
	}
	var out []string
	for line := range seen {
		out = append(out, line)
	}
	sort.Strings(out)
	return out
}

// TestRules runs testdata/rules.txt: a case is a line `== what it shows`, a
// model, `--`, and the findings that it must give, all of them, each as its
// code and first node. Every remedy that is offered must make its finding go
// away.
func TestRules(t *testing.T) {
	text, err := os.ReadFile("testdata/rules.txt")
	require.NoError(t, err)
	covered := map[string]bool{}
	for _, c := range strings.Split("\n"+string(text), "\n== ")[1:] {
		says, rest, _ := strings.Cut(c, "\n")
		t.Run(says, func(t *testing.T) {
			top, want, ok := strings.Cut(rest, "\n--\n")
			require.True(t, ok)
			v := modelDocument(t, top)
			doc := checked(t, v)
			var lines []string
			for _, l := range strings.Split(strings.TrimSpace(want), "\n") {
				if l = strings.TrimSpace(l); l != "" {
					lines = append(lines, l)
					covered[l[:5]] = true
				}
			}
			sort.Strings(lines)
			require.Equal(t, strings.Join(lines, "\n"), strings.Join(codes(doc), "\n"))
			for _, f := range doc.Findings {
				require.NotEmpty(t, f.Message)
				require.NotZero(t, f.Position.Line, f.Message)
				for _, r := range f.Remedies {
					text, err := json.Marshal(r.Patch)
					require.NoError(t, err)
					patch, err := model.ReadDocument("patch", text)
					require.NoError(t, err)
					for _, left := range checked(t, model.Merge(v, patch)).Findings {
						require.NotEqual(
							t,
							f.ID,
							left.ID,
							"%s: the remedy %q leaves it: %s",
							f.Code,
							r.Say,
							left.Message,
						)
					}
				}
			}
		})
	}
	for _, r := range check.Rules {
		require.NotEmpty(t, r.Doc, r.Code)
		require.True(t, covered[r.Code], "%s has a case", r.Code)
		require.Same(t, r, check.RuleByCode(r.Code))
	}
}

func TestLoopNumbers(t *testing.T) {
	for _, c := range []struct {
		links, trend string
		gain         float64
		verdict      string
	}{
		{"back: {to: q}", "sustains", 1, "certain"},
		{"back: {to: q, chance: 60%}", "dies-out", 0.6, "certain"},
		{"back: {to: q, count: 3}", "grows", 3, "certain"},
		{"back: {to: q, chance: 50%}, also: {to: q, chance: 20%}", "dies-out", 0.7, "certain"},
	} {
		doc := checked(
			t,
			modelDocument(
				t,
				"nodes:\n  q: {kind: queue, delay: 10s, rate: 1/m, links: {f: {}}}\n  f: {kind: function, takes: 2s, links: {"+c.links+"}}\n",
			),
		)
		require.Len(t, doc.Loops, 1, c.links)
		l := doc.Loops[0]
		require.Equal(t, c.trend, l.Trend, c.links)
		require.Equal(t, c.verdict, l.Verdict)
		require.InDelta(t, c.gain, *l.Gain[0], 1e-9)
		require.InDelta(t, c.gain, *l.Gain[1], 1e-9)
		if c.trend == "grows" { // e^(12 s·rate) = 3: it doubles every 12 ln 2 / ln 3
			require.InDelta(t, 12*0.6309297535714575, *l.Doubling.Seconds, 1e-6)
		}
	}
}

// TestLoopsAgreeWithTheEngine simulates what the analysis says of loops.
func TestLoopsAgreeWithTheEngine(t *testing.T) {
	for _, c := range []struct {
		key     string
		filter  string
		verdict string
		rounds  bool
	}{
		{"in/{stem}.again.csv", "{prefix: in/, suffix: .csv}", "certain", true},
		{"done/{name}", "{prefix: in/, suffix: .csv}", "broken", false},
		{"in/{stem}.pdf", "{prefix: in/, suffix: .csv}", "broken", false},
		{"{key}", "{prefix: in/}", "certain", true},
	} {
		top := "ironweir: topology/1\nname: case\nnodes:\n  b: {kind: bucket, notice: 1s, keys: [\"in/{seq}.csv\"], rate: 1/m, links: {f: {match: " + c.filter + "}}}\n  f: {kind: function, takes: 1s, links: {back: {to: b, key: \"" + c.key + "\"}}}\n"
		m, err := model.Parse("m", []byte(top), model.Options{})
		require.NoError(t, err)
		g, err := graph.Compile(m)
		require.NoError(t, err)
		doc := check.Run(g, nil, document.Head{}, today)
		require.Len(t, doc.Loops, 1, c.key)
		require.Equal(t, c.verdict, doc.Loops[0].Verdict, c.key)
		s := model.DefaultScenario()
		s.Length = 10 * time.Minute
		res, err := sim.Run(sim.Plan{Graph: g, Scenario: s})
		require.NoError(t, err)
		require.Equal(t, c.rounds, res.Loops[0].Most > 1, "%s: %d rounds at most", c.key, res.Loops[0].Most)
	}
}

func TestAcceptedFindingsComeBack(t *testing.T) {
	top := "accepted: [{code: IW306, node: f, because: it comes later, until: 2027-01-01}]\nnodes:\n  f: {kind: function}\n"
	m, err := model.FromDocument("m", modelDocument(t, top), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	doc := check.Run(g, nil, document.Head{}, today)
	require.Equal(t, 1, doc.Summary.Accepted)
	require.Equal(t, "it comes later", doc.Findings[0].Accepted.Because)
	later := check.Run(g, nil, document.Head{}, today.AddDate(1, 0, 0))
	require.Zero(t, later.Summary.Accepted)
	require.Equal(t, doc.Findings[0].ID, later.Findings[0].ID, "the id stays the same")
}

// TestCapacityAgreesWithTheEngine compares predicted rates and utilisation with
// simulated ones.
func TestCapacityAgreesWithTheEngine(t *testing.T) {
	text, err := os.ReadFile("../../demo/kittiwake.yaml")
	require.NoError(t, err)
	m, err := model.Parse("kittiwake.yaml", text, model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	doc := check.Run(g, nil, document.Head{}, today)
	s := model.DefaultScenario()
	s.Length = 20 * 24 * time.Hour
	res, err := sim.Run(sim.Plan{Graph: g, Scenario: s})
	require.NoError(t, err)
	seconds := s.Length.Seconds()
	for _, name := range []string{"split-manifest", "departures", "confirm-booking", "consignments", "mail",
		"announcements"} {
		n := res.Nodes[g.NodeID(name)]
		got := float64(n.Copies) / seconds
		if name == "confirm-booking" {
			got = float64(n.Runs) / seconds
		}
		require.InEpsilon(t, *doc.Capacity[name].Rate, got, 0.03, name)
	}
	n := res.Nodes[g.NodeID("clear-consignment")]
	require.InEpsilon(t, *doc.Capacity["clear-consignment"].Utilisation, n.ActiveMean/8, 0.06)
}

var update = flag.Bool("update", false, "write docs/rules.md anew")

// TestRulesPages keeps docs/rules.md and a page for each rule as the rules and
// their cases say.
func TestRulesPages(t *testing.T) {
	cases, err := os.ReadFile("testdata/rules.txt")
	require.NoError(t, err)
	pages := map[string]string{}
	var list strings.Builder
	list.WriteString(
		"# Rules\n\nWhat `check` looks for. Codes are stable; `ironweir explain CODE` prints a page. An error keeps a model from being built, a warning wants a\nlook, a note is good to know. These pages are made from the rules themselves and from their tests (`go test ./core/check -update`).\n\n| code | finding | severity |\n|---|---|---|\n",
	)
	for _, r := range check.Rules {
		list.WriteString(
			"| [" + r.Code + "](rules/" + r.Code + ".md) | " + r.Title + " | " + string(r.Severity) + " |\n",
		)
		pages["../../docs/rules/"+r.Code+".md"] = rulePage(t, r, string(cases))
	}
	pages["../../docs/rules.md"] = list.String()
	if *update {
		require.NoError(t, os.RemoveAll("../../docs/rules"))
		require.NoError(t, os.Mkdir("../../docs/rules", 0o755))
	}
	for page, text := range pages {
		if *update {
			require.NoError(t, os.WriteFile(page, []byte(text), 0o644))
		}
		have, err := os.ReadFile(page)
		require.NoError(t, err, "run go test ./core/check -update")
		require.True(t, text == string(have), "%s is not as the rules say; run go test ./core/check -update", page)
	}
}

// ruleIDs are those of the semantics that a case cites.
var ruleIDs = regexp.MustCompile(`\[[A-Z]+-[0-9]+\] `)

// rulePage makes the page of a rule: what it means, a model in which it is
// found, what check says of it, and the remedies as patches.
func rulePage(t *testing.T, r *check.Rule, cases string) string {
	var b strings.Builder
	b.WriteString(
		"# " + r.Code + " · " + r.Title + "\n\nSeverity: " + string(
			r.Severity,
		) + ". [All rules](../rules.md)\n\n" + r.Doc + "\n",
	)
	for _, c := range strings.Split("\n"+cases, "\n== ")[1:] {
		says, rest, _ := strings.Cut(c, "\n")
		says = ruleIDs.ReplaceAllString(says, "")
		top, want, _ := strings.Cut(rest, "\n--\n")
		if !strings.Contains("\n"+want, "\n"+r.Code+" ") && !strings.Contains("\n"+want, "\n"+r.Code+"\n") {
			continue
		}
		for _, f := range checked(t, modelDocument(t, top)).Findings {
			if f.Code != r.Code {
				continue
			}
			b.WriteString(
				"\n## Example: " + says + "\n\n```yaml\n" + strings.TrimSpace(
					top,
				) + "\n```\n\n`check` says: " + f.Message + "\n",
			)
			for _, remedy := range f.Remedies {
				patch, err := json.Marshal(remedy.Patch)
				require.NoError(t, err)
				v, err := model.ReadDocument("remedy", patch)
				require.NoError(t, err)
				b.WriteString("\nRemedy: " + remedy.Say + "\n\n```yaml\n" + model.Flow(v) + "\n```\n")
			}
			return b.String()
		}
	}
	require.Fail(t, "no case shows it", r.Code)
	return ""
}

// BenchmarkCheckLoop checks one component of a thousand nodes in which everything
// goes round, with short cuts.
func BenchmarkCheckLoop(b *testing.B) {
	var text strings.Builder
	text.WriteString("ironweir: topology/1\nname: ring\nnodes:\n")
	for i := range 500 {
		next, cut := (i+1)%500, (i+37)%500
		fmt.Fprintf(&text, "  q%d: {kind: queue, rate: 1/h, lease: 5m, links: {f%d: {retry: {tries: 3}}}}\n", i, i)
		fmt.Fprintf(
			&text,
			"  f%d: {kind: function, takes: 1s, fails: 1%%, concurrency: 100, links: {on: {to: q%d, chance: 60%%}, cut: {to: q%d, chance: 45%%}}}\n",
			i,
			next,
			cut,
		)
	}
	m, err := model.Parse("ring.yaml", []byte(text.String()), model.Options{})
	require.NoError(b, err)
	g, err := graph.Compile(m)
	require.NoError(b, err)
	for b.Loop() {
		doc := check.Run(g, nil, document.Head{}, today)
		require.Equal(b, "grows", doc.Loops[0].Trend)
	}
}

// TestARingThatNothingFeedsIsEntered by outsiders: a model that grows has its loop
// found before anybody has said what comes in.
func TestARingThatNothingFeedsIsEntered(t *testing.T) {
	doc := checked(
		t,
		modelDocument(
			t,
			"nodes:\n  drop: {kind: bucket, links: {stamp: {match: {prefix: inbound/}}}}\n  stamp: {kind: function, links: {drop: {key: \"inbound/{stem}.pdf\"}}}\n  idle: {kind: queue}\n",
		),
	)
	codes := []string{}
	for _, f := range doc.Findings {
		codes = append(codes, f.Code)
	}
	require.Contains(t, codes, "IW102")
	require.Contains(t, doc.Entries, "drop")
	require.NotContains(t, doc.Entries, "idle")
}

// TestHopLimitsCountFunctions [F-18]: the remedy of a loop of two functions and two queues
// allows for three passes of two functions each, and not for the nodes between them.
func TestHopLimitsCountFunctions(t *testing.T) {
	doc := checked(t, modelDocument(t, `
nodes:
  in: {kind: queue, rate: 1/h, links: {f: {}}}
  f: {kind: function, links: {mid: {}}}
  mid: {kind: queue, links: {g: {}}}
  g: {kind: function, links: {in: {}}}
`))
	var said []string
	for _, f := range doc.Findings {
		if f.Code != "IW101" {
			continue
		}
		for _, r := range f.Remedies {
			said = append(said, r.Say)
			for _, fields := range r.Patch["nodes"].(map[string]any) {
				if limit, is := fields.(map[string]any)["hop-limit"]; is {
					require.EqualValues(t, 6, limit)
				}
			}
		}
	}
	require.Contains(t, strings.Join(said, "\n"), "hop limit of 6: 3 passes of 2 functions")
}

// TestAFindingCountsItsEntries all of them, once each, however many ways lead to where they
// lose.
func TestAFindingCountsItsEntries(t *testing.T) {
	text := "nodes:\n  z-hub: {kind: function, fails: 100%}\n"
	for i := range 30 {
		text += fmt.Sprintf("  n%02d: {kind: function, rate: 1/h, links: {a: {to: z-hub, mode: async, type: made}, b: {to: z-hub, mode: async, type: changed}}}\n", i)
	}
	found := false
	for _, f := range checked(t, modelDocument(t, text)).Findings {
		if f.Code != "IW201" {
			continue
		}
		found = true
		require.Contains(t, f.Message, "from n00, n01 and 28 more to `z-hub`")
		require.Equal(t, 30, f.Evidence["entry_count"])
		require.Len(t, f.Evidence["entries"], 8)
		require.Equal(t, "n07", f.Evidence["entries"].([]string)[7])
	}
	require.True(t, found)
}
