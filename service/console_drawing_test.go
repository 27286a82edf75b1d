package service_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// crossed counts the links that the layout has found a way for and that go through a
// node which they neither leave nor reach, looked at every few pixels.
const crossed = `(() => {
  const boxes = [...document.querySelectorAll(".svelte-flow__node-node")].map(n => ({ id: n.dataset.id, r: n.getBoundingClientRect() }));
  const bad = [];
  for (const edge of document.querySelectorAll(".svelte-flow__edge.routed")) {
    const [, from, to] = edge.getAttribute("aria-label").match(/ from (\S+) to ([^\s,]+)/);
    const path = edge.querySelector(".svelte-flow__edge-path"), matrix = path.getScreenCTM();
    for (let at = 0; at < path.getTotalLength(); at += 4) {
      const p = path.getPointAtLength(at).matrixTransform(matrix);
      for (const b of boxes) if (b.id !== from && b.id !== to && p.x > b.r.left + 1 && p.x < b.r.right - 1 && p.y > b.r.top + 1 && p.y < b.r.bottom - 1) bad.push(from + " to " + to + " through " + b.id);
    }
  }
  return bad;
})()`

// TestLinksGoAroundTheNodes of the demo: none crosses a node that it has nothing to
// do with.
func TestLinksGoAroundTheNodes(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := openModels(t, r)
	b.do(
		click(`a[href="/w/main/models/kittiwake-draft"]`),
		visible(`[data-node="mail"]`),
		visible(`.svelte-flow__edge.routed`),
	)
	b.still(`[data-node="mail"]`)
	require.Greater(t, b.count(".svelte-flow__edge.routed"), 15)
	through, err := chromedp.Run(b.ctx, chromedp.Evaluate[[]string](crossed))
	require.NoError(t, err)
	require.Empty(t, through)

	// While a node is dragged its links follow it.
	path := func() string {
		d, err := chromedp.Run(
			b.ctx,
			chromedp.Evaluate[string](
				`document.querySelector('.svelte-flow__edge[aria-label^="delivery from mail to mail-relay"] .svelte-flow__edge-path').getAttribute("d")`,
			),
		)
		require.NoError(t, err)
		return d
	}
	before := path()
	x, y := b.middle(`[data-node="mail"] .face`)
	b.pull(`[data-node="mail"] .face`, x+25, y+40)
	b.eventually("the link follows", func() bool { return path() != before })
	b.letGo(x+25, y+40)
	b.says(".board", "Auto-layout")
	b.press("Auto-layout")
	b.eventually("the way that was found is back", func() bool { return path() == before })
	b.clean()
}

// sizes measures the board as it is shown: the least height of letters of names and of the line
// below them, in pixels, and the nodes that stand on each other or out of sight.
const sizes = `(() => {
  const board = document.querySelector(".board").getBoundingClientRect();
  const scale = new DOMMatrix(getComputedStyle(document.querySelector(".svelte-flow__viewport")).transform).a;
  const least = what => Math.min(...[...document.querySelectorAll(".svelte-flow__node-node " + what)].map(e => parseFloat(getComputedStyle(e).fontSize) * scale));
  const nodes = [...document.querySelectorAll(".svelte-flow__node-node")].map(n => ({ id: n.dataset.id, r: n.getBoundingClientRect() }));
  const bad = [];
  for (const [i, a] of nodes.entries()) {
    if (a.r.left < board.left || a.r.right > board.right || a.r.top < board.top || a.r.bottom > board.bottom) bad.push(a.id + " is out of sight");
    for (const b of nodes.slice(i + 1)) if (a.r.left < b.r.right && b.r.left < a.r.right && a.r.top < b.r.bottom && b.r.top < a.r.bottom) bad.push(a.id + " stands on " + b.id);
    for (const tool of document.querySelectorAll(".svelte-flow__panel > *")) {
      const r = tool.getBoundingClientRect();
      if (a.r.left < r.right && r.left < a.r.right && a.r.top < r.bottom && r.top < a.r.bottom) bad.push(a.id + " is covered");
    }
  }
  for (const e of document.querySelectorAll(".svelte-flow__node-node .name")) if (e.scrollWidth > e.clientWidth + 1) bad.push(e.textContent + " is cut off");
  return { name: least(".name"), kind: least(".kind"), bad };
})()`

