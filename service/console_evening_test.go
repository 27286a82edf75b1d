package service_test

import (
	"context"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// change writes into a field of a row of the scenario's form.
func (b *browser) change(row, field, value string) {
	b.Helper()
	b.eventually("no field "+field, func() bool {
		return b.eval(
			`(row => { const f = [...(row?.querySelectorAll("input, select") ?? [])].find((x) => x.closest(".bx--form-item").textContent.trim().startsWith(` + strconv.Quote(
				field,
			) + `)); if (!f) return false; f.value = ` + strconv.Quote(
				value,
			) + `; f.dispatchEvent(new Event("input", {bubbles: true})); f.dispatchEvent(new Event("change", {bubbles: true})); return true; })(document.querySelector(` + strconv.Quote(
				row,
			) + `))`,
		)
	})
}

// link draws a link from one node to another, as often as somebody would whose
// board is laid out anew under the pointer.
func (b *browser) link(from, to string) {
	b.Helper()
	drawn := func() bool {
		return strings.Contains(b.text(`section[aria-label="Inspector"]`), "Link "+from+" → "+to)
	}
	for range 5 {
		b.drag(handle(from, "right"), handle(to, "left"))
		for since := time.Now(); time.Since(since) < 5*time.Second; time.Sleep(50 * time.Millisecond) {
			if drawn() {
				return
			}
		}
	}
	b.shoot("failed")
	require.Fail(b, "not drawn: "+from+" → "+to)
}

// lastOfPath gives the last part of the page's path: of a run's page, its number.
func (b *browser) lastOfPath() string {
	b.Helper()
	return look[string](b, `location.pathname.split("/").pop()`)
}

// openEmpty opens the workspace north-slip, in which there is nothing yet.
func openEmpty(t *testing.T) (*browser, *running) {
	t.Helper()
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do("POST", "/api/v1/workspaces", map[string]any{"name": "north-slip"}, 201)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url + "/w/north-slip"))
	b.says("main", "There are no models yet")
	return b, r
}

