package service_test

import (
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// strike presses keys one by one, as a keyboard does: what a page does with a key decides whether its letter is
// written. (chromedp.KeyEvent writes it in any case.)
func (b *browser) strike(keys string, modifiers ...chromedp.Modifier) {
	b.Helper()
	for _, r := range keys {
		strokes := kb.Encode(r)
		down, up := strokes[0], strokes[len(strokes)-1]
		for _, m := range modifiers {
			down.Modifiers |= int64(m)
			up.Modifiers |= int64(m)
		}
		if len(strokes) == 3 && len(modifiers) == 0 {
			down.Text, down.UnmodifiedText = strokes[1].Text, strokes[1].UnmodifiedText
		}
		for _, s := range []*input.DispatchKeyEventParams{down, up} {
			_, err := chromedp.Call(b.ctx, input.DispatchKeyEvent, *s)
			require.NoError(b, err)
		}
	}
}

// named gives the name that a screen reader says of what has the focus, within a part of the page.
const named = `((e, within) => e && e.closest(within) ? (
	e.getAttribute("aria-label") || [...(e.labels ?? [])].map(l => l.innerText).join(" ") || e.innerText || e.title || e.placeholder || ""
).trim().replace(/\s+/g, " ") : "")(document.activeElement, `

// tabTo goes on with Tab until something of that name, or of a name that begins so, has the focus.
func (b *browser) tabTo(within, name string) {
	b.Helper()
	var passed []string
	b.do(visible(within))
	for range 400 {
		is := look[string](b, named+strconv.Quote(within)+")")
		if is == name || strings.HasPrefix(is, name+" ") || strings.HasPrefix(is, name+":") {
			return
		}
		passed = append(passed, is)
		b.strike(kb.Tab)
	}
	b.shoot("failed")
	require.Fail(b, "Tab does not lead to "+name, "%q", passed)
}

// find chooses with the palette.
func (b *browser) find(words, found string) {
	b.Helper()
	b.strike("k", chromedp.ModifierCtrl)
	b.do(visible(paletteField))
	b.strike(words)
	b.says(`[role="option"][aria-selected="true"]`, found)
	b.strike(kb.Enter)
	b.do(gone(paletteField))
}

// add adds a node to the board.
func (b *browser) add(kind, name string) {
	b.Helper()
	choices, field := ".add-here", ".add-here input"
	if b.count("[data-node]") == 0 {
		choices, field = ".kinds", "#node-name"
	}
	b.strike("a")
	b.tabTo(choices, kind)
	b.strike(kb.Enter)
	b.do(visible(field))
	b.eventually("the proposed name can be overwritten", func() bool {
		return b.eval(`(f => f === document.activeElement && f.selectionEnd === f.value.length)(document.querySelector("` + field + `"))`)
	})
	b.strike(name)
	b.strike(kb.Enter)
	b.do(gone(field), visible(`[data-node="`+name+`"]`))
}

// connect draws a link from one node to another.
func (b *browser) connect(from, to string) {
	b.Helper()
	b.find(from, from)
	b.says(`section[aria-label="Inspector"]`, from)
	b.strike("c")
	b.do(visible(paletteField))
	b.strike(to)
	b.strike(kb.Enter)
	b.do(gone(paletteField))
	b.says(`section[aria-label="Inspector"]`, "Link "+from+" → "+to)
}

// write puts a value into a field of the inspector, under a heading that is opened first.
func (b *browser) write(heading, field, value string) {
	b.Helper()
	inspector := `section[aria-label="Inspector"]`
	b.tabTo(inspector, heading)
	if !b.eval(`document.activeElement.closest("details").open`) {
		b.strike(kb.Enter)
	}
	b.tabTo(inspector, field)
	b.strike("a", chromedp.ModifierCtrl)
	b.strike(value)
	b.strike(kb.Enter + kb.Escape) // set, and left
}

// TestTheJourneyByKeyboardAlone: from an empty workspace to a loop that is found and remedied, an outage simulated and
// a lost message explained, without a mouse.
func TestTheJourneyByKeyboardAlone(t *testing.T) {
	b, _ := openEmpty(t)

	b.tabTo("main", "New model")
	b.strike(kb.Enter)
	b.do(visible(`.bx--modal.is-visible #new-name`))
	b.tabTo(".bx--modal.is-visible", "Name")
	b.strike("check-in")
	b.tabTo(".bx--modal.is-visible fieldset", "queue-worker")
	b.eventually("an empty board is offered", func() bool {
		b.strike(kb.ArrowUp)
		return b.eval(`document.activeElement.value === "empty"`)
	})
	b.tabTo(".bx--modal.is-visible", "Make it")
	b.strike(kb.Enter)
	b.do(visible(`.board .kinds button`))

	// Drawn: the loop is a function that writes where it is triggered.
	b.says(".bar", "empty")
	b.add("bucket", "manifest-drop")
	b.tabTo(`[data-code="IW306"]`, "Set a rate")
	b.strike(kb.Enter)
	b.eventually("the field has the focus", func() bool {
		return b.eval(`document.activeElement.closest("[data-field]")?.dataset.field === "rate"`)
	})
	b.strike("40/h" + kb.Enter + kb.Escape)
	b.write("General", "keys", "inbound/{haulier}/{seq}.csv")
	b.add("function", "stamp")
	b.add("queue", "consignments")
	b.write("Reading", "retention", "1h")
	b.add("function", "clear")
	b.connect("manifest-drop", "stamp")
	b.write("Trigger", "match.prefix", "inbound/")
	b.connect("stamp", "consignments")
	b.connect("consignments", "clear")
	b.connect("stamp", "manifest-drop")
	b.write("Sends", "key", "inbound/{stem}.pdf")
	b.do(visible(`[data-code="IW101"] .remedy button`), visible(`[data-state="loops"]`))
	b.shoot("keyboard-loop")
	b.tabTo(`[data-code="IW101"] .remedy`, "Apply")
	b.strike(kb.Enter)
	b.do(gone(`[data-code="IW101"]`))

	// Simulated: an evening on which clearing is away for longer than messages are kept.
	b.strike(kb.Escape + "s")
	b.tabTo("main", "New scenario")
	b.strike(kb.Enter)
	b.do(visible("#scenario-name"))
	b.tabTo(".bx--modal.is-visible", "Name")
	b.strike("evening")
	b.tabTo(".bx--modal.is-visible", "Make it")
	b.strike(kb.Enter)
	b.do(gone(".bx--modal.is-visible"))
	b.tabTo("main", "Text")
	b.strike(kb.ArrowRight) // the form
	b.do(visible(`[data-traffic]`))
	b.tabTo("main", "Incident")
	b.strike(kb.Enter)
	incident := `[data-incident="incident"]`
	b.tabTo(incident, "What")
	b.strike("clear")
	b.tabTo(incident, "For")
	b.strike("a", chromedp.ModifierCtrl)
	b.strike("2h")
	b.tabTo("main", "Save scenario")
	b.strike(kb.Enter)
	b.eventually("saved", func() bool { return !strings.Contains(b.text(".pane .tools"), "changed") })
	b.shoot("keyboard-scenario")
	b.tabTo(".bar", "Run")
	b.strike(kb.Enter)
	b.do(visible(`tr[data-fate="lost-expired"] button`))

	// Explained: from the number to a message behind it, and why it was lost.
	b.tabTo(`tr[data-fate="lost-expired"]`, b.text(`tr[data-fate="lost-expired"] button`))
	b.strike(kb.Enter)
	journeys := `section[aria-label="Journeys"]`
	b.do(visible(journeys + ` [data-journey]`))
	b.tabTo(journeys, strings.Fields(b.text(journeys + ` li:first-child button`))[0])
	b.strike(kb.Enter)
	b.says(journeys+" .recorded", "its retention ended before it was consumed")
	b.shoot("keyboard-explained")
	b.clean()
}

// TestArrowsLeadAlongLinks: from node to node of the board, and Enter edits the one that is chosen.
func TestArrowsLeadAlongLinks(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
	b.find("axle-scale", "axle-scale")
	b.still(`[data-node="axle-scale"]`)
	b.tabTo(".board", "axle-scale")
	chosen := func(name string) {
		b.says(`section[aria-label="Inspector"] h2`, name)
		require.True(t, b.eval(`document.activeElement.dataset.id === "`+name+`"`), "it has the focus")
	}
	b.strike("i")
	for _, step := range [][2]string{
		{kb.ArrowRight, "weigh-lane"}, {kb.ArrowRight, "lane-weights"}, {kb.ArrowDown, "lane-weights"},
		{kb.ArrowLeft, "weigh-lane"}, {kb.ArrowLeft, "axle-scale"}, {kb.ArrowLeft, "axle-scale"},
	} {
		b.strike(step[0])
		chosen(step[1])
	}
	b.strike(kb.Enter)
	b.eventually("its name can be edited", func() bool { return b.eval(`document.activeElement.id === "inspected-name"`) })
	require.Empty(t, b.draft("kittiwake"), "nothing was changed or moved")
	b.clean()
}
