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
	r := start(t)
	b := open(t, r)
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

// TestAnEditDrawsOnlyWhatItChanges: the node of which the kind is written anew, and
// nothing else of the board; a new node stands there before a layout is found.
func TestAnEditDrawsOnlyWhatItChanges(t *testing.T) {
	needConsole(t)
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
	b.toEnd()
	require.True(
		t,
		b.eval(
			`(() => { for (let i = 0; i < 6; i++) document.execCommand("delete"); return document.execCommand("insertText", false, "queue}") })()`,
		),
	)
	b.eventually("the kind on the board", func() bool { return b.text(`[data-node="rows"] .kind`) == "queue" })
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