// TestFromNothingToAnEvening is a day's work at the console, from an empty
// workspace: a system is drawn, its loop found and mended with one press, a
// message sent and made to fail, an evening with an outage simulated, a lost
// message read, the lease and retention changed and the two evenings compared; and
// a colleague who may only look opens the links.
func TestFromNothingToAnEvening(t *testing.T) {
	b, r := openEmpty(t)
	b.press("New model")
	b.do(visible(`.bx--modal.is-visible #new-name`))
	b.eventually("an empty board is offered", func() bool {
		return b.eval(
			`(x => x ? (x.click(), x.checked) : false)(document.querySelector('.bx--modal.is-visible input[value="empty"]'))`,
		)
	})
	b.fill("#new-name", "check-in")
	b.press("Make it")
	b.do(visible(`.board .kinds button`))

	// Drawn: manifests come into a bucket, are stamped, and wait to be cleared.
	b.addNode("bucket", "manifest-drop")
	b.choose("manifest-drop")
	b.set("keys", "inbound/{haulier}/{seq}.csv")
	b.eventually(
		"set",
		func() bool { return strings.Contains(b.draftIn("north-slip", "check-in"), "inbound/{haulier}") },
	)
	b.set("rate", "40/h")
	b.addNode("function", "stamp")
	b.addNode("queue", "consignments")
	b.addNode("function", "clear")
	b.addNode("queue", "clerk-desk")
	for _, way := range [][2]string{{"manifest-drop", "stamp"}, {"stamp", "consignments"}, {"consignments", "clear"},
		{"stamp", "clerk-desk"}} {
		b.link(way[0], way[1])
		if way[1] == "stamp" {
			b.set("match.prefix", "inbound/")
			b.eventually(
				"set",
				func() bool { return strings.Contains(b.draftIn("north-slip", "check-in"), "prefix: inbound/") },
			)
		}
	}
	b.set("when", "failure")
	b.eventually("set", func() bool { return strings.Contains(b.draftIn("north-slip", "check-in"), "when: failure") })
	b.link("stamp", "manifest-drop")
	b.set("key", "inbound/{stem}.pdf")
	b.do(visible(`[data-code="IW101"]`), visible(`[data-state="loops"]`))
	b.shoot("drawn-loop")
	b.still(`[data-code="IW101"] .remedy button`)
	b.do(click(`[data-code="IW101"] .remedy button`), gone(`[data-code="IW101"]`))

	// One message, and the same again while clearing fails.
	b.choose("manifest-drop")
	b.press("Try a message")
	try := `section[aria-label="Try a message"]`
	b.says(try, "accepts manifest-drop:stamp")
	b.press("Send")
	b.do(visible(`[data-outcome="complete"]`))
	require.True(
		t,
		b.eval(
			`(f => (f.click(), true))(document.querySelector('section[aria-label="Try a message"] .bx--list-box__field'))`,
		),
	)
	b.eventually("what can fail is offered", func() bool {
		return b.eval(
			`(i => i ? (i.click(), true) : false)([...document.querySelectorAll('section[aria-label="Try a message"] .bx--list-box__menu-item')].find(i => i.textContent.trim() === "stamp"))`,
		)
	})
	b.press("Send")
	b.do(visible(`[data-outcome="failed"]`))
	b.says(try, "parked in clerk-desk")
	require.Equal(t, 1, b.count(`[data-node="clerk-desk"][data-highlight="bad"]`))

	// An evening on which clearing is away for two hours, and messages wait for one.
	b.choose("consignments")
	b.press("Inspector")
	retention := func(is string) {
		b.set("retention", is)
		b.eventually("set", func() bool {
			return strings.Contains(b.draftIn("north-slip", "check-in"), "retention: "+is)
		})
	}
	unsaved := func() bool {
		return !b.eval(`[...document.querySelectorAll("button")].find(x => x.innerText.trim() === "Save").disabled`)
	}
	saved := func(what string) bool { // its answer comes after that of what was asked for before
		return b.eval(`(x => (x.open("GET", "/api/v1/workspaces/north-slip/models/check-in` + what + `", false), ` +
			`x.send(), x.status === 200))(new XMLHttpRequest())`)
	}
	retention("2h")
	b.delay(2000)
	b.press("Save")
	retention("1h") // while the other is being saved
	require.True(t, saved(""))
	require.True(t, saved(""))
	require.True(t, unsaved(), "what was set while it was saved is not saved")
	b.delay(0)
	b.press("Save")
	b.eventually("the model is saved", func() bool { return !unsaved() })
	b.press("Create a scenario")
	b.press("New scenario")
	b.do(visible("#scenario-name"))
	b.fill("#scenario-name", "evening")
	b.axe("a new scenario")
	b.delay(2000) // the scenario is still being saved when it is edited, and the edit stays
	b.press("Make it")
	b.press("Form")
	b.do(visible(`[data-traffic]`))
	b.press("Incident")
	b.do(visible(`[data-incident="incident"]`))
	b.eventually("it is saved as it was made", func() bool { return saved("/scenarios/evening") })
	require.True(t, saved("/scenarios/evening"))
	b.delay(0)
	require.Equal(t, 1, b.count(`[data-incident="incident"]`))
	b.change(`[data-incident="incident"]`, "What", "clear")
	b.change(`[data-incident="incident"]`, "For", "2h")
	b.shoot("scenario")
	b.press("Save scenario")
	b.eventually("saved", func() bool { return !strings.Contains(b.text(".pane .tools"), "changed") })
	b.press("Run")
	b.do(visible(`tr[data-fate="lost-expired"]`))
	require.Contains(t, b.text(`tr[data-fate="sum"]`), "adds up")

	// From the number to a message behind it, and why.
	b.do(click(`tr[data-fate="lost-expired"] button`))
	journeys := `section[aria-label="Journeys"]`
	b.do(visible(journeys+` [data-journey]`), click(journeys+` li:first-child button`))
	b.says(journeys+" .recorded", "its retention ended before it was consumed")
	b.press("Waterfall")
	b.says(journeys+" .recorded", "expired")
	b.shoot("journeys")
	first := b.lastOfPath()

	// Kept for longer, with a longer lease: the evening again, and the two compared.
	b.do(chromedp.Navigate(b.url+"/w/north-slip/models/check-in"), visible(`[data-node="consignments"]`))
	b.choose("consignments")
	b.press("Inspector")
	b.set("lease", "90s")
	b.eventually("set", func() bool { return strings.Contains(b.draftIn("north-slip", "check-in"), "lease: 90s") })
	b.set("retention", "12h")
	b.eventually("set", func() bool { return strings.Contains(b.draftIn("north-slip", "check-in"), "retention: 12h") })
	b.press("Run")
	b.do(visible(`tr[data-fate="sum"]`))
	require.Zero(t, b.count(`tr[data-fate="lost-expired"]`))
	runs := b.url + "/w/north-slip/compare/" + first + "," + b.lastOfPath()
	b.do(chromedp.Navigate(runs))
	b.says("summary", "2 changes of the model")
	b.says(`tr[data-fate="lost"]`, "yes")
	b.says(".scrolls tbody tr:first-child", "yes")
	b.shoot("compare")

	// The colleague has the links, sees, and cannot change.
	r.do("POST", "/api/v1/users", map[string]any{"name": "skerry"}, 201)
	r.do("PUT", "/api/v1/workspaces/north-slip/members/skerry", map[string]string{"role": "viewer"}, 204)
	secret, err := r.store.SignInLink(context.Background(), "skerry", time.Hour)
	require.NoError(t, err)
	b.do(chromedp.Navigate(b.url + "/sign-in#" + secret))
	b.says("main", "Models")
	b.do(chromedp.Navigate(runs))
	b.says(".scrolls tbody tr:first-child", "yes")
	b.do(chromedp.Navigate(b.url+"/w/north-slip/models/check-in"), visible(`[data-node="consignments"]`))
	b.eventually("nothing can be saved, run or added", func() bool {
		bar := b.text(".bar")
		return !strings.Contains(bar, "Save") && !strings.Contains(bar, "Run") &&
			b.count(`.board button[aria-haspopup]`) == 0
	})
	b.clean()
}

