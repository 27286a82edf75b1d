package service_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestPeopleAreAddedInTheSettings: with a link, a role in a workspace and a token,
// all of which stands in the audit trail.
func TestPeopleAreAddedInTheSettings(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/settings"), visible("h1"))
	field := func(label string) string {
		b.eventually(label, func() bool {
			return b.eval(
				`(l => { const f = document.getElementById(l?.getAttribute("for")); f?.setAttribute("data-here", "` +
					label + `"); return !!f })([...document.querySelectorAll("label")].filter(l => l.offsetParent)` +
					`.find(l => l.textContent.trim() === "` + label + `"))`,
			)
		})
		return `[data-here="` + label + `"]`
	}
	b.fill(field("Purpose"), "harbour pipeline")
	b.press("Create token")
	b.says(".bx--tab-content:not([hidden])", "The token is shown this once.")
	b.says(".bx--tab-content:not([hidden])", "weir_")

	b.tab("People")
	b.eventually("the form of people", func() bool {
		return b.eval(
			`[...document.querySelectorAll("label")].some(l => l.offsetParent && l.textContent.trim() === "Name")`,
		)
	})
	b.fill(field("Name"), "skerry")
	require.True(t, b.eval(`(f => (f.value = "editor", f.dispatchEvent(new Event("change", {bubbles: true})), true))(`+
		`document.querySelector('`+field("As")+`'))`))
	b.press("Add, with a link")
	b.says(".bx--tab-content:not([hidden])", "A link for skerry.")
	b.eventually("with a role in the workspace", func() bool {
		items := r.do("GET", "/api/v1/workspaces/main/members", nil, 200)["items"].([]any)
		return len(items) == 1 && items[0].(map[string]any)["role"] == "editor"
	})
	b.says(".bx--tab-content:not([hidden])", "/sign-in#")
	b.shoot("people")

	b.tab("Workspaces")
	b.eventually("the form of members", func() bool {
		return b.eval(
			`[...document.querySelectorAll("label")].some(l => l.offsetParent && l.textContent.trim() === "Person")`,
		)
	})
	b.fill(field("Person"), "skerry")
	b.press("Give the role")
	b.eventually("a member", func() bool {
		items := r.do("GET", "/api/v1/workspaces/main/members", nil, 200)["items"].([]any)
		return len(items) == 1
	})
	b.tab("Workers")
	b.says(".bx--tab-content:not([hidden])", "At most at once")
	b.tab("Audit trail")
	b.says(".bx--tab-content:not([hidden])", "create user")
	b.clean()
}

// tab opens a tab of the settings.
func (b *browser) tab(words string) {
	b.Helper()
	require.True(b, b.eval(`(t => (t.click(), true))([...document.querySelectorAll("[role=tab]")].find(t => `+
		`t.textContent.trim() === "`+words+`"))`))
}

// TestVariantsAndSweepsAreRun from the workbench, and shown side by side and point
// by point.
func TestVariantsAndSweepsAreRun(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := open(t, r)
	choose := func(kind string) {
		b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
		b.press("Variants, sweeps, guesses, replications")
		b.do(visible(`.bx--modal.is-visible input[type=radio] + label`))
		require.True(
			t,
			b.eval(
				`(i => (i.click(), true))(document.querySelector('.bx--modal.is-visible input[type=radio][value="`+kind+`"]'))`,
			),
		)
	}
	run := func() {
		require.True(
			t,
			b.eval(
				`(f => (f.click(), true))(document.querySelector(".bx--modal.is-visible .bx--modal-footer .bx--btn--primary"))`,
			),
		)
	}
	choose("sweep")
	b.do(visible(".bx--modal.is-visible textarea"))
	b.fill(
		".bx--modal.is-visible textarea",
		"nodes.clear-consignment.concurrency: 5, 10\nnodes.consignments.lease: 60s, 90s, 120s",
	)
	b.says(".bx--modal.is-visible", "6 points")
	b.axe("a sweep asked")
	b.shoot("run-options")
	run()
	b.says(".page", "Points of the sweep")
	require.Equal(t, 6, b.count("tbody tr"))
	choose("variants")
	b.do(visible(".bx--modal.is-visible textarea"))
	run()
	b.says(".bx--modal.is-visible", "Choose a variant, or write one.")
	b.axe("variants asked")
	b.fill(`.bx--modal.is-visible input[placeholder="more-clearing"]`, "more-clearing")
	b.fill(".bx--modal.is-visible textarea", "nodes:\n  clear-consignment: {concurrency: 20}")
	run()
	b.says(".page", "Differences from as-it-is")
	b.says(".page", "more-clearing")
	b.clean()
}

// TestGuessesAreRun asks from the workbench which guesses of a variant decide, and reads the
// answer: the chart, what to measure first, and the report.
func TestGuessesAreRun(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do("POST", "/api/v1/workspaces/main/models", map[string]any{"name": "lane", "text": "ironweir: topology/1\nname: lane\n" +
		"nodes:\n  lane: {kind: queue, rate: 6/m, links: {weigh: {}}}\n  weigh: {kind: function, takes: 2s, concurrency: 1}\n"}, 201)
	for name, text := range map[string]string{
		"scenarios/calm": "ironweir: scenario/1\nlength: 10m\n" +
			"expect: {quick: \"run.latency['lane:weigh'].mean_s < 3.0\"}\n",
		"variants/guessed": "nodes: {weigh: {takes: {guess: 2s, range: [1s, 6s]}, fails: {guess: 1%, range: [0%, 2%]}}}\n",
	} {
		r.do("PUT", "/api/v1/workspaces/main/models/lane/"+name, map[string]any{"text": text}, 204)
	}
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/lane"), visible(`[data-node="weigh"]`))
	b.press("Variants, sweeps, guesses, replications")
	b.do(visible(`.bx--modal.is-visible input[value="sensitivity"] + label`))
	require.True(t, b.eval(`(i => (i.click(), true))(document.querySelector('.bx--modal.is-visible input[value="sensitivity"]'))`))
	b.do(visible(".bx--modal.is-visible select"))
	b.eventually("the variant", func() bool { return b.count(`.bx--modal.is-visible option[value="guessed"]`) == 1 })
	b.shoot("guesses-asked")
	b.axe("guesses-asked")
	require.True(t, b.eval(`(s => (s.value = "guessed", s.dispatchEvent(new Event("change", {bubbles: true})), true))`+
		`(document.querySelector(".bx--modal.is-visible select"))`))
	require.True(t, b.eval(`(f => (f.click(), true))(document.querySelector(".bx--modal.is-visible .bx--modal-footer .bx--btn--primary"))`))
	b.says(".page", "Measure nodes.weigh.takes first: it decides most.")
	b.says(".page", "It fails from where nodes.weigh.takes is about")
	require.Equal(t, 2, b.count("tbody tr"), "one for each guess")
	require.True(t, b.eval(`document.querySelector(".bars .upper").offsetWidth > document.querySelector(".bars .lower").offsetWidth`),
		"from 2s to 6s the mean grows more than it falls to 1s")
	b.shoot("guesses")
	b.axe("guesses")
	b.says(".page", "Report")
	path := "/api/v1/workspaces/main/runs/" + b.lastOfPath()
	require.Equal(t, "sensitivity", r.do("GET", path, nil, 200)["kind"])
	b.do(chromedp.Navigate(b.url + "/w/main/runs"))
	b.says(".page", "calm (sensitivity)")
	b.clean()
}
