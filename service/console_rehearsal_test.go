package service_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"ironweir/service"
)

// What practitioners do on a cloud account, on the drawing board: send an event,
// watch it arrive, break something, watch again, look at what waits, mend it,
// set time back; then keep what has happened.
func TestARehearsalOnTheBoard(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := open(t, r)
	shows := func(selector, words string) {
		t.Helper()
		b.eventually(selector+" says "+words, func() bool { return strings.Contains(b.text(selector), words) })
	}
	node := func(name string) {
		t.Helper()
		b.choose(name)
		shows(".side h2", name)
	}
	tab := func(words string) {
		t.Helper()
		b.do(click(`//button[@role="tab"][contains(., "` + words + `")]`))
	}
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
	b.press("Rehearse")
	b.says(".bx--modal.is-visible", "Rehearse kittiwake")
	b.axe("starting a rehearsal")
	b.press("Start")
	b.do(visible(`.stage [data-node="mail"]`))
	shows(".stage .bar", "nothing but what is sent")
	shows(".watchers", "admin")

	// The registry fails before anything is sent, and what asks it with it.
	node("goods-registry")
	b.press("Fail")
	shows(".side .force", "failing")
	shows(`[data-node="goods-registry"]`, "failing")
	node("manifest-drop")
	tab("Send")
	b.eventually(
		"the sample is there",
		func() bool { return strings.HasPrefix(b.value(".side .two input"), "inbound/") },
	)
	b.fill(".side .two input", "inbound/gannet/77.csv")
	b.do(click(`.side form button[type="submit"]`))
	const steps = `section[aria-label="Steps"]`
	shows(steps, "inbound/gannet/77.csv")
	shows(steps, "split-manifest runs")
	b.shoot("rehearsal-sent")
	node("consignments")
	shows(".side h3", "here")
	b.do(chromedp.SetValue(chromedp.CSS(`.time select`), "60"))
	b.eval(
		`(s => (s.dispatchEvent(new Event("change", {bubbles: true})), true))(document.querySelector(".time select"))`,
	)
	shows(".message", "tr")
	b.press("Pause") // before its tries are exhausted
	shows(".time", "Resume")
	b.axe("a rehearsal that goes on")
	b.shoot("rehearsal")
	b.do(click(".message .key"))
	shows(".message pre", "inbound/gannet/77.csv")

	// It is healed, and time passes on.
	node("goods-registry")
	b.press("Heal")
	b.eventually("it is healed", func() bool { return b.text(".side .force") == "" })
	b.press("Resume")
	shows(`[data-node="clearances"]`, "received")
	tab("Log")
	shows(".side ol", "admin failed goods-registry")
	shows(".side ol", "admin healed")

	// Time goes back to before that; what was done later is replayed.
	b.fill(".back input", "0:00:01")
	b.press("Rewind")
	shows(".clock", "00:00:01")
	shows(".said", "replaying")
	b.press("Step")
	b.eventually(
		"the step shows",
		func() bool { return len(b.text(".said")) > 5 && !strings.Contains(b.text(".said"), "replaying") },
	)
	b.press("Keep as a scenario")
	b.says(".bx--modal.is-visible", "Keep what has happened")
	b.axe("keep a rehearsal")
	b.do(click(`.bx--modal.is-visible button.bx--btn--primary`))
	shows(".bx--inline-notification", "Kept as scenario rehearsed")
	tab("Observed")
	shows(".side", "OTEL_EXPORTER_OTLP_ENDPOINT")
	traces, err := os.ReadFile("../demo/import/quay-traces.jsonl")
	require.NoError(t, err)
	status, body := r.by(r.token("exporter", "editor"), "POST", "/v1/traces", "application/json", string(traces))
	require.Equal(t, 200, status, body)
	b.press("Refresh")
	shows(".side", "In the model, not observed")
	shows(".side", "Observed, not in the model")
	require.Positive(t, b.count(`[data-highlight="dim"]`), "the board shows what was not seen")
	b.axe("observed beside modelled")
	b.shoot("rehearsal-observed")
	b.press("End")
	b.do(visible(".bench h1"))
	r.do("GET", "/api/v1/workspaces/main/models/kittiwake/scenarios/rehearsed", nil, 200)
	b.clean()
}

