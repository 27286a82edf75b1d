package service_test

import (
	"context"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestPointersOfARehearsal: of two people who watch a rehearsal, each sees where the other points on the board.
func TestPointersOfARehearsal(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.member("ines", "viewer")
	id := r.do("POST", "/api/v1/workspaces/main/models/kittiwake/rehearsals", map[string]any{"paused": true}, 201)["id"].(string)
	page := r.url + "/w/main/rehearsals/" + id
	b := open(t, r)
	b.do(chromedp.Navigate(page), visible(`[data-node="mail"]`))
	other := visit(t, r)
	secret, err := r.store.SignInLink(context.Background(), "ines", time.Hour)
	require.NoError(t, err)
	other.do(chromedp.Navigate(r.url+"/sign-in#"+secret), visible("table a"))
	other.do(chromedp.Navigate(page), visible(`[data-node="mail"]`))
	other.says(".watchers", "admin, ines")
	b.says(".watchers", "admin, ines")

	other.still(`[data-node="mail"] .face`)
	x, y := other.middle(`[data-node="mail"] .face`)
	other.do(
		chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, x-30, y),
		chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, x, y),
	)
	b.do(visible(`[data-pointer="ines"]`))
	b.eventually("it points at the node", func() bool {
		box := look[[]float64](b, `(r => [r.x, r.y])(document.querySelector('[data-pointer="ines"]').getBoundingClientRect())`)
		nx, ny := b.middle(`[data-node="mail"] .face`)
		return box[0] > nx-9 && box[0] < nx+9 && box[1] > ny-9 && box[1] < ny+9
	})
	require.Zero(t, other.count(`[data-pointer="ines"]`), "one's own is not shown")
	b.shoot("pointers")
	other.do(chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, 5, 5))
	b.eventually("it is gone", func() bool { return b.count(`[data-pointer="ines"]`) == 0 })
	b.clean()
	other.clean()
}
