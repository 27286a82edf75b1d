package service_test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// press clicks the first button that bears some words and can be seen.
func (b *browser) press(words string) {
	b.Helper()
	found := `[...document.querySelectorAll("button")].find(x => x.offsetParent !== null && !x.disabled && x.innerText.trim().startsWith(` + fmt.Sprintf(
		"%q",
		words,
	) + `))`
	b.eventually(fmt.Sprintf("no button %q", words), func() bool {
		return look[bool](b, found+` !== undefined`) && b.eval(`(x => x ? (x.click(), true) : false)(`+found+`)`)
	})
}

// says waits until an element shows some words.
func (b *browser) says(selector, words string) {
	b.Helper()
	b.eventually(
		fmt.Sprintf("%s does not say %q", selector, words),
		func() bool { return strings.Contains(b.text(selector), words) },
	)
}

// TestAModelIsBegunFromAStarter: chosen with its picture, named, opened, run.
func TestAModelIsBegunFromAStarter(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := openModels(t, r)
	b.press("New model")
	b.do(visible(`.bx--modal.is-visible img`))
	b.axe("a new model")
	require.GreaterOrEqual(t, b.count(`.bx--modal.is-visible .bx--tile--selectable`), 14)
	b.do(click(`//label[contains(., "retry-ladder")]`), visible(`img[alt="retry-ladder as a picture"]`))
	b.fill("#new-name", "parcels")
	b.shoot("new-model")
	b.press("Make it")
	b.do(visible(`[data-node="post-office"]`), visible(".text .inner:not([hidden]) .cm-editor"))
	b.says(".cm-content", "name: parcels")
	b.press("Run")
	b.do(visible(`tr[data-fate="sum"]`))
	require.Contains(t, b.text(`[data-expect="nothing-given-up"]`), "holds")
	require.Equal(t, 1, b.count(`a[href$="/report"]`), "its report can be sent on")
	b.clean()
}

// TestAFileIsImported: what it is, what it does not say, a model of it.
func TestAFileIsImported(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := openModels(t, r)
	upload := func(file string) {
		path, err := filepath.Abs(file)
		require.NoError(t, err)
		b.do(chromedp.SetUploadFiles(chromedp.CSS(`input[type="file"]`), []string{path}))
	}
	upload("../demo/import/harbour-lamps.asyncapi.yaml")
	b.says(`.bx--modal.is-visible`, "Read as an AsyncAPI document")
	b.says(`.bx--modal.is-visible`, "who takes what is sent to dimming")
	b.axe("an import")
	b.shoot("import")
	b.press("Keep it")
	b.do(visible(`[data-node="takers-of-dimming"]`))
	b.do(chromedp.Navigate(b.url+"/"), visible(`a[href="/w/main/models/harbour-lamps"]`))
	upload("../demo/demo.go")
	b.says(`.bx--modal.is-visible`, "It could not be read")
	b.axe("an import refused")
	b.clean()
}

// TestHistoryTellsAndRestores what a revision said, in the model's own terms.
func TestHistoryTellsAndRestores(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	first := r.do("GET", "/api/v1/workspaces/main/models/kittiwake", nil, 200)["text"].(string)
	r.do(
		"POST",
		"/api/v1/workspaces/main/models/kittiwake/revisions",
		map[string]string{"text": strings.Replace(first, "delay: 10m", "delay: 20m", 1), "note": "later stamps"},
		201,
		"If-Match",
		`"1"`,
	)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
	b.press("History")
	b.says(`section[aria-label="History"]`, "later stamps")
	b.do(click(`section[aria-label="History"] li:nth-child(2) button`))
	b.says(`section[aria-label="History"]`, "From revision 1 to the text as it is now")
	b.says(`section[aria-label="History"] ins`, "20m")
	require.Contains(t, b.text(`section[aria-label="History"] del`), "10m")
	b.shoot("history")
	b.press("Restore revision 1")
	b.says(".bar", "changed")
	b.says(`section[aria-label="History"]`, "Select")
	b.press("Save")
	b.says(".bar", "revision 3")
	require.Equal(t, first, r.do("GET", "/api/v1/workspaces/main/models/kittiwake", nil, 200)["text"])
	b.clean()
}

