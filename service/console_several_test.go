package service_test

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

const threeInARow = "ironweir: topology/1\nname: row\nnodes:\n" +
	"  q: {kind: queue, links: {f: {}}}\n  f: {kind: function, takes: 1s, links: {d: {}}}\n  d: {kind: table}\n"

// shiftPress presses a node while Shift is held.
func (b *browser) shiftPress(node string) {
	b.Helper()
	x, y := b.middle(`[data-node="` + node + `"] .face`)
	b.do(chromedp.MouseClickXY(x, y, withShift))
}

func withShift(p *input.DispatchMouseEventParams) { p.Modifiers = 8 } // as the protocol numbers Shift

// TestSeveralNodesAreChosen by presses with Shift and by a frame: they are tagged, fail together, are moved and
// removed, each as one change.
func TestSeveralNodesAreChosen(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	r.signIn().do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "row", "text": threeInARow}, 201)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url + "/w/main/models/row"))
	b.choose("q")
	b.shiftPress("f")
	b.says(".several", "2 nodes")
	b.press("Tag")
	b.fill(".several input", "team customs")
	b.do(click(`.several button[type="submit"]`))
	b.says(".several .wrong", "key=value")
	b.fill(".several input", "team=customs")
	b.do(click(`.several button[type="submit"]`))
	b.eventually("both are tagged", func() bool { return strings.Count(b.draft("row"), "tags: {team: customs}") == 2 })
	b.press("Fail together")
	b.fill(".several input", "quay-power")
	b.do(click(`.several button[type="submit"]`))
	b.eventually("a group", func() bool { return strings.Contains(b.draft("row"), "quay-power: [q, f]") })
	b.shoot("several")
	b.axe("several")

	b.still(`[data-node="q"] .face`, `[data-node="f"] .face`)
	x, y := b.middle(`[data-node="q"] .face`)
	fx, fy := b.middle(`[data-node="f"] .face`)
	b.pull(`[data-node="q"] .face`, x+60, y+90)
	b.letGo(x+60, y+90)
	b.eventually("both have moved", func() bool {
		qx, qy := b.middle(`[data-node="q"] .face`)
		nx, ny := b.middle(`[data-node="f"] .face`)
		return qy > y+40 && math.Abs((ny-fy)-(qy-y)) < 1 && math.Abs((nx-fx)-(qx-x)) < 1
	})
	placed := func() map[string]any {
		return r.do("GET", "/api/v1/workspaces/main/models/row/places", nil, 200)["places"].(map[string]any)
	}
	b.eventually("the places are kept", func() bool { return len(placed()) == 2 })
	ctrl := chromedp.KeyModifiers(chromedp.ModifierCtrl)
	b.do(chromedp.KeyEvent("z", ctrl))
	b.eventually("the move is undone", func() bool { return len(placed()) == 0 })
	require.Contains(t, b.draft("row"), "quay-power: [q, f]", "the edit before it stays")
	b.do(chromedp.KeyEvent("y", ctrl))
	b.eventually("and made again", func() bool { return len(placed()) == 2 })

	b.do(chromedp.KeyEvent(kb.Escape))
	b.eventually("none is chosen", func() bool { return b.count(".several") == 0 })
	b.frame(`[data-node="f"]`, `[data-node="d"]`)
	b.says(".several", "2 nodes")
	b.press("Remove")
	b.eventually("both are gone", func() bool { return !strings.Contains(b.draft("row"), "kind: table") })
	require.NotContains(t, b.draft("row"), "kind: function")
	b.clean()
}

// frame draws a frame round two things while Shift is held.
func (b *browser) frame(first, last string) {
	b.Helper()
	b.still(first, last)
	x1, y1 := b.middle(first)
	x2, y2 := b.middle(last)
	from, to := [2]float64{min(x1, x2) - 70, min(y1, y2) - 60}, [2]float64{max(x1, x2) + 70, max(y1, y2) + 60}
	send := func(kind input.DispatchMouseEventType, x, y float64) {
		b.do(chromedp.MouseEvent(kind, x, y, chromedp.ButtonLeft, withShift))
	}
	down := &input.DispatchKeyEventParams{Type: input.DispatchKeyEventTypeKeyDown, Key: "Shift", Code: "ShiftLeft"}
	_, err := chromedp.Call(b.ctx, input.DispatchKeyEvent, *down)
	require.NoError(b, err)
	send(input.DispatchMouseEventTypeMousePressed, from[0], from[1])
	for i := 1; i <= 8; i++ {
		f := float64(i) / 8
		send(input.DispatchMouseEventTypeMouseMoved, from[0]+(to[0]-from[0])*f, from[1]+(to[1]-from[1])*f)
	}
	send(input.DispatchMouseEventTypeMouseReleased, to[0], to[1])
	up := *down
	up.Type = input.DispatchKeyEventTypeKeyUp
	_, err = chromedp.Call(b.ctx, input.DispatchKeyEvent, up)
	require.NoError(b, err)
}