// TestTheBoardCanBeRead as first opened at 1280x800: names of at least 11 pixels, what stands
// below them of at least 9, all in sight and nothing upon anything else.
func TestTheBoardCanBeRead(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := open(t, r)
	for _, model := range []string{"kittiwake-draft", "kittiwake"} {
		b.do(chromedp.Navigate(b.url+"/w/main/models/"+model), visible(`[data-node="mail"]`), visible(`.svelte-flow__edge.routed`))
		b.still(`[data-node="mail"]`)
		shown, err := chromedp.Run(b.ctx, chromedp.Evaluate[struct {
			Name, Kind float64
			Bad        []string
		}](sizes))
		require.NoError(t, err)
		require.GreaterOrEqual(t, shown.Name, 11.0, model)
		require.GreaterOrEqual(t, shown.Kind, 9.0, model)
		require.Empty(t, shown.Bad, model)
		through, err := chromedp.Run(b.ctx, chromedp.Evaluate[[]string](crossed))
		require.NoError(t, err)
		require.Empty(t, through, model)
	}
	b.clean()
}

// TestAnEditDrawsOnlyWhatItChanges: the node of which the kind is written anew, and
// nothing else of the board; a new node stands there before a layout is found.
func TestAnEditDrawsOnlyWhatItChanges(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do(
		"POST",
		"/api/v1/workspaces/main/models",
		map[string]any{
			"name": "lane",
			"text": "ironweir: topology/1\nname: lane\nnodes:\n  slips: {kind: queue, rate: 1/s, links: {weigh: {retry: {tries: 3}, dead-letter: desk}}}\n  weigh: {kind: function, links: {rows: {}}}\n  desk: {kind: queue}\n  rows: {kind: table}",
		},
		201,
	)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/lane"), visible(`[data-node="rows"]`), visible(`[data-code]`))
	b.still(`[data-node="rows"]`)
	b.toEnd() // which chooses it
	b.do(visible(`.svelte-flow__node.selected [data-node="rows"], [data-node="rows"] .face[aria-pressed="true"]`))
	require.True(t, b.eval(`(() => {
  window.drawn = { edges: 0, nodes: new Set() };
  new MutationObserver(all => {
    for (const m of all) {
      const at = m.target.nodeType === Node.TEXT_NODE ? m.target.parentElement : m.target;
      if (at.closest(".svelte-flow__edges")) window.drawn.edges++;
      else window.drawn.nodes.add(at.closest("[data-node]")?.dataset.node ?? "board");
    }
  }).observe(document.querySelector(".svelte-flow__viewport"), { subtree: true, childList: true, attributes: true, characterData: true });
  return true;
})()`))
	require.True(
		t,
		b.eval(
			`(() => { for (let i = 0; i < 6; i++) document.execCommand("delete"); return document.execCommand("insertText", false, "queue}") })()`,
		),
	)
	b.eventually("the kind on the board", func() bool { return b.count(`[data-node="rows"][aria-label^="rows, queue"]`) == 1 })
	require.True(
		t,
		b.eval(`window.drawn.edges === 0 && [...window.drawn.nodes].join() === "rows"`),
		"only rows is drawn anew",
	)

	b.types("\n  later: {kind: topic}")
	b.eventually("the new node on the board", func() bool { return b.count(`[data-node="later"]`) == 1 })
	require.True(t, b.eval(`window.drawn.edges === 0`), "no link is drawn anew for it")
	b.clean()
}