// TestAScenarioIsWritten beside the model: made, mended, saved and run.
func TestAScenarioIsWritten(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "small", "text": small}, 201)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/small"), visible(`[data-node="q"]`))
	b.press("Create a scenario")
	b.press("New scenario")
	b.do(visible("#scenario-name"))
	b.fill("#scenario-name", "first-day")
	b.press("Make it")
	b.says(".pane .tools", "first-day")
	require.Eventually(t, func() bool {
		return len(r.do("GET", "/api/v1/workspaces/main/models/small/scenarios", nil, 200)["items"].([]any)) == 1
	}, patience, 50*time.Millisecond)
	focus := `(document.querySelector(".pane .cm-content").focus(), document.execCommand("insertText", false, "warm-upp: 1h\n"))`
	_, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](focus))
	require.NoError(t, err)
	b.says(".pane .tools", "changed")
	b.press("Save scenario")
	b.says(".pane", "warm-upp")
	b.says(".pane", "Not saved.")
	b.shoot("scenario")
	b.press("Run")
	b.says(".pane", "Not saved.")
	_, err = chromedp.Run(
		b.ctx,
		chromedp.Evaluate[bool](
			`(document.querySelector(".pane .cm-content").focus(), document.execCommand("undo"), document.execCommand("selectAll"), document.execCommand("insertText", false, "ironweir: scenario/1\nlength: 2h\ntraffic: {u: {into: q, rate: 60/h}}"))`,
		),
	)
	require.NoError(t, err)
	b.press("Run")
	b.do(visible(`tr[data-fate="sum"]`))
	b.clean()
}

// TestBehindTheNumbers: the journeys of a run, one of them step by step, and what
// rested in a queue at an instant.
func TestBehindTheNumbers(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do("POST", "/api/v1/workspaces/main/models/kittiwake/runs", map[string]any{"scenario": "friday-evening"}, 202)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/runs/1"), visible(`tr[data-fate="sum"]`))
	journeys := `section[aria-label="Journeys"]`
	b.fill(journeys+" input", "inbound")
	b.press("Show journeys")
	b.do(visible(journeys + ` [data-journey]`))
	b.do(click(journeys + ` li:first-child button`))
	b.says(journeys+" .recorded", "receives")
	b.says(journeys+" .recorded", "runs")
	b.press("Show messages")
	b.says(`section[aria-label="Stored messages"]`, "0 messages in ")

	// The run is played back on the board.
	b.do(visible(`.replay [data-node="mail"]`))
	require.True(t, b.eval(`(r => (r.scrollIntoView(), true))(document.querySelector(".replay"))`))
	before := b.text(".replay .clock")
	b.watchMarks()
	b.press("Play")
	b.eventually("time goes on", func() bool { return b.text(".replay .clock") != before })
	b.eventually("messages move", func() bool { return b.eval(`window.marks.goes > 20 && window.marks.runs > 20`) })
	b.press("Pause")
	b.eventually("something is seen to be held or to run", func() bool {
		return b.eval(
			`[...document.querySelectorAll(".replay .kind")].some(k => /runs|queued|received/.test(k.textContent))`,
		)
	})
	b.eventually("links say how much came along them, and how often", func() bool {
		return b.eval(
			`[...document.querySelectorAll(".replay .svelte-flow__edge-label")].some(l => /^[\d.,]+\n[\d.,]+\/(s|min|h)$/.test(l.textContent.trim()))`,
		)
	})
	b.shoot("replay")
	require.True(
		t,
		b.eval(
			`(l => (l.click(), true))([...document.querySelectorAll(".replay label")].find(l => l.textContent.includes("Numbers on links")))`,
		),
	)
	b.eventually("no numbers on links", func() bool {
		return b.eval(`[...document.querySelectorAll(".replay .svelte-flow__edge-label")].every(l => !/\d\/(s|min|h)/.test(l.textContent))`)
	})
	b.clean()
}

// TestRunsAreCompared: the draft's evening against the mended one's, as a story: what was
// changed, the verdicts, the ledgers, the board, what moved most, and every number.
func TestRunsAreCompared(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	for _, name := range []string{"kittiwake-draft", "kittiwake"} {
		r.do("POST", "/api/v1/workspaces/main/models/"+name+"/runs", map[string]any{"scenario": "friday-evening"}, 202)
	}
	for _, id := range []string{"1", "2"} {
		require.Eventually(
			t,
			func() bool { return r.do("GET", "/api/v1/workspaces/main/runs/"+id, nil, 200)["state"] == "done" },
			patience,
			50*time.Millisecond,
		)
	}
	told := r.do("GET", "/api/v1/workspaces/main/compare?run=1&run=2", nil, 200)
	lost := told["differences"].(map[string]any)["per_replication.lost"].(map[string]any)
	require.Equal(t, true, lost["beyond_chance"])
	r.do("GET", "/api/v1/workspaces/main/compare?run=1", nil, 422)
	r.do("GET", "/api/v1/workspaces/main/compare?run=1&run=99", nil, 404)

	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/runs"), visible(`a[href="/w/main/runs/2"]`))
	_, err := chromedp.Run(
		b.ctx,
		chromedp.Evaluate[bool](
			`([...document.querySelectorAll('tbody input[type="checkbox"]')].forEach(x => x.click()), true)`,
		),
	)
	require.NoError(t, err)
	b.press("Compare")
	b.says("main", "run 1: kittiwake-draft, revision 1, friday-evening")
	b.says("summary", "changes of the model")
	b.says(".verdicts", "✗ fails: held in 0 of 5")
	b.says(`tr[data-fate="lost"]`, "yes")
	b.says(".moved li:first-child", "one replication: lost")
	b.says(".moved li:first-child", "→ 0, better")
	b.do(visible(`.drawn [data-node="consignments"]`))
	b.says(`.drawn [data-node="consignments"]`, "lost")
	b.says(".scrolls tbody tr:first-child", "yes")
	require.Contains(
		t,
		look[string](b, `document.querySelector(".scrolls tbody [title]").title`),
		"per_replication.",
		"its path, on hover",
	)
	b.axe("two runs compared")
	b.clean()
}