// TestTheWorkbenchIsArranged: nodes by owner, the board alone, parts resized by
// key; a node copied and put again; a key typed shows which links take it.
func TestTheWorkbenchIsArranged(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
	require.True(
		t,
		b.eval(
			`(s => (s.value = "owner", s.dispatchEvent(new Event("change", {bubbles: true})), true))(document.querySelector('select[aria-label="Grouping"]'))`,
		),
	)
	b.do(visible(`[data-group="clearance"]`))
	inside := `((n, g) => n.left >= g.left && n.right <= g.right && n.top >= g.top && n.bottom <= g.bottom)(document.querySelector('[data-node="consignments"]').getBoundingClientRect(), document.querySelector('[data-group="clearance"]').getBoundingClientRect())`
	b.eventually("it stands in its group", func() bool { return b.eval(inside) })
	b.axe("a grouped board")

	width := func() bool { return b.eval(`document.querySelector(".drawn").clientWidth > innerWidth * 0.95`) }
	require.False(t, width())
	b.do(chromedp.KeyEvent("b"))
	b.eventually("the board alone", width)
	b.do(chromedp.KeyEvent("b"))
	b.eventually("and back", func() bool { return !width() })
	require.True(
		t,
		b.eval(
			`(s => (s.focus(), true))(document.querySelector('[role="separator"][aria-label="How wide the board is"]'))`,
		),
	)
	before := b.eval(`(globalThis.wide = document.querySelector(".drawn").clientWidth, true)`)
	require.True(t, before)
	b.do(chromedp.KeyEvent(kb.ArrowRight))
	b.eventually(
		"it is wider",
		func() bool { return b.eval(`document.querySelector(".drawn").clientWidth > globalThis.wide`) },
	)

	// A finding's page reports what it means.
	b.do(visible(`[data-code] .why`))
	code, err := chromedp.Run(
		b.ctx,
		chromedp.Evaluate[string](
			`(w => (w.click(), w.closest("[data-code]").dataset.code))(document.querySelector("[data-code] .why"))`,
		),
	)
	require.NoError(t, err)
	b.says(".bx--modal.is-visible .bx--modal-header__heading", code)
	b.axe("a rule explained")
	b.do(click(`.bx--modal.is-visible .bx--modal-close`))

	// A tag or an owner is looked for as well as a name.
	b.fill(`.board input[type="search"], .board .bx--search-input`, "clearance")
	b.eventually("found by owner", func() bool {
		return b.count(`[data-node="consignments"][data-highlight="highlighted"]`) == 1 &&
			b.count(`[data-node="mail"][data-highlight="dim"]`) == 1
	})
	b.fill(`.board input[type="search"], .board .bx--search-input`, "")

	// Copied, and put on this board again with its links.
	b.choose("axle-scale")
	require.True(
		t,
		b.eval(
			`(() => { const d = new DataTransfer(); document.body.dispatchEvent(new ClipboardEvent("copy", {clipboardData: d, bubbles: true, cancelable: true})); globalThis.taken = d.getData("text/plain"); return globalThis.taken.includes("axle-scale"); })()`,
		),
	)
	require.True(
		t,
		b.eval(
			`(() => { const d = new DataTransfer(); d.setData("text/plain", globalThis.taken); document.body.dispatchEvent(new ClipboardEvent("paste", {clipboardData: d, bubbles: true, cancelable: true})); return true; })()`,
		),
	)
	b.do(visible(`[data-node="axle-scale-2"]`))
	require.Contains(t, b.draft("kittiwake"), "axle-scale-2")

	// What is typed lights what takes it.
	b.choose("manifest-drop")
	b.press("Try a message")
	try := `section[aria-label="Try a message"]`
	b.says(try, "accepts manifest-drop:split-manifest")
	b.fill(try+` .bx--text-input`, "elsewhere/7.txt")
	b.says(try, "declines manifest-drop:split-manifest")
	b.says(try, "prefix")
	b.clean()
}

