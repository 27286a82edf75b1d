package service_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// watchMarks counts, from now on, what is seen to move on the board.
func (b *browser) watchMarks() {
	b.Helper()
	require.True(b, b.eval(`(() => {
		window.marks = { goes: 0, runs: 0, lost: 0, parked: 0 };
		new MutationObserver((list) => list.forEach((change) => change.addedNodes.forEach((n) => {
			if (n.classList?.contains("mark")) Object.keys(window.marks).forEach((k) => n.classList.contains(k) && window.marks[k]++);
		}))).observe(document.body, { childList: true, subtree: true });
		return true;
	})()`))
}

// TestMessagesMove: in a try each link, run and end is seen; what was seen goes away, and
// nothing moves any more once that is switched off, also after a reload.
func TestMessagesMove(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := open(t, r)
	try := `section[aria-label="Try a message"]`
	opened := func() {
		b.do(visible(`[data-node="axle-scale"]`))
		b.press("Try a message")
		b.choose("axle-scale")
		b.eventually("the node is chosen", func() bool { return b.value(try+" select") == "axle-scale" })
		b.watchMarks()
	}
	send := func(payload, outcome string) {
		b.fill(try+" textarea", payload)
		b.do(click(try+` button[type="submit"]`), visible(`[data-outcome="`+outcome+`"]`))
	}
	b.do(chromedp.Navigate(b.url + "/w/main/models/kittiwake"))
	opened()
	send(`{"lane": 2, "kg": 18200}`, "complete")
	require.True(t, b.eval(`window.marks.goes >= 2 && window.marks.runs >= 1 && window.marks.parked === 0`))
	send(`{"lane": 2}`, "failed")
	b.eventually("what is parked is seen", func() bool { return b.eval(`window.marks.parked >= 1`) })
	b.eventually("what was seen goes away", func() bool { return b.count(".mark") == 0 })
	b.axe("motion")

	b.do(click(`button[title="Stop motion"]`), visible(`button[title="Show messages move"]`))
	b.do(chromedp.Reload())
	opened()
	send(`{"lane": 2, "kg": 18200}`, "complete")
	require.True(t, b.eval(`Object.values(window.marks).every((n) => n === 0)`))
	b.clean()
}
