package report_test

import (
	"bytes"
	"encoding/xml"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"ironweir/core/check"
	"ironweir/core/check/flow"
	"ironweir/core/check/guarantees"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/mend"
	"ironweir/core/model"
	"ironweir/core/sensitivity"
	"ironweir/core/study"
	"ironweir/formats/report"
)

const hostile = `ironweir: topology/1
name: m
about: "<script>alert(1)</script> & co"
nodes:
  q: {kind: queue, about: "<b>", rate: 1/m, links: {f: {retry: {tries: 2, wait: 1s}}}}
  f: {kind: function, takes: 1s, fails: {guess: 50%, range: [0%, 80%]}, breaks: {every: 1d, for: 1h}, links: {"done": {}}}
  done: {kind: bucket}
`

// TestTheReportStandsAlone writes the report of a model with markup in its texts.
func TestTheReportStandsAlone(t *testing.T) {
	m, err := model.Parse("m.yaml", []byte(hostile), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	head := document.NewHead("check", m.Name, "", document.Digest(hostile))
	s, err := model.ParseScenario(
		"s.yaml",
		[]byte(
			"ironweir: scenario/1\nname: \"<i>s\"\nlength: 4h\ntraffic: {u: {into: q, rate: 1/m}}\nincidents: {\"down\": {at: 1h, for: 1h, node: f, fails: 100%}}\nexpect: {none: \"run.ledger.lost.total < 1\"}\n",
		),
		m,
	)
	require.NoError(t, err)
	result, err := study.Run(study.Plan{Graph: g, Scenario: s, Head: head, Workers: 1})
	require.NoError(t, err)
	guesses, err := sensitivity.Find(sensitivity.Options{
		Graph:        g,
		Plan:         study.Plan{Graph: g, Scenario: s, Head: head},
		Trajectories: 2,
		Points:       2,
	})
	require.NoError(t, err)
	plan, err := mend.Find(mend.Options{Graph: g})
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(
		t,
		report.Write(&out, g, report.Contents{
			Check:       check.Run(g, s, head, time.Now()),
			Guarantees:  &guarantees.Document{Guarantees: guarantees.Of(flow.Analyse(g, s), "", "")},
			Runs:        []report.Run{{Result: result, Scenario: s}},
			Sensitivity: []*sensitivity.Document{guesses},
			Plan:        plan,
		}),
	)
	page := out.String()

	require.NotContains(t, page, "<script")
	require.NotContains(t, page, "<i>s")
	require.Contains(t, page, "&lt;script&gt;alert(1)&lt;/script&gt; &amp; co")
	require.Contains(t, page, "an expectation fails")
	require.Contains(t, page, "IW202")
	require.Contains(t, page, "<title>down</title>", "the incident stands behind the chart")
	for _, title := range []string{"Delivery guarantees", "Availability: messages a year, from the breakdowns that the model states",
		"Which guesses decide: &lt;i&gt;s", "Plan: the fewest changes"} {
		require.Contains(t, page, ">"+title+"</h")
	}
	require.Contains(t, page, "Measure <code>nodes.f.fails</code> first: it decides most.")
	require.Regexp(t, `<b>[1-9][0-9,]*</b><span>lost</span>`, page)

	links := regexp.MustCompile(`(?:src|href)="([^"]*)"`).FindAllStringSubmatch(page, -1)
	require.NotEmpty(t, links)
	for _, l := range links {
		require.True(t, strings.HasPrefix(l[1], "#"), "%s leads out of the page", l[0])
	}
	require.NotRegexp(t, `url\(|@import`, page)

	doc, err := html.Parse(strings.NewReader(page))
	require.NoError(t, err)
	count := map[string]int{}
	var walk func(*html.Node)
	walk = func(n *html.Node) {
		if n.Type == html.ElementNode {
			count[n.Data]++
		}
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			walk(c)
		}
	}
	walk(doc)
	require.GreaterOrEqual(t, count["svg"], 3, "the picture and two charts")
	require.GreaterOrEqual(t, count["table"], 5)
	for _, svg := range regexp.MustCompile(`(?s)<svg class="chart".*?</svg>`).FindAllString(page, -1) {
		require.NoError(t, xml.Unmarshal([]byte(svg), new(struct{})), "a chart is well-formed")
	}
}
