package service_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// TestMenusOfTheBoard: a node, a link and the board each have a menu at the pointer; what it offers is in the palette
// too; Escape closes it.
func TestMenusOfTheBoard(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "small", "text": small}, 201)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/small"), visible(`[data-node="q"]`))
	b.still(`[data-node="q"] .face`, `[data-node="f"] .face`)
	const menu = ".bx--menu--open"
	ask := func(selector string) {
		b.Helper()
		x, y := b.middle(selector)
		b.do(chromedp.MouseClickXY(x, y, chromedp.ButtonRight), visible(menu))
	}
	ask(`[data-node="q"] .face`)
	for _, says := range []string{
		"Inspect q", "Try a message at q", "Guarantees of q", "Draw a link from q", "Rename q", "Copy q", "Remove q",
	} {
		b.says(menu, says)
	}
	b.shoot("menu")
	b.axe("menu")
	b.do(chromedp.KeyEvent(kb.Escape))
	b.eventually("Escape closes it", func() bool { return b.count(menu) == 0 })
	ask(`[data-node="f"] .face`)
	b.do(click(`//li[@role="menuitem"][contains(., "Inspect f")]`))
	b.eventually("the inspector shows it", func() bool { return b.value("#inspected-name") == "f" })
	require.Zero(t, b.count(menu))
	b.palette("Guarantees of f")
	b.do(chromedp.KeyEvent(kb.Enter), gone(paletteField))
	b.says(`section[aria-label="Guarantees"]`, "f")

	require.True(t, b.eval(`(e => e.dispatchEvent(new MouseEvent("contextmenu", {bubbles: true, cancelable: true,
		clientX: 300, clientY: 300})) === false)(document.querySelector(".svelte-flow__edge path"))`))
	b.says(menu, "Remove q:f")
	b.do(chromedp.KeyEvent(kb.Escape))
	b.eventually("Escape closes it", func() bool { return b.count(menu) == 0 })
	_, y := b.middle(".svelte-flow__pane")
	x, _ := b.middle(`[data-node="q"] .face`)
	b.do(chromedp.MouseClickXY(x, y+120, chromedp.ButtonRight), visible(menu)) // below the node
	b.says(menu, "Lay the board out anew")
	b.do(click(`//li[@role="menuitem"][contains(., "Full-screen board")]`))
	b.eventually("the board has the page", func() bool { return b.count(".bench.whole") == 1 })

	b.eval(`(document.body.dispatchEvent(new KeyboardEvent("keydown", {key: "b", bubbles: true})), true)`)
	b.eventually("the panels are back", func() bool { return b.count(".bench.whole") == 0 })
	b.still(`[data-node="f"] .face`)
	ask(`[data-node="f"] .face`)
	b.do(click(`//li[@role="menuitem"][contains(., "Remove f")]`))
	b.eventually("it is removed", func() bool { return b.count(`[data-node="f"]`) == 0 })
	b.clean()
}
