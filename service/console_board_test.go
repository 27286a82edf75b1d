package service_test

import (
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// eval runs a script that gives whether it did what it should.
func (b *browser) eval(script string) bool {
	b.Helper()
	ok, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](script))
	require.NoError(b, err)
	return ok
}

// middle gives the middle of what a selector finds, in pixels of the page.
func (b *browser) middle(selector string) (x, y float64) {
	b.Helper()
	at := look[[]float64](
		b,
		`(r => [r.x + r.width / 2, r.y + r.height / 2])(document.querySelector(`+"`"+selector+"`"+`).getBoundingClientRect())`,
	)
	return at[0], at[1]
}

// still waits until things have been where they are for a while: a new layout has
// come to rest.
func (b *browser) still(selectors ...string) {
	b.Helper()
	var before []float64
	since := time.Now()
	b.eventually("they move on and on", func() bool {
		var now []float64
		for _, s := range selectors {
			x, y := b.middle(s)
			now = append(now, x, y)
		}
		if !slices.Equal(before, now) {
			before, since = now, time.Now()
		}
		return time.Since(since) > 700*time.Millisecond
	})
}

// choose presses a node of the board, once it stands still.
func (b *browser) choose(node string) {
	b.Helper()
	face := `[data-node="` + node + `"] .face`
	b.do(visible(face))
	b.still(face)
	b.do(click(face))
}

// drag pulls from the middle of one thing to that of another, and lets go.
func (b *browser) drag(from, to string) {
	b.Helper()
	b.still(from, to)
	x, y := b.middle(to)
	b.pull(from, x, y)
	b.letGo(x, y)
}

// pull presses the mouse in the middle of a thing and moves it to a point.
func (b *browser) pull(from string, x2, y2 float64) {
	b.Helper()
	x1, y1 := b.middle(from)
	b.do(
		chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, x1, y1),
		chromedp.MouseEvent(input.DispatchMouseEventTypeMousePressed, x1, y1, chromedp.ButtonLeft),
	)
	for i := 1; i <= 8; i++ {
		f := float64(i) / 8
		b.do(
			chromedp.MouseEvent(
				input.DispatchMouseEventTypeMouseMoved,
				x1+(x2-x1)*f,
				y1+(y2-y1)*f,
				chromedp.ButtonLeft,
			),
		)
	}
}

// letGo releases the mouse.
func (b *browser) letGo(x, y float64) {
	b.Helper()
	b.do(chromedp.MouseEvent(input.DispatchMouseEventTypeMouseReleased, x, y, chromedp.ButtonLeft))
}

// draft gives the text of the model that is not saved yet.
func (b *browser) draft(name string) string { return b.draftIn("main", name) }

func (b *browser) draftIn(workspace, name string) string {
	b.Helper()
	return look[string](
		b,
		`JSON.parse(localStorage.getItem("ironweir-draft-`+workspace+"-"+name+`") ?? '{"text":""}').text`,
	)
}

func (b *browser) eventually(says string, ok func() bool) {
	b.Helper()
	for limit := time.Now().Add(patience); time.Now().Before(limit); time.Sleep(50 * time.Millisecond) {
		if ok() {
			return
		}
	}
	b.shoot("failed")
	require.Fail(b, says)
}

// set writes into a field of the inspector, as typing and leaving it does.
func (b *browser) set(field, value string) {
	b.Helper()
	at := `[data-field="` + field + `"] input, [data-field="` + field + `"] select`
	b.eventually("no field "+field, func() bool { return b.count(at) > 0 })
	require.True(
		b,
		b.eval(
			`(f => { f.closest("details")?.setAttribute("open", ""); f.focus(); f.value = `+strconv.Quote(
				value,
			)+`; f.dispatchEvent(new Event(f.tagName === "SELECT" ? "change" : "input", {bubbles: true})); f.blur(); return true })(document.querySelector(`+"`"+at+"`"+`))`,
		),
	)
}

