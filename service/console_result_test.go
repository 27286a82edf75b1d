package service_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestAResultIsReadOverTime: incidents and alarms stand over the charts; a moment that is pressed is that of the
// board; a loss leads to its journeys; and the address says what is read, so that a link opens exactly that.
func TestAResultIsReadOverTime(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	for range 2 {
		id := r.do("POST", "/api/v1/workspaces/main/models/kittiwake-draft/runs",
			map[string]any{"scenario": "friday-evening", "replications": 1}, 202)["id"]
		r.follow(id.(float64))
	}
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/runs/2"), visible(`.replay [data-node="mail"]`), visible(".band .marks button"))
	for _, mark := range []string{"registry-down", "slow-clearing", "worked-off", "clearing-late"} {
		b.says(".band .marks", mark)
	}
	b.says("[data-since]", "Since run 1: The model is the same. No main number moved.")
	for _, section := range []string{
		"Verdict", "Ledger", "Flow", "Timeline", "Nodes", "Latency", "Journeys", "Cost",
	} {
		b.says(`nav[aria-label="Sections"]`, section)
	}
	b.axe("a result over time")

	b.do(click(`//nav[@aria-label="Sections"]/a[.="Timeline"]`))
	b.do(click(`//div[@class[contains(., "marks")]]/button[contains(., "registry-down")]`))
	b.says(".replay .clock", "3 h in, registry-down: goods-registry fails 100%")
	b.do(click(`.replay [data-node="mail"] .face`))
	b.says("#timeline", "at mail")
	at := func(key, value string) bool {
		return b.eval(`new URLSearchParams(location.search).get("` + key + `") === "` + value + `"`)
	}
	b.eventually("the moment and the node are in the address", func() bool { return at("at", "90") && at("node", "mail") })
	require.True(t, b.eval(`location.hash === "#timeline"`))

	// Four hours later mail is lost at each step: press there.
	b.do(visible(".band .u-over"))
	require.True(t, b.eval(`(over => { const r = over.getBoundingClientRect();
		const at = {clientX: r.x + r.width * 0.75, clientY: r.y + r.height / 2, bubbles: true};
		over.dispatchEvent(new MouseEvent("mouseenter", at)); over.dispatchEvent(new MouseEvent("mousemove", at));
		over.dispatchEvent(new MouseEvent("mousedown", at)); over.dispatchEvent(new MouseEvent("mouseup", at));
		over.dispatchEvent(new MouseEvent("click", at)); return true; })([...document.querySelectorAll(".band .u-over")].at(-1))`))
	journeys := `section[aria-label="Journeys"]`
	b.says(journeys, "Journeys with a copy that was lost between")
	b.says(journeys, "and reached mail")
	b.do(visible(journeys+` [data-journey]`), click(journeys+` li:first-child button`), visible(journeys+` .recorded h4`))
	b.shoot("result-loss")
	whole := look[string](b, `location.href`)
	title, clock := b.text(journeys+` .recorded h4`), b.text(".replay .clock")

	// Back, and anyone with the link, find all of it.
	b.do(chromedp.Navigate(b.url+"/w/main"), visible("table a"), chromedp.Navigate(whole), visible(`.replay [data-node="mail"]`))
	b.says(journeys+` .recorded h4`, title)
	b.says("#timeline", "at mail")
	require.Equal(t, clock, b.text(".replay .clock"))
	b.clean()
}

// TestWhatIsChosenIsInTheAddress: a link to the workbench opens the node or link that was chosen.
func TestWhatIsChosenIsInTheAddress(t *testing.T) {
	needConsole(t)
	t.Parallel()
	b := open(t, start(t))
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
	b.choose("mail")
	b.eventually("it is in the address", func() bool { return b.eval(`location.search === "?node=mail"`) })
	b.do(chromedp.Reload(), visible(`.svelte-flow__node.selected [data-node="mail"], [data-node="mail"] .face[aria-pressed="true"]`))
	b.press("Inspector")
	b.says(`section[aria-label="Inspector"] h2`, "mail")
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake?link=mail:mail-relay"), visible(`[data-node="mail"]`))
	b.press("Inspector")
	b.says(`section[aria-label="Inspector"] h2`, "Link mail → mail-relay")
	b.clean()
}

