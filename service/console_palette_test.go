package service_test

import (
	"testing"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

const paletteField = `dialog[open] [role="combobox"]`

// palette opens the palette and writes into it.
func (b *browser) palette(words string) {
	b.Helper()
	b.do(chromedp.KeyEvent("k", chromedp.KeyModifiers(chromedp.ModifierCtrl)), visible(paletteField))
	b.do(chromedp.KeyEvent(words))
}

// TestThePaletteFindsEverything: nodes, pages, commands, findings and starters by need, by
// keyboard alone; a link is drawn to a node that is picked by name.
func TestThePaletteFindsEverything(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	for range 2 {
		r.do("POST", "/api/v1/workspaces/main/models/kittiwake/runs", map[string]any{"scenario": "quiet-tuesday"}, 202)
	}
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake-draft"), visible(`[data-node="mail"]`), visible(`[data-code]`))

	b.palette("weigh")
	b.says(`[role="option"][aria-selected="true"]`, "weigh-lane")
	b.axe("palette")
	b.shoot("palette")
	b.do(chromedp.KeyEvent(kb.Enter), gone(paletteField))
	b.do(visible(`[data-node="weigh-lane"] .face[aria-pressed="true"], .svelte-flow__node.selected [data-node="weigh-lane"]`))

	// The chosen node is linked to one picked by name.
	// (The browser's protocol would type the letter into the field as well, which a keyboard does not.)
	require.True(t, b.eval(`document.body.dispatchEvent(new KeyboardEvent("keydown", {key: "c", bubbles: true}))`))
	b.do(visible(paletteField), chromedp.KeyEvent("customs"))
	b.do(chromedp.KeyEvent(kb.Enter), gone(paletteField))
	b.says(`section[aria-label="Inspector"]`, "Link weigh-lane → customs-archive")
	require.Contains(t, b.draft("kittiwake-draft"), "customs-archive: {}")

	// A finding by its rule, a starter by what it is for, a page by what it holds.
	b.palette("iw101")
	b.says(`[role="option"][aria-selected="true"]`, "IW101 Loop")
	b.do(chromedp.KeyEvent(kb.Escape), gone(paletteField))
	b.palette("competing")
	b.says(`[role="option"][aria-selected="true"]`, "IW303")
	b.do(chromedp.KeyEvent(kb.Enter), gone(paletteField))
	b.says(".bx--modal.is-visible", "IW303")
	b.do(chromedp.KeyEvent(kb.Escape), gone(".bx--modal.is-visible"))
	for _, run := range []string{"run 1", "run 2"} { // from the workbench, and from a run to another
		b.palette(run)
		b.says(`[role="option"][aria-selected="true"]`, run+": kittiwake, quiet-tuesday")
		b.do(chromedp.KeyEvent(kb.Enter), gone(paletteField))
		b.says("main .top", run)
	}
	for _, model := range []string{"kittiwake-draft", "kittiwake"} { // and from a model to another
		b.palette(model)
		b.says(`[role="option"][aria-selected="true"]`, model)
		b.do(chromedp.KeyEvent(kb.Enter), gone(paletteField))
		b.eventually(model, func() bool { return b.text(".bar h1") == model })
	}
	b.palette("fan")
	b.says(`[role="listbox"]`, "New model")
	b.do(chromedp.KeyEvent(kb.Escape), gone(paletteField))
	b.palette("members")
	b.says(`[role="option"][aria-selected="true"]`, "Settings")
	b.do(chromedp.KeyEvent(kb.Enter), gone(paletteField))
	b.eventually("the settings", func() bool { return b.eval(`location.pathname === "/settings"`) })
	b.clean()
}

// TestLettersCanBeSwitchedOff: single letters are no shortcuts for those who switch them
// off (WCAG 2.1.4), also after a reload.
func TestLettersCanBeSwitchedOff(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
	history := `.found [role="tab"][aria-selected="true"]`
	b.do(chromedp.KeyEvent("6"))
	b.says(history, "History")
	b.do(chromedp.KeyEvent("1"))
	b.says(history, "Findings")
	b.do(chromedp.KeyEvent("?"), visible(`.bx--modal.is-visible .bx--checkbox-label`))
	b.axe("keys")
	b.do(click(`.bx--modal.is-visible .bx--checkbox-label`), chromedp.Reload(), visible(`[data-node="mail"]`))
	b.do(chromedp.KeyEvent("6"), chromedp.KeyEvent("?"))
	b.palette("history")
	b.says(`[role="option"][aria-selected="true"]`, "History")
	b.do(chromedp.KeyEvent(kb.Escape), gone(paletteField))
	b.says(history, "Findings")
	require.Zero(t, b.count(`.bx--modal.is-visible`))
	b.clean()
}

// TestANodeIsAddedWhereThePointerIs: by a double click, and by letting a link go on the
// empty board, with its name typed in place.
func TestANodeIsAddedWhereThePointerIs(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do("POST", "/api/v1/workspaces/main/models", map[string]string{
		"name": "slip", "text": "ironweir: topology/1\nname: slip\nnodes:\n  manifest-drop: {kind: bucket}\n"}, 201)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/slip"), visible(`[data-node="manifest-drop"]`))
	b.still(`[data-node="manifest-drop"]`)
	x, y := b.middle(".board")

	b.do(chromedp.MouseClickXY(x+150, y+120, chromedp.ClickCount(2)), visible(".add-here .choices"))
	b.axe("add a node")
	b.press("queue")
	b.do(visible(`.add-here input`))
	b.do(chromedp.KeyEvent("clerk-desk"))
	b.do(chromedp.KeyEvent(kb.Enter), gone(".add-here"), visible(`[data-node="clerk-desk"]`))
	b.still(`[data-node="clerk-desk"]`)
	require.Contains(t, b.draft("slip"), "clerk-desk")
	cx, cy := b.middle(`[data-node="clerk-desk"]`)
	require.InDelta(t, x+150, cx, 140, "it stands where the pointer was")
	require.InDelta(t, y+120, cy, 80)

	// With a, where the pointer is.
	b.do(chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, x-150, y+120), chromedp.KeyEvent(kb.Escape))
	b.strike("a")
	b.do(visible(".add-here .choices"))
	b.press("topic")
	b.do(visible(`.add-here input`))
	b.strike("lines" + kb.Enter)
	b.do(gone(".add-here"), visible(`[data-node="lines"]`))
	b.still(`[data-node="lines"]`)
	lx, ly := b.middle(`[data-node="lines"]`)
	require.InDelta(t, x-150, lx, 140, "it stands where the pointer was")
	require.InDelta(t, y+120, ly, 80)

	b.pull(handle("manifest-drop", "right"), x+60, y-140)
	b.letGo(x+60, y-140)
	b.do(visible(".add-here .choices"))
	require.NotContains(t, b.text(".add-here"), "schedule", "nothing is linked to a schedule")
	b.press("function")
	b.do(visible(`.add-here input`), chromedp.KeyEvent(kb.Enter), gone(".add-here"))
	b.eventually("the node and the link to it", func() bool { return b.count(`.svelte-flow__edge`) == 1 })
	require.Contains(t, b.draft("slip"), "links: {function: {}}")
	b.clean()
}