// TestModelsAreSearchedAndDropped: a model is found by what its text says; a file
// dropped on any page becomes a model.
func TestModelsAreSearchedAndDropped(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := openModels(t, r)
	b.fill(`.page .bx--search-input`, "stamp-manifest")
	b.eventually("both hold it", func() bool { return b.count("tbody tr") == 2 })
	b.fill(`.page .bx--search-input`, "kittiwake-draft")
	b.eventually("one is called so", func() bool { return b.count("tbody tr") == 1 })
	b.fill(`.page .bx--search-input`, "surely nowhere")
	b.says("main", "Nothing is found")
	b.press("Show all")
	b.eventually("all again", func() bool { return b.count("tbody tr") == 2 })

	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
	require.True(
		t,
		b.eval(
			`(() => { const d = new DataTransfer(); d.items.add(new File(["ironweir: topology/1\nname: pier\nnodes: {pier: {kind: bucket}}\n"], "pier.yaml")); window.dispatchEvent(new DragEvent("drop", {dataTransfer: d, bubbles: true, cancelable: true})); return true; })()`,
		),
	)
	b.says(".bx--modal.is-visible", "Read as a model")
	b.axe("a file dropped")
	b.press("Keep it")
	b.do(visible(`[data-node="pier"]`))
	b.clean()
}

// TestTimesInAChosenZone: the reader's choice holds on every page.
func TestTimesInAChosenZone(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do("POST", "/api/v1/workspaces/main/models/kittiwake/runs", map[string]any{"scenario": "quiet-tuesday"}, 202)
	r.untilState("/api/v1/workspaces/main/runs/1", "done")
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/runs/1"), visible(`tr[data-fate="sum"]`))
	b.says(".page", "UTC")
	b.do(
		chromedp.Navigate(b.url+"/settings"),
		visible(`section[aria-label="Times"]`),
		click(`section[aria-label="Times"] input`),
	)
	b.fill(`section[aria-label="Times"] input`, "Tokyo")
	b.do(click(`//div[contains(@class, "bx--list-box__menu-item") and contains(., "Tokyo")]`))
	b.says(`section[aria-label="Times"]`, "GMT+9")
	b.do(chromedp.Navigate(b.url+"/w/main/runs/1"), visible(`tr[data-fate="sum"]`))
	b.says(".page", "GMT+9")
	b.do(chromedp.Navigate(b.url+"/w/main"), visible("tbody tr"))
	b.says("tbody", "GMT+9")
	b.clean()
}