// TestTextAndBoardShowTheSame: the node in whose text the cursor is put is chosen on the board and comes into sight,
// and what is chosen on the board is shown in the text.
func TestTextAndBoardShowTheSame(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "estate", "text": estate(20)}, 201)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/estate"), visible(`[data-node="s0-in"]`))
	seen := func(node string) bool {
		return b.eval(`((n, p) => n && n.left >= p.left && n.right <= p.right && n.top >= p.top && n.bottom <= p.bottom)(
			document.querySelector('[data-node="` + node + `"]')?.getBoundingClientRect(),
			document.querySelector(".board").getBoundingClientRect())`)
	}
	for range 6 {
		b.do(click(`.svelte-flow__controls-zoomin`)) // until most of it is out of sight
	}
	b.still(`[data-node="s0-in"]`)
	b.do(click(".cm-line"))
	b.toEnd()
	b.eventually("the last node is chosen, and in sight", func() bool {
		return b.eval(`new URLSearchParams(location.search).get("node") === "s19-desk"`) && seen("s19-desk")
	})
	require.False(t, seen("s0-in") && seen("s10-in"), "not all is in sight")
	b.find("s10-work", "s10-work")
	b.eventually("and in sight on the board", func() bool { return seen("s10-work") })
	b.eventually("its line is shown", func() bool {
		return b.eval(`[...document.querySelectorAll(".cm-line")].some(l => l.textContent.trim().startsWith("s10-work:"))`)
	})
	b.clean()
}

// TestStatesAreWords: how a node stands is a word on it and a colour, in a model, at a moment of a run, and of a
// message that is tried.
func TestStatesAreWords(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	models := "/api/v1/workspaces/main/models"
	r.do("POST", models, map[string]string{"name": "lanes", "text": `ironweir: topology/1
nodes:
  manifests: {kind: queue, capacity: 20, links: {clear: {retry: {tries: 2, wait: 1s}}}}
  clear: {kind: function, takes: 2s, links: {registry: {mode: wait}}}
  registry: {kind: outside, takes: 1s}
  lamps: {kind: queue, rate: 2/s, links: {light: {}}}
  light: {kind: function, takes: 1s, concurrency: 1}
`}, 201)
	r.do("PUT", models+"/lanes/scenarios/squall", map[string]any{"text": `ironweir: scenario/1
length: 1h
traffic: {ferry: {into: manifests, rate: 15/m, arrivals: even}}
incidents:
  down: {at: 10m, for: 10m, node: registry, fails: 100%}
  held: {at: 30m, for: 10m, link: "manifests:clear", paused: true}
`}, 204)
	run := r.do("POST", models+"/lanes/runs", map[string]any{"scenario": "squall", "replications": 1}, 202)
	r.follow(run["id"].(float64))
	b := open(t, r)
	says := func(node, word string) {
		t.Helper()
		b.eventually(node+" is "+word, func() bool {
			return b.eval(`(document.querySelector('[data-node="` + node + `"] > b')?.textContent ?? "") === "` + word + `"`)
		})
	}
	b.do(chromedp.Navigate(b.url+"/w/main/models/lanes"), visible(`[data-node="light"]`))
	says("light", "full")
	b.shoot("states-found")
	moment := func(step string) {
		t.Helper()
		b.do(chromedp.Navigate(b.url+"/w/main/runs/1?at="+step+"#timeline"), visible(`.replay [data-node="light"]`))
	}
	moment("20")
	says("registry", "")
	moment("90")
	says("registry", "failing")
	says("clear", "failing")
	b.eval(`(document.querySelector(".replay").scrollIntoView(), true)`)
	b.shoot("states-failing")
	moment("210")
	says("manifests", "loses")
	b.clean()
}
