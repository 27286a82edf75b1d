package service_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestGuaranteesBelowTheBoard: an architect reads what holds for each pair, opens the
// reasons of one, and goes to a node.
func TestGuaranteesBelowTheBoard(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
	b.press("Guarantees")
	const panel = `section[aria-label="Guarantees"]`
	b.says(panel, "at most once")
	require.Equal(t, 8, b.count(panel+` tbody tr`))
	b.do(click(panel + ` button[aria-label="Reasons for axle-scale to lane-weights"]`))
	b.says(panel+" .reasons", "axle-scale:weigh-lane: expired if axle-scale:weigh-lane is disabled or stopped")
	b.axe("guarantees")
	b.shoot("guarantees-console")
	b.do(click(`//section[@aria-label="Guarantees"]//button[text()="mail-relay"]`))
	b.says(panel+" tbody tr:first-child", "mail-relay")
	b.clean()
}
