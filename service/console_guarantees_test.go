package service_test

import (
	"strings"
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
	require.Equal(t, 9, b.count(panel+` tbody tr`))
	b.do(click(panel + ` button[aria-label="Reasons for axle-scale to lane-weights"]`))
	b.says(panel+" .reasons", "axle-scale:weigh-lane: expired if axle-scale:weigh-lane is disabled or stopped")
	b.axe("guarantees")
	b.shoot("guarantees-console")
	b.do(click(`//section[@aria-label="Guarantees"]//button[text()="mail-relay"]`))
	b.says(panel+" tbody tr:first-child", "mail-relay")
	b.clean()
}

// TestAWitnessIsPlayed: an architect has a run show what a guarantee denies, sees the
// message's steps and where it is lost on the board, and keeps the scenario.
func TestAWitnessIsPlayed(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
	b.press("Guarantees")
	const panel = `section[aria-label="Guarantees"]`
	b.says(panel, "at most once")
	b.do(click(panel + ` button[aria-label="Reasons for axle-scale to lane-weights"]`))
	const reason = `axle-scale:weigh-lane: expired if axle-scale:weigh-lane is disabled or stopped`
	b.do(click(panel + ` button[aria-label="Show a message to which it happens: ` + reason + `"]`))
	b.findsWitness("its retention ended before it was consumed")
	b.eventually("the stream is marked", func() bool { return b.count(`[data-node="axle-scale"].bad, .bad [data-node="axle-scale"]`) > 0 })
	b.shoot("witness")
	b.axe("witness")
	b.press("Save as a scenario")
	b.says(panel+" .witness", "Saved as scenario axle-scale-lane-weights-lost-1.")
	saved := r.do("GET", "/api/v1/workspaces/main/models/kittiwake/scenarios/axle-scale-lane-weights-lost-1", nil, 200)
	require.Contains(t, saved["text"], `link: "axle-scale:weigh-lane"`)

	b.do(click(panel + ` button[aria-label="Reasons for manifest-drop to mail-relay"]`))
	b.do(click(`//section[@aria-label="Guarantees"]//dt[text()="Order not kept"]/following-sibling::dd[1]//button`))
	b.findsWitness("Overtakes it")
	b.shoot("witness-order")
	b.clean()
}

// findsWitness waits for a witness that says some words; a search that was ended, since the machine is busy, begins
// again.
func (b *browser) findsWitness(words string) {
	b.Helper()
	b.eventually("no witness says "+words, func() bool {
		if strings.Contains(b.text(".witness"), words) {
			return true
		}
		b.eval(`(again => (again?.click(), true))(document.querySelector(".witness .again"))`)
		return false
	})
}