// Somebody who may only look watches, and is told when it ends.
func TestAViewerWatchesARehearsal(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	id := r.do("POST", "/api/v1/workspaces/main/models/kittiwake/rehearsals", map[string]any{"pace": 10}, 201)["id"].(string)
	r.do("POST", "/api/v1/users", map[string]any{"name": "ben"}, 201)
	r.do("PUT", "/api/v1/workspaces/main/members/ben", map[string]string{"role": "viewer"}, 204)
	b := open(t, r)
	secret, err := r.store.SignInLink(context.Background(), "ben", time.Hour)
	require.NoError(t, err)
	b.do(chromedp.Navigate(b.url+"/sign-in#"+secret), visible("table a"))
	b.do(chromedp.Navigate(b.url+"/w/main/rehearsals/"+id), visible(`.stage [data-node="mail"]`))
	b.eventually("who watches", func() bool { return strings.Contains(b.text(".watchers"), "ben") })
	r.do(
		"POST",
		"/api/v1/workspaces/main/rehearsals/"+id+"/incidents",
		map[string]any{"node": "mail-relay", "fails": 1},
		200,
	)
	b.eventually(
		"what others do shows",
		func() bool { return strings.Contains(b.text(`[data-node="mail-relay"]`), "failing") },
	)
	for _, words := range []string{"Keep as a scenario", "Pause", "Step", "Rewind"} {
		require.NotContains(t, b.text(".stage"), words, "what viewers may not do is not offered")
	}
	r.do("DELETE", "/api/v1/workspaces/main/rehearsals/"+id, nil, 204)
	b.eventually("its end", func() bool { return strings.Contains(b.text(".stage"), "has been ended") })
	b.do(chromedp.Navigate(b.url+"/w/main/rehearsals/"+id), visible(".bx--inline-notification--error"))
	b.mu.Lock()
	defer b.mu.Unlock()
	require.Empty(b, b.outside)
}

// A function is answered by somebody's own handler, which fails, and is mended.
func TestHooksOnTheBoard(t *testing.T) {
	needConsole(t)
	t.Parallel()
	var broken atomic.Bool
	broken.Store(true)
	handler := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if broken.Load() {
			http.Error(w, "no such lorry", http.StatusInternalServerError)
		}
	}))
	defer handler.Close()
	r := startWith(t, 0, func(o *service.Options) { o.Hooks = true }).signIn()
	r.do(
		"POST",
		"/api/v1/workspaces/main/models",
		map[string]string{
			"name": "hooked",
			"text": "ironweir: topology/1\nname: hooked\nnodes:\n  slips: {kind: queue, links: {clerk: {retry: {tries: 9, wait: 500ms}}}}\n  clerk: {kind: function, takes: 1h, timeout: 2h, hook: \"" + handler.URL + "\"}\n",
		},
		201,
	)
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/hooked"), visible(`[data-node="slips"]`))
	b.press("Rehearse")
	b.says(".bx--modal.is-visible", "Rehearse hooked")
	b.do(click(`//label[contains(., "answered by it")]`))
	b.press("Start")
	b.do(visible(`.stage [data-node="slips"]`))
	b.says(".stage .bar", "1 answered by hooks")
	b.eventually("there is something to send", func() bool { return b.count(".side form select option") == 2 })
	b.do(click(`.side form button[type="submit"]`), click(`//button[@role="tab"][contains(., "Log")]`))
	b.says(".side ol", "hook of clerk failed: it answered 500: no such lorry")
	broken.Store(false)
	b.eventually("it is taken", func() bool { return strings.HasPrefix(b.text(".counts"), "1 entered 0 in flight") })
	b.clean()
}
