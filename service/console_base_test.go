package service_test

import (
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestCountsHaveOneBase: the counts of a result are means of one replication, or sums of all, on the
// whole page.
func TestCountsHaveOneBase(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	started := r.do("POST", "/api/v1/workspaces/main/models/kittiwake/runs",
		map[string]any{"scenario": "quiet-tuesday", "replications": 3}, 202)
	r.follow(started["id"].(float64))
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/runs/1"), visible(`tr[data-fate="sum"]`))
	number := func(text string) float64 {
		n, err := strconv.ParseFloat(strings.ReplaceAll(strings.TrimSpace(text), ",", ""), 64)
		require.NoError(t, err, text)
		return n
	}
	ledger := func() float64 { return number(b.text(`tr[data-fate="sum"] td.num`)) }
	copies := func() float64 { // of the node that is listed first
		return number(look[string](b, `[...document.querySelectorAll(".bx--data-table-container tbody tr")]`+
			`.find(r => r.innerText.includes("consignments")).children[2].innerText`))
	}
	flow := func() float64 {
		return number(look[string](b, `document.querySelector("figure svg text tspan").textContent`))
	}
	each := []float64{ledger(), copies(), flow()}
	require.Contains(t, b.text(`tr[data-fate="handled"] .interval`), " to ", "the interval of the mean")
	require.Contains(t, b.text(".page"), "The mean of the replications")
	b.shoot("base")
	b.axe("base")
	require.True(t, b.eval(`(f => (f.value = "sum", f.dispatchEvent(new Event("change", {bubbles: true})), true))`+
		`([...document.querySelectorAll(".page select")].find(s => s.innerText.includes("all 3 replications")))`))
	b.says(".page", "The sum of the replications")
	for i, sum := range []float64{ledger(), copies(), flow()} {
		require.InDelta(t, 3*each[i], sum, 0.16, "within the rounding of a tenth")
	}
	require.Zero(t, b.count(`tr[data-fate="handled"] .interval`))
	b.clean()
}
