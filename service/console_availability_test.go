package service_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestAvailabilityBelowTheBoard: an architect reads what a year of breakdowns does, what
// does most of it, and applies the change that leaves least.
func TestAvailabilityBelowTheBoard(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
	b.press("Availability")
	const panel = `section[aria-label="Availability"]`
	b.says(panel, "manifest-drop")
	require.Equal(t, 2, b.count(panel+` tbody tr`))
	b.do(click(panel + ` button[aria-label="Breakdowns behind manifest-drop"]`))
	b.says(panel+" .reasons", "mail-relay: ")
	b.axe("availability")
	b.shoot("availability")
	b.press("Raise retry.tries of mail:mail-relay from 8 to 16")
	b.says(panel+" .reasons", "from 16 to 32")
	b.clean()
}

// TestAPairOfGuaranteesLightsItsPaths: the nodes on the paths of an open pair stand out
// on the board.
func TestAPairOfGuaranteesLightsItsPaths(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
	b.press("Guarantees")
	const pair = `button[aria-label="Reasons for axle-scale to lane-weights"]`
	b.do(visible(pair), click(pair), visible(`[data-node="weigh-lane"][data-highlight="highlighted"]`))
	require.Zero(t, b.count(`[data-node="mail"][data-highlight="highlighted"]`))
	b.do(click(pair), visible(`[data-node="mail"][data-highlight=""]`))
	b.clean()
}

// TestAPlanBelowTheBoard: the fewest changes that leave no error are found, read and
// applied at once.
func TestAPlanBelowTheBoard(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake-draft"), visible(`[data-node="mail"]`))
	b.press("Find the fewest changes")
	b.says(".plan", "3 changes leave no error")
	b.says(".plan", "Let stamp-manifest write under derived/")
	b.axe("plan")
	b.shoot("plan")
	b.press("Apply all 3")
	b.do(gone(".plan"))
	require.Contains(t, b.draft("kittiwake-draft"), "derived/")
	b.clean()
}
