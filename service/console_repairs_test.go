package service_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// TestANodeIsAddedWithTheKeyboard: the proposed name is replaced by what is typed, Enter
// adds the node once, and the dialog is gone.
func TestANodeIsAddedWithTheKeyboard(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do(
		"POST",
		"/api/v1/workspaces/main/models",
		map[string]string{"name": "keys", "text": "ironweir: topology/1\nname: keys\nnodes: {}\n"},
		201,
	)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/keys"), visible(`.board .kinds button`))
	require.Contains(t, b.text(`section[aria-label="Findings"]`), "no nodes yet")
	for _, name := range []string{"photos", "thumbnails", "archive"} {
		if b.count(".board .kinds button") > 0 {
			require.True(
				t,
				b.eval(
					`(k => (k.click(), true))([...document.querySelectorAll(".board .kinds button")].find(k => k.textContent === "bucket"))`,
				),
			)
		} else {
			b.do(click(`.board button[aria-haspopup]`), visible(`.bx--overflow-menu-options`))
			require.True(t, b.eval(`(k => (k.click(), true))([...document.querySelectorAll(".bx--overflow-menu-options button")].find(k => k.textContent.trim() === "bucket"))`))
		}
		b.do(visible("#node-name"))
		b.eventually(
			"the field has the focus",
			func() bool { return b.eval(`document.activeElement?.id === "node-name"`) },
		)
		b.do(chromedp.KeyEvent(name))
		require.Equal(t, name, b.value("#node-name"), "what was proposed is replaced")
		b.do(chromedp.KeyEvent(kb.Enter))
		b.do(visible(`[data-node="`+name+`"]`), gone("#node-name"))
	}
	require.Equal(t, 3, strings.Count(b.draft("keys"), "kind: bucket"))
	require.Contains(t, b.draft("keys"), "nodes:\n  photos: {kind: bucket}\n", "each on a line of its own")
	b.clean()
}

// TestAScheduleGetsACronExpression in the inspector, where it had an interval, and the
// field keeps the focus.
func TestAScheduleGetsACronExpression(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do(
		"POST",
		"/api/v1/workspaces/main/models",
		map[string]string{
			"name": "tick",
			"text": "ironweir: topology/1\nname: tick\nnodes:\n  tick: {kind: schedule, every: 15m, links: {f: {}}}\n  f: {kind: function}\n",
		},
		201,
	)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/tick"), visible(`[data-node="tick"]`))
	b.choose("tick")
	b.press("Inspector")
	b.set("cron", "30 4 * * *")
	b.eventually("the calendar is another", func() bool {
		return strings.Contains(b.draft("tick"), "cron: 30 4 * * *") && !strings.Contains(b.draft("tick"), "every")
	})
	b.set("every", "1h")
	b.eventually("and back", func() bool {
		return strings.Contains(b.draft("tick"), "every: 1h") && !strings.Contains(b.draft("tick"), "cron")
	})

	// In words: what they come to is seen before it is set, and what is not understood is named.
	b.fill("#schedule-words", "every weekday at tea")
	b.says("details[open] form", `"tea" is not understood`)
	b.fill("#schedule-words", "every weekday at 6:30")
	b.says("details[open] form", "cron: 30 6 * * MON-FRI")
	require.Equal(t, 5, b.count(`ul[aria-label="The next instants"] li`))
	b.axe("a schedule in words")
	b.shoot("inspector")
	b.press("Set the schedule")
	b.eventually("the words are set", func() bool {
		return strings.Contains(b.draft("tick"), "cron: 30 6 * * MON-FRI") && !strings.Contains(b.draft("tick"), "every")
	})

	// A group stays as it was left, at other nodes too.
	failure := `[...document.querySelectorAll('section[aria-label="Inspector"] summary')].find((s) => s.textContent.startsWith("Failure"))`
	require.True(t, b.eval(failure+".closest('details').open === false"))
	require.True(t, b.eval("("+failure+".click(), true)"))
	b.choose("f")
	b.eventually("the group is open", func() bool { return b.eval(failure + "?.closest('details').open === true") })
	b.clean()
}

// TestADeepLinkOutlivesSigningIn: whoever has to sign in first comes to the page that
// they wanted; a one-time link works in a tab that shows the sign-in page.
func TestADeepLinkOutlivesSigningIn(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := openModels(t, r)
	const name = `input[autocomplete="username"]`
	b.press("Sign out")
	b.do(visible(name))
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(name))
	link, err := r.store.SignInLink(t.Context(), "admin", 60e9)
	require.NoError(t, err)
	require.True(t, b.eval(`((location.hash = "#`+link+`"), true)`))
	b.do(visible(`[data-node="manifest-drop"]`))
	require.False(t, b.eval(`location.href.includes("#")`), "the secret is in no address")
}

// TestAResultScrollsOnce: the page of a result has one scroller, and the wheel over its
// board scrolls the page.
func TestAResultScrollsOnce(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	id := r.do("POST", "/api/v1/workspaces/main/models/kittiwake/runs", map[string]any{"scenario": "quiet-tuesday"}, 202)["id"]
	b := open(t, r)
	b.do(chromedp.Navigate(fmt.Sprintf("%s/w/main/runs/%v", b.url, id)), visible(`.page .svelte-flow`))
	require.True(
		t,
		b.eval(`document.documentElement.scrollHeight <= innerHeight && document.body.scrollHeight <= innerHeight + 1`),
		"the document does not scroll beside the page",
	)
	b.clean()
}