// TestFindingsOfOneCauseAreOneEntry: they are opened, narrowed down, and their remedies
// applied at once; what next is said.
func TestFindingsOfOneCauseAreOneEntry(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake-draft"), visible(`[data-node="mail"]`), visible(`li.group`))
	b.says("li.group", "6 × IW202 Single point of loss: the tries are exhausted")
	require.Zero(t, b.count(`li.group > ul:not([hidden])`), "closed at first")
	b.fill(`.narrow input`, "fetch-tides")
	b.eventually("only what fits", func() bool { n := b.count(`li[data-code]`); return n > 0 && n < 5 })
	b.fill(`.narrow input`, "")
	b.do(visible(`li.group`), click(`li.group .title`), visible(`li.group > ul:not([hidden]) [data-code="IW202"]`))
	b.axe("findings by cause")
	before := b.count(`li[data-code="IW202"]`)
	b.press("Apply to all: 6 changes")
	b.eventually("six fewer", func() bool { return b.count(`li[data-code="IW202"]`) <= before-6 })

	b.press("What next?")
	b.says(`section[aria-label="The change that helps most"]`, "Apply it")
	b.says(`section[aria-label="The weakest guarantee"]`, "survives")
	b.says(`section[aria-label="The guess to measure"]`, "states no guesses")
	b.axe("what next")
	b.shoot("what-next")
	b.press("Show its paths")
	b.do(visible(`section[aria-label="Guarantees"] tbody tr`))
	b.clean()
}
