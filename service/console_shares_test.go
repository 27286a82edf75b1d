package service_test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestAShareLinkIsSent: an editor shares a result and a revision; somebody without an account
// opens the links in a browser of their own and reads both, without a way to anything else;
// the links are listed in the settings, and open nothing once they are revoked.
func TestAShareLinkIsSent(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.openShares(true)
	started := r.do("POST", "/api/v1/workspaces/main/models/kittiwake/runs",
		map[string]any{"scenario": "quiet-tuesday", "replications": 1}, 202)
	r.follow(started["id"].(float64))
	b := open(t, r)
	share := func() string {
		b.press("Create link")
		b.says(".bx--modal.is-visible", "It is shown this once")
		return b.text(".bx--modal.is-visible .bx--snippet code, .bx--modal.is-visible .bx--snippet pre")
	}
	b.do(chromedp.Navigate(b.url + "/w/main/runs/1"))
	b.says(".page", "Where every message went")
	b.press("Share")
	b.says(".bx--modal.is-visible", "Anyone with the link can read this and nothing else")
	b.shoot("share")
	b.axe("share")
	result := share()
	require.True(t, strings.HasPrefix(result, b.url+"/s/"), result)
	b.shoot("share-made")

	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
	b.press("Share")
	b.says(".bx--modal.is-visible", "Share kittiwake, revision 1")
	revision := share()

	guest := visit(t, r)
	guest.do(chromedp.Navigate(result))
	guest.says(".page", "Where every message went")
	guest.says("header", "run 1 of kittiwake under quiet-tuesday, shared by admin until")
	guest.says(".page", "On the board")
	guest.do(visible(`.replay [data-node="mail"]`))
	require.Zero(t, guest.count(`header a[href="/settings"], header nav a, .page a[href*="/models/"]`))
	require.Equal(t, "1", guest.lastOfPath(), "the link does not stay in the address")
	guest.shoot("shared-result")
	guest.axe("shared-result")
	guest.clean()

	reader := visit(t, r)
	reader.do(chromedp.Navigate(revision), visible(`[data-node="mail"]`))
	reader.says(".page", "kittiwake")
	reader.says(".page pre", "ironweir: topology/1")
	reader.shoot("shared-revision")
	reader.axe("shared-revision")
	reader.clean()

	b.do(chromedp.Navigate(b.url+"/settings"), visible("[role=tab]"))
	b.tab("Share links")
	const tab = ".bx--tab-content:not([hidden])"
	b.says(tab, "run 1 of kittiwake under quiet-tuesday")
	b.says(tab, "kittiwake, revision 1")
	b.shoot("shares")
	b.do(click(`//button[contains(., "Revoke the link to kittiwake, revision 1")]`))
	b.eventually("one link is left", func() bool { return b.count(tab+" tbody tr") == 1 })
	b.clean()
	late := visit(t, r)
	late.do(chromedp.Navigate(revision))
	late.says(".page", "this link has expired or was revoked")
}