// addNode puts a node on the board, as a press and a name do.
func (b *browser) addNode(kind, name string) {
	b.Helper()
	if b.count(".board .kinds button") > 0 {
		require.True(
			b,
			b.eval(
				`(k => (k.click(), true))([...document.querySelectorAll(".board .kinds button")].find(k => k.textContent === "`+kind+`"))`,
			),
		)
	} else {
		b.do(click(`.board button[aria-haspopup]`), visible(`.bx--overflow-menu-options`))
		require.True(b, b.eval(`(k => (k.click(), true))([...document.querySelectorAll(".bx--overflow-menu-options button")].find(k => k.textContent.trim() === "`+kind+`"))`))
	}
	b.do(visible("#node-name"))
	b.fill("#node-name", name)
	b.press("Add node")
	b.do(visible(`[data-node="`+name+`"]`), gone("#node-name"))
}

// handle is where links of a node are drawn from and to.
func handle(node, side string) string {
	return `[data-node="` + node + `"] .svelte-flow__handle-` + side
}

// TestAModelIsDrawnOnTheBoard, from an empty board: bucket, function, queue and
// failure target are added and joined, fields are set with their units, the loop
// is found and mended with one press, and everything can be undone.
func TestAModelIsDrawnOnTheBoard(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do(
		"POST",
		"/api/v1/workspaces/main/models",
		map[string]string{"name": "slip", "text": "ironweir: topology/1\nname: slip # the north slip\nnodes: {}\n"},
		201,
	)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/slip"), visible(`.board .kinds button`))
	add := b.addNode
	add("bucket", "manifest-drop")
	add("function", "stamp")
	add("queue", "consignments")
	add("queue", "clerk-desk")
	require.Contains(t, b.draft("slip"), "name: slip # the north slip", "comments stay")
	b.choose("manifest-drop")
	b.set("keys", "inbound/{haulier}/{seq}.csv")
	b.eventually(
		"the keys are in the text",
		func() bool { return strings.Contains(b.draft("slip"), "inbound/{haulier}/{seq}.csv") },
	)

	b.drag(handle("manifest-drop", "right"), handle("stamp", "left"))
	b.eventually(
		"the link is in the text",
		func() bool { return strings.Contains(b.draft("slip"), "links: {stamp: {}}") },
	)
	b.says(`section[aria-label="Inspector"]`, "Link manifest-drop → stamp")
	b.set("match.prefix", "inbound/")
	b.eventually(
		"the prefix is in the text",
		func() bool { return strings.Contains(b.draft("slip"), "match: {prefix: inbound/}") },
	)
	b.drag(handle("stamp", "right"), handle("consignments", "left"))
	b.eventually("joined", func() bool { return strings.Contains(b.draft("slip"), "consignments: {}") })
	b.drag(handle("stamp", "right"), handle("clerk-desk", "left"))
	b.eventually("joined", func() bool { return strings.Contains(b.draft("slip"), "clerk-desk: {}") })
	b.set("when", "failure")
	b.eventually("set", func() bool { return strings.Contains(b.draft("slip"), "clerk-desk: {when: failure}") })

	// What cannot be is refused, with why, and the text stays as it is.
	b.set("chance", "often")
	b.says(`[data-field="chance"]`, "share")
	require.NotContains(t, b.draft("slip"), "often")

	// The way back into the bucket falls under the trigger's own filter: a loop.
	b.drag(handle("stamp", "right"), handle("manifest-drop", "left"))
	b.eventually("joined", func() bool { return strings.Contains(b.draft("slip"), "manifest-drop: {}") })
	b.set("key", "inbound/{stem}.pdf")
	b.do(visible(`[data-code="IW101"]`), visible(`[data-state="loops"]`))
	b.still(`[data-code="IW101"] .remedy button`)
	b.do(click(`[data-code="IW101"] .remedy button`), gone(`[data-code="IW101"]`))

	// Everything is one document: undone on the board, and done again.
	before := b.draft("slip")
	b.choose("clerk-desk")
	b.says(`section[aria-label="Inspector"] h2`, "clerk-desk")
	b.press("Remove")
	b.do(gone(`[data-node="clerk-desk"]`))
	require.NotContains(t, b.draft("slip"), "clerk-desk")
	b.press("Undo")
	b.eventually("undone", func() bool { return b.draft("slip") == before })
	b.do(visible(`[data-node="clerk-desk"]`))
	b.choose("consignments")
	b.set("lease", "90s")
	b.eventually("set", func() bool { return strings.Contains(b.draft("slip"), "lease: 90s") })
	require.True(
		t,
		b.eval(
			`(f => { f.focus(); f.value = "lines"; f.dispatchEvent(new Event("input", {bubbles: true})); f.blur(); return true })(document.querySelector('section[aria-label="Inspector"] > .bx--form-item input, section[aria-label="Inspector"] .bx--text-input-wrapper input'))`,
		),
	)
	b.do(visible(`[data-node="lines"]`))
	require.Contains(t, b.draft("slip"), "lines: {}", "the link to it is renamed with it")

	// What is not saved survives a reload.
	drawn := b.draft("slip")
	b.do(
		chromedp.Navigate(b.url+"/w/main/runs"),
		visible("h1"),
		chromedp.Navigate(b.url+"/w/main/models/slip"),
		visible(`[data-node="lines"]`),
	)
	b.says(".bench", "What you had not saved is back")
	require.Equal(t, drawn, b.draft("slip"))

	// Somebody else saves meanwhile: both are shown, and neither is lost.
	r.do(
		"POST",
		"/api/v1/workspaces/main/models/slip/revisions",
		map[string]string{"text": "ironweir: topology/1\nname: slip\nnodes: {beacon: {kind: queue}}\n"},
		201,
		"If-Match",
		`"1"`,
	)
	b.press("Save")
	b.says(".bx--modal.is-visible", "admin has saved revision 2 meanwhile")
	b.says(".bx--modal.is-visible", "beacon")
	b.axe("a conflict")
	b.shoot("conflict")
	b.press("Save mine on top")
	b.eventually(
		"saved",
		func() bool { return r.do("GET", "/api/v1/workspaces/main/models/slip", nil, 200)["number"] == 3.0 },
	)
	require.Equal(t, drawn, r.do("GET", "/api/v1/workspaces/main/models/slip", nil, 200)["text"])

	// Once more: both come together, and what both changed is said.
	theirs := strings.Replace(strings.Replace(drawn, "lease: 90s", "lease: 30s", 1), "nodes:", "about: of a colleague\nnodes:", 1)
	require.NotEqual(t, drawn, theirs)
	b.choose("lines")
	b.press("Inspector")
	b.set("lease", "120s")
	b.set("retention", "2d")
	b.eventually("set", func() bool {
		return strings.Contains(b.draft("slip"), "lease: 120s") && strings.Contains(b.draft("slip"), "retention: 2d")
	})
	r.do("POST", "/api/v1/workspaces/main/models/slip/revisions", map[string]string{"text": theirs}, 201, "If-Match", `"3"`)
	b.press("Save")
	b.says(".bx--modal.is-visible", "admin has saved revision 4 meanwhile")
	b.says(".bx--modal.is-visible", "nodes.lines.lease: theirs 30s, yours 120s")
	b.says(".bx--modal.is-visible pre", "− about: of a colleague")
	b.axe("a conflict of both")
	b.shoot("merge")
	b.press("Merge both")
	b.says(".bench", "What you changed is written into revision 4 of admin.")
	for _, words := range []string{"about: of a colleague", "lease: 120s", "retention: 2d"} {
		require.Contains(t, b.draft("slip"), words)
	}
	b.press("Save")
	b.eventually(
		"saved on top of theirs",
		func() bool { return r.do("GET", "/api/v1/workspaces/main/models/slip", nil, 200)["number"] == 5.0 },
	)
	b.clean()
}

