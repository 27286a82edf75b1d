package service_test

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
	"math"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// estate is a model of systems of ten nodes of all families.
func estate(systems int) string {
	var text strings.Builder
	text.WriteString("ironweir: topology/1\nname: estate\nnodes:\n")
	for i := range systems {
		text.WriteString(strings.ReplaceAll(`  @-in: {kind: bucket, keys: ["a/{seq}.csv"], links: {@-split: {dead-letter: @-desk}}}
  @-split: {kind: function, links: {@-q: {}, @-t: {}}}
  @-q: {kind: queue, links: {@-work: {retry: {tries: 4}, dead-letter: @-desk}}}
  @-work: {kind: function, links: {@-rows: {}}}
  @-rows: {kind: table}
  @-t: {kind: topic, links: {@-a: {dead-letter: @-desk}, @-b: {dead-letter: @-desk}}}
  @-a: {kind: function}
  @-b: {kind: queue, links: {@-out: {dead-letter: @-desk, retry: {tries: 3}}}}
  @-out: {kind: outside}
  @-desk: {kind: queue}
`, "@", fmt.Sprintf("s%d", i)))
	}
	return text.String()
}

// picture gives what a part of the page looks like, in squares of four pixels, as
// greys of 0 to 1.
func (b *browser) picture(x, y, width, height int) []float64 {
	b.Helper()
	shot, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	require.NoError(b, err)
	drawn, err := png.Decode(bytes.NewReader(shot))
	require.NoError(b, err)
	const side = 4
	var out []float64
	for top := y; top+side <= y+height; top += side {
		for left := x; left+side <= x+width; left += side {
			sum := 0.0
			for i := range side * side {
				at := image.Pt(left+i%side, top+i/side)
				red, green, blue, _ := drawn.At(at.X, at.Y).RGBA()
				sum += float64(red+green+blue) / 3 / 0xffff
			}
			out = append(out, sum/side/side)
		}
	}
	return out
}

// apart gives how far two pictures are apart: 0 for the same, 1 for black and white.
func apart(a, b []float64) float64 {
	sum := 0.0
	for i := range a {
		sum += math.Abs(a[i] - b[i])
	}
	return sum / float64(len(a))
}

// TestALargeBoardLooksTheSameWhilePanned, when a canvas draws it: as it does before and
// after, from far away and near by, in both themes. The node that has the focus keeps it.
func TestALargeBoardLooksTheSameWhilePanned(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := open(t, r)
	r.signIn().do("POST", "/api/v1/workspaces/main/models",
		map[string]string{"name": "estate", "text": estate(16)}, 201)
	b.do(chromedp.Navigate(b.url+"/w/main/models/estate"), visible(`[data-node]`))
	b.do(click(`button.svelte-flow__controls-fitview`))
	b.still(`[data-node="s0-in"]`, `[data-node="s15-out"]`)
	const x, y, width, height = 20, 200, 640, 360 // of the board, where no tool and no overview stands
	compare := func(what string) {
		t.Helper()
		b.eventually("nothing is moved", func() bool { return b.count(".board canvas") == 0 })
		before := b.picture(x, y, width, height)
		from, to := [2]float64{870, 480}, [2]float64{817, 443}
		mouse := func(kind input.DispatchMouseEventType, at [2]float64) {
			b.do(chromedp.MouseEvent(kind, at[0], at[1], chromedp.ButtonLeft))
		}
		mouse(input.DispatchMouseEventTypeMousePressed, from)
		for i := range 5 {
			f := float64(i+1) / 5
			mouse(input.DispatchMouseEventTypeMouseMoved,
				[2]float64{from[0] + (to[0]-from[0])*f, from[1] + (to[1]-from[1])*f})
		}
		b.eventually("the canvas draws", func() bool { return b.count(".board canvas") == 1 })
		b.eventually("the page's own nodes are not drawn", func() bool {
			return b.eval(`(nodes => getComputedStyle(nodes).contentVisibility === "hidden")(
				document.querySelector(".svelte-flow__nodes"))`)
		})
		b.shoot("panned-" + what)
		moving := b.picture(x, y, width, height)
		mouse(input.DispatchMouseEventTypeMouseReleased, to)
		b.eventually("the page draws again", func() bool { return b.count(".board canvas") == 0 })
		b.shoot("after-" + what)
		var after []float64
		b.eventually(what+": it looks the same", func() bool {
			after = b.picture(x, y, width, height)
			return apart(moving, after) < 0.4*apart(before, after)
		})
		require.Greater(t, apart(before, after), 0.01, "%s: it has moved", what)
		require.Less(t, apart(moving, after), 0.02, what)
	}
	require.Equal(t, 1, b.count(".board.far"))
	compare("far")
	for range 7 {
		b.do(click(`button.svelte-flow__controls-zoomin`))
	}
	b.eventually("names are read", func() bool { return b.count(".board.far") == 0 })
	compare("near")
	b.press("Dark theme")
	compare("dark")

	b.eventually("a node has the focus", func() bool {
		return b.eval(`(n => (n?.focus(), document.activeElement === n))(
			document.querySelector('.svelte-flow__node[data-id="s3-work"]'))`)
	})
	b.do(chromedp.MouseEvent(input.DispatchMouseEventTypeMouseWheel, 500, 400,
		func(p *input.DispatchMouseEventParams) { p.DeltaX, p.DeltaY = 1, 120 }))
	b.eventually("it is moved", func() bool { return b.count(".board canvas") == 1 })
	b.eventually("it is not moved any more", func() bool { return b.count(".board canvas") == 0 })
	b.eventually("the focus is back", func() bool {
		return b.eval(`document.activeElement?.dataset?.id === "s3-work"`)
	})
	b.clean()
}

// TestABoardSaysThatItIsBeingDrawn: while a board is laid out, it says of how many nodes.
func TestABoardSaysThatItIsBeingDrawn(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "estate", "text": estate(6)}, 201)
	b := open(t, r)
	_, err := chromedp.Call(b.ctx, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{
		Source: `globalThis.drawing = []; new MutationObserver(() => {
			const says = document.querySelector('.board [role="status"]')?.innerText;
			if (says) globalThis.drawing.push(says);
		}).observe(document, {childList: true, subtree: true});`})
	require.NoError(t, err)
	b.do(chromedp.Navigate(b.url+"/w/main/models/estate"), visible(`[data-node="s0-in"]`))
	require.Contains(t, look[[]string](b, "globalThis.drawing"), "Drawing 60 nodes …")
	require.Zero(t, b.count(`.board .drawing`))
	b.clean()
}