// TestAScenarioIsSetUpByForm: an outage is added by a press, its target and length
// changed, an expectation taken; the text says the same, comments kept, and is
// saved and run.
func TestAScenarioIsSetUpByForm(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
	b.press("Scenario")
	b.press("Form")
	b.do(visible(`[data-traffic]`))
	b.press("Incident")
	b.do(visible(`[data-incident="incident"]`))
	change := b.change
	change(`[data-incident="incident"]`, "What", "goods-registry")
	b.says(`[data-incident="incident"]`, "fails, share")
	change(`[data-incident="incident"]`, "For", "45m")
	b.press("the backlog is worked off")
	b.do(visible(`[data-expectation="all-done"]`))
	b.axe("a scenario as a form")
	b.shoot("scenario-form")
	b.press("Save scenario")
	b.eventually("it is saved", func() bool { return !strings.Contains(b.text(".pane .tools"), "changed") })
	name := strings.Fields(b.text(".pane .tools"))[0]
	text := r.do("GET", "/api/v1/workspaces/main/models/kittiwake/scenarios/"+name, nil, 200)["text"].(string)
	require.Contains(t, text, "node: goods-registry")
	require.Contains(t, text, "for: 45m")
	require.Contains(t, text, "all-done: run.ledger.waiting < 100")
	b.press("Run")
	b.do(visible(`[data-expect="all-done"]`))
	b.clean()
}

// TestAFirstVisit: one card over the demo's draft leads a first visitor through its three
// steps, each done by pressing in the page; who leaves is not asked again.
func TestAFirstVisit(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := fresh(t, r).signIn(r)
	const card = `aside[aria-label="First visit"]`
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake-draft"), visible(`[data-node="mail"]`))
	b.says(card, "See the loop")
	b.says(card, "1 of 3")
	b.shoot("first-visit")
	b.axe("first-visit")
	b.do(click(`[data-code="IW101"] .entry`))
	b.says(card, "Fix it")
	b.do(click(`//li[@data-code="IW101"]//button[contains(., "Apply")]`))
	b.says(card, "Break it live")
	b.press("Rehearse")
	b.do(visible(".bx--modal.is-visible"))
	b.press("Start")
	b.says(card, "Press goods-registry on the board, then Fail.")
	b.do(click(`[data-node="goods-registry"]`))
	b.shoot("first-visit-live")
	b.press("Fail")
	b.says(card, "That is all")
	b.press("Leave")
	b.eventually("the card is gone", func() bool { return b.count(card) == 0 })
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake-draft"), visible(`[data-node="mail"]`))
	require.Zero(t, b.count(card))
	b.clean()
}

// TestModelsHaveASmallPicture in their list: what loops or loses is marked there as on the
// board, and who presses it is at the model.
func TestModelsHaveASmallPicture(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	ring := "ironweir: topology/1\nname: ring\nnodes:\n"
	for i := range 40 {
		ring += fmt.Sprintf("  n%d: {kind: topic, links: {next: {to: n%d}}}\n", i, (i+1)%40)
	}
	r.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "ring", "text": ring}, 201)
	b := openModels(t, r)
	const cells = `Object.fromEntries([...document.querySelectorAll("tbody tr")].map(r =>
  [r.querySelector("td:nth-child(2)").innerText.trim(), ["", ".loops", ".loses"].map(s => r.querySelectorAll(".cell" + s).length)]))`
	b.do(visible(`tbody tr .cell`))
	shown := look[map[string][]int](b, cells)
	require.Equal(t, []int{40, 40, 0}, shown["ring"])
	require.Positive(t, shown["kittiwake-draft"][1], "it loops")
	require.Zero(t, shown["kittiwake"][1])
	require.Greater(t, shown["kittiwake"][0], 20)
	b.do(click(`//tr[contains(., "kittiwake-draft")]//a[contains(@class, "sketch")]`), visible(`[data-state="loops"]`))
	require.Equal(t, b.count(`[data-state="loops"]`), shown["kittiwake-draft"][1])
	require.Equal(t, b.count(`[data-state="loses"]`), shown["kittiwake-draft"][2])
	b.clean()
}
