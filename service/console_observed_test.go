package service_test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestWhatWasObservedStandsBesideTheModel: the panel says where to send traces; what has come stands on the board, in
// the numbers and in the drift with its history; one press brings it into the draft, as the model's text.
func TestWhatWasObservedStandsBesideTheModel(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	drawn := strings.NewReplacer("mean: 2s", "mean: 1s", "  printer: {kind", "  siren: {kind: queue}\n  printer: {kind").
		Replace(weighing)
	r.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "weighing", "text": drawn}, 201)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/weighing"), visible(`[data-node="printer"]`))
	b.press("Observed")
	const panel = `section[aria-label="Observed"]`
	b.says(panel, "OTEL_EXPORTER_OTLP_ENDPOINT="+r.url+observedPath)
	b.shoot("observed-empty")
	b.axe("observed-empty")

	exporter := r.token("exporter", "editor")
	spans := lived(t, weighing, 12)
	r.export(exporter, spans)
	r.observed(exporter, len(spans))
	b.press("Refresh")
	b.says(panel, "axle-scale takes 2")
	b.says(panel, "In the model, not observed")
	b.says(`[data-differs="true"]`, "axle-scale")
	b.says(`[data-node="axle-scale"]`, " ≠ 1s")
	b.says(`[data-node="siren"]`, "not seen")
	require.Equal(t, 1, b.count(`[data-node="axle-scale"][data-highlight="bad"]`))
	require.Equal(t, 24, b.count(panel+" .hours span"))
	b.shoot("observed")
	b.axe("observed")
	b.eval(`(document.querySelector('section[aria-label="Observed"] table').scrollIntoView(), true)`)
	b.shoot("observed-numbers")
	b.press("Bring it into the draft")
	b.says(".bar", "changed")
	b.says(".cm-content", "2.")
	b.eventually("the draft takes what was observed", func() bool { return !strings.Contains(b.draft("weighing"), "mean: 1s") })

	b.fill(panel+` input[placeholder="none"]`, "http://127.0.0.1:1/drift")
	b.press("Set webhook")
	b.says(panel, "an administrator adds one")
	b.press("Remove what was observed")
	b.says(panel, "Nothing has been observed")

	b.do(chromedp.Navigate(b.url+"/settings"), visible("[role=tab]"))
	b.tab("Limits")
	const tab = ".bx--tab-content:not([hidden])"
	b.says(tab, "What was observed, days kept")
	b.fill(tab+" textarea", "http://127.0.0.1:1")
	b.shoot("limits")
	b.axe("limits")
	b.press("Keep")
	b.says(tab, "Kept.")
	require.Equal(t, []any{"http://127.0.0.1:1"}, r.do("GET", "/api/v1/settings", nil, 200)["webhooks"])
	r.do("PUT", observedPath+"/webhook", map[string]string{"address": "http://127.0.0.1:1/drift"}, 204)
	b.clean()
}