// TestPlacesAreEverybodys: where a node was put by hand, it stands for others too, after a rename as well, until the
// board is laid out anew.
func TestPlacesAreEverybodys(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	api := r.signIn()
	api.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "row", "text": threeInARow}, 201)
	places := "/api/v1/workspaces/main/models/row/places"
	api.do("PATCH", places, map[string]any{"places": map[string]any{"q": map[string]float64{"x": 40, "y": 300}}}, 204)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url + "/w/main/models/row"))
	b.do(visible(`[data-node="q"]`))
	b.still(`[data-node="q"] .face`)
	_, qy := b.middle(`[data-node="q"] .face`)
	_, fy := b.middle(`[data-node="f"] .face`)
	require.Greater(t, qy, fy+100, "it stands below")

	// A colleague puts it level with the others.
	api.do("PATCH", places, map[string]any{"places": map[string]any{"q": map[string]float64{"x": 40, "y": 0}}}, 204)
	b.eventually("it moves", func() bool { _, y := b.middle(`[data-node="q"] .face`); return y < fy+50 })
	b.choose("q")
	b.do(chromedp.KeyEvent(kb.F2))
	b.eventually("the name can be written", func() bool { return b.count("#inspected-name") == 1 })
	b.fill("#inspected-name", "quay")
	b.do(chromedp.Focus(chromedp.CSS("#inspected-name")), chromedp.KeyEvent(kb.Enter))
	b.eventually("its place has its new name", func() bool {
		kept := api.do("GET", places, nil, 200)["places"].(map[string]any)
		return kept["quay"] != nil && kept["q"] == nil
	})
	api.do("PATCH", places, map[string]any{"places": map[string]any{"No name": map[string]float64{"x": 1, "y": 1}}}, 422)
	api.do("DELETE", places, nil, 204)
	require.Empty(t, api.do("GET", places, nil, 200)["places"])
	b.clean()
}

// TestPartsOfLargeBoardsHaveNames of 12 pixels or more, as first opened: the owners, or the connected parts.
func TestPartsOfLargeBoardsHaveNames(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := open(t, r)
	// parts are chains of some nodes each; names of 63 letters fill their boxes.
	model := func(parts, nodes int, owners bool) string {
		var text strings.Builder
		text.WriteString("ironweir: topology/1\nname: large\nnodes:\n")
		for p := range parts {
			for k := range nodes {
				owner := ""
				if owners {
					owner = fmt.Sprintf(", owner: quay %d", p+1)
				}
				long := strings.Repeat("long-", 11)
				links := ""
				if k < nodes-1 {
					links = fmt.Sprintf(", links: {%sp%dn%d: {}}", long, p, k+1)
				}
				fmt.Fprintf(&text, "  %sp%dn%d: {kind: topic%s%s}\n", long, p, k, owner, links)
			}
		}
		return text.String()
	}
	const sizes = `[...document.querySelectorAll("[data-group] span")].map(s =>
		parseFloat(getComputedStyle(s).fontSize) * s.getBoundingClientRect().width / Math.max(s.offsetWidth, 1))`
	for _, c := range []struct {
		name         string
		parts, nodes int
		owners       bool
	}{{"owned", 6, 11, true}, {"plain", 20, 25, false}} {
		r.signIn().do("POST", "/api/v1/workspaces/main/models",
			map[string]string{"name": c.name, "text": model(c.parts, c.nodes, c.owners)}, 201)
		b.do(chromedp.Navigate(b.url+"/w/main/models/"+c.name), visible(`[data-node]`))
		b.do(click(`button.svelte-flow__controls-fitview`))
		b.eventually("each part has a name", func() bool { return b.count("[data-group] span") == c.parts })
		b.eventually("they can be read", func() bool {
			return !slices.ContainsFunc(look[[]float64](b, sizes), func(px float64) bool { return px < 12 })
		})
		require.Zero(t, b.count(`.far .svelte-flow__node-node:not(:has(svg))`), "no box is empty")
		b.shoot("large-" + c.name)
	}
	b.clean()
}