// TestTheTextCompletes what may be written where one is, by the kind of the node.
func TestTheTextCompletes(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do(
		"POST",
		"/api/v1/workspaces/main/models",
		map[string]string{"name": "slip", "text": "ironweir: topology/1\nname: slip\nnodes:\n  q: {kind: queue}\n  "},
		201,
	)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/slip"), visible(`[data-node="q"]`))
	b.toEnd()
	b.do(chromedp.KeyEvent("f: {ki"))
	b.says(".cm-tooltip-autocomplete", "kind")
	b.do(chromedp.KeyEvent("nd: fu"))
	b.says(".cm-tooltip-autocomplete", "function")
	b.says(".cm-tooltip-autocomplete", "Runs for each message or batch.")
	b.clean()
}

// TestAPartOfTheBoardIsLookedAt: a node's neighbours, what can happen from it on,
// what leads there; and the model as a picture.
func TestAPartOfTheBoardIsLookedAt(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="axle-scale"]`))
	b.choose("axle-scale")
	b.press("From here on")
	b.eventually(
		"what cannot happen from here is pale",
		func() bool { return b.count(`[data-node="mail"][data-highlight="dim"]`) == 1 },
	)
	require.Equal(t, 1, b.count(`[data-node="lane-weights"][data-highlight="highlighted"]`))
	b.axe("a part of the board")
	b.shoot("board-onward")
	b.choose("weigh-lane")
	b.press("What leads here")
	b.eventually(
		"what does not lead here is pale",
		func() bool { return b.count(`[data-node="lane-weights"][data-highlight="dim"]`) == 1 },
	)
	require.Equal(t, 1, b.count(`[data-node="axle-scale"][data-highlight="highlighted"]`))
	b.press("All")
	b.eventually("all is shown", func() bool { return b.count(`[data-highlight="dim"]`) == 0 })
	b.do(chromedp.KeyEvent(kb.Escape))
	b.press("SVG") // the command line draws it; here it only answers
	b.eventually(
		"it is told that nothing was drawn",
		func() bool { return strings.Contains(b.text(".bench"), "Not drawn") },
	)
	b.clean()
}

// TestPagesAreReadNarrowAndOnPaper: nothing is wider than the window, and what is
// printed has no buttons.
func TestPagesAreReadNarrowAndOnPaper(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do(
		"POST",
		"/api/v1/workspaces/main/models/kittiwake-draft/runs",
		map[string]any{"scenario": "friday-evening"},
		202,
	)
	r.untilState("/api/v1/workspaces/main/runs/1", "done")
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/runs/1"), visible(`tr[data-fate="sum"]`), visible("figure svg"))
	require.GreaterOrEqual(t, b.count("figure svg rect"), 8)
	require.Positive(t, b.count("figure svg rect.lost, figure svg rect.parked"))
	b.scroll(250)
	b.shoot("flow")
	b.do(chromedp.EmulateViewport(480, 900), chromedp.Navigate(b.url+"/w/main"), visible("tbody"))
	b.says("tbody", "5 of 6 fail")
	b.do(chromedp.Navigate(b.url+"/w/main/runs/1"), visible(`tr[data-fate="sum"]`))
	require.True(t, b.eval(`getComputedStyle(document.querySelector("th.means")).display === "none"`))
	require.True(
		t,
		b.eval(`document.querySelector("table").scrollWidth <= document.querySelector(".page").clientWidth`),
	)
	for _, page := range []string{"/w/main", "/w/main/runs", "/w/main/runs/1", "/w/main/models/kittiwake", "/settings"} {
		b.do(chromedp.Navigate(b.url+page), visible("#main-content"))
		time.Sleep(500 * time.Millisecond)
		b.shoot("narrow" + strings.ReplaceAll(page, "/", "-"))
		wide, err := chromedp.Run(
			b.ctx,
			chromedp.Evaluate[string](
				`(at => at.scrollWidth <= at.clientWidth + 1 ? "" : [...at.querySelectorAll("*")].filter((x) => x.getBoundingClientRect().right > 482 && !x.closest("svg, .board, .bx--data-table-container, .list, .chart, .cm-editor, .bx--assistive-text")).slice(0, 5).map((x) => x.outerHTML.slice(0, 90)).join("\n"))(document.querySelector(".page, .bench"))`,
			),
		)
		require.NoError(t, err)
		require.Empty(t, wide, "%s is wider than a narrow window", page)
	}
	b.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(b.url+"/w/main/runs/1"), visible(`tr[data-fate="sum"]`))
	_, err := chromedp.Call(b.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Media: "print"})
	require.NoError(t, err)
	require.True(
		t,
		b.eval(
			`getComputedStyle(document.querySelector(".bx--header")).display === "none" && [...document.querySelectorAll(".page .bx--btn")].every((x) => getComputedStyle(x).display === "none")`,
		),
	)
	require.True(
		t,
		b.eval(`document.querySelector(".page").scrollHeight <= document.querySelector(".page").clientHeight + 1`),
		"the page is as long as what it says",
	)
	b.clean()
}
