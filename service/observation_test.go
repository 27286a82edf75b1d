package service_test

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	sdk "github.com/cloudevents/sdk-go/v2"
	"github.com/cloudevents/sdk-go/v2/binding"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
	"github.com/stretchr/testify/require"

	"ironweir/core/graph"
	"ironweir/core/learn"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/formats/otlp"
	"ironweir/observation"
	"ironweir/store"
)

const weighing = `ironweir: topology/1
name: weighing
nodes:
  weighings: {kind: queue, rate: 300/h, links: {axle-scale: {read: {parallel: 20}}}}
  axle-scale: {kind: function, takes: {dist: exponential, mean: 2s}, fails: 10%, links: {tickets: {}}}
  tickets: {kind: queue, links: {printer: {}}}
  printer: {kind: function, takes: 200ms}
`

const observedPath = "/api/v1/workspaces/main/models/weighing"

// lived gives the traces of a system that is as a model says, in the hours before now.
func lived(t *testing.T, text string, hours int) []learn.Span {
	m, err := model.Parse("m.yaml", []byte(text), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	s := model.DefaultScenario()
	s.Length = time.Duration(hours) * time.Hour
	s.Start = time.Now().UTC().Truncate(time.Hour).Add(-s.Length)
	journeys, err := sim.Journeys(sim.Plan{Graph: g, Scenario: s}, sim.JourneyLimits{Bad: 1e6, Others: 1e6})
	require.NoError(t, err)
	return otlp.Spans(g, s.Start, 1, journeys)
}

// export posts spans as exporters do: some at a time, traces torn apart, by JSON and by protobuf.
func (r *running) export(token string, spans []learn.Span) {
	r.Helper()
	for i := 0; len(spans) > 0; i++ {
		some := spans[:min(777, len(spans))]
		spans = spans[len(some):]
		write, kind := otlp.JSON, "application/json"
		if i%2 == 1 {
			write, kind = otlp.Protobuf, "application/x-protobuf"
		}
		text, err := write(some)
		require.NoError(r, err)
		status, body := r.by(token, "POST", observedPath+"/v1/traces", kind, string(text))
		require.Equal(r, 200, status, body)
	}
}

// observed waits until all that was posted is summed up, and gives what the service says then.
func (r *running) observed(token string, spans int) (v observation.View) {
	r.Helper()
	require.Eventually(r, func() bool {
		status, text := r.by(token, "GET", observedPath+"/observation", "", "")
		v = observation.View{}
		if err := json.Unmarshal([]byte(text), &v); err != nil || status != 200 {
			r.Error(status, text)
			return true
		}
		sum := int(v.Waiting)
		for _, h := range v.Hours {
			sum += int(h.Spans)
		}
		return sum == spans && v.Waiting == 0
	}, patience, 50*time.Millisecond, "all is summed up")
	return v
}

// receiver is a webhook: it keeps the events that come, and answers as it is set to.
type receiver struct {
	*httptest.Server
	mu     sync.Mutex
	answer int
	events []*sdk.Event
	asked  int
}

func newReceiver(t *testing.T) *receiver {
	r := &receiver{answer: 500}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.asked++
		if req.URL.Path == "/elsewhere" {
			t.Error("a redirect was followed")
		}
		if r.answer == http.StatusFound {
			http.Redirect(w, req, "/elsewhere", http.StatusFound)
			return
		}
		event, err := binding.ToEvent(req.Context(), cehttp.NewMessageFromHttpRequest(req))
		if err != nil || event.Validate() != nil {
			t.Error(err, event)
		} else if r.answer == http.StatusNoContent {
			r.events = append(r.events, event)
		}
		w.WriteHeader(r.answer)
	}))
	t.Cleanup(r.Close)
	return r
}

func (r *receiver) set(answer int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.answer = answer
}

func (r *receiver) got() []*sdk.Event {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]*sdk.Event(nil), r.events...)
}

// TestObservationIsKeptAndDriftNoted: the traces of a day come in pieces. A model that is as the system is shows no
// drift; one that is not shows it, notes it with its history, and sends it to a webhook, which an administrator must
// allow, until that accepts it, once. What was observed is removed with one call.
func TestObservationIsKeptAndDriftNoted(t *testing.T) {
	t.Parallel()
	r := start(t).signIn()
	r.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "weighing", "text": weighing}, 201)
	exporter := r.token("exporter", "editor")
	spans := lived(t, weighing, 12)
	r.export(exporter, spans)
	v := r.observed(exporter, len(spans))
	require.True(t, v.Drift.None(), "%+v", v.Drift)
	require.Empty(t, v.Findings)
	require.Empty(t, v.Patch)
	require.GreaterOrEqual(t, len(v.Hours), 12)
	require.Equal(t, len(spans), v.Spans)
	require.Len(t, v.Numbers, 4, "%+v", v.Numbers)
	for _, n := range v.Numbers {
		require.False(t, n.Differs, "%+v", n)
	}

	hook := newReceiver(t)
	r.do("PUT", observedPath+"/webhook", map[string]string{"address": hook.URL + "/drift"}, 422)
	settings := store.DefaultSettings
	settings.Webhooks = []string{hook.URL}
	r.do("PUT", "/api/v1/settings", settings, 204)
	for _, wrong := range []string{
		"ftp://127.0.0.1/", "http://", hook.URL + "@elsewhere.example/", "http://user:pw@127.0.0.1/", hook.URL + "/../x",
	} {
		r.do("PUT", observedPath+"/webhook", map[string]string{"address": wrong}, 422)
	}
	r.do("PUT", observedPath+"/webhook", map[string]string{"address": hook.URL + "/drift"}, 204)

	reader := r.token("reader", "viewer")
	require.Equal(t, hook.URL+"/drift", r.observed(exporter, len(spans)).Webhook)
	require.Empty(t, r.observed(reader, len(spans)).Webhook, "an address may hold a secret")

	changed := strings.NewReplacer("mean: 2s", "mean: 1s", "printer: {}", "", "fails: 10%", "fails: 0").
		Replace(weighing)
	guesses := map[string]string{"text": changed, "note": "guesses"}
	r.do("POST", observedPath+"/revisions", guesses, 201, "If-Match", `"1"`)
	v = r.observed(exporter, len(spans))
	require.Len(t, v.Drift.Different, 2)
	require.Equal(t, []string{"tickets:printer"}, v.Drift.Unmodelled.Links)
	require.NotEmpty(t, v.Patch)
	whats := map[string]observation.Finding{}
	require.Eventually(t, func() bool {
		for _, f := range r.observed(exporter, len(spans)).Findings {
			whats[f.What+" "+f.Subject] = f
		}
		return len(whats) == 3
	}, patience, 50*time.Millisecond)
	require.Contains(t, whats["takes_mean_s axle-scale"].Says, "1s by the model")
	require.InDelta(t, 2, whats["takes_mean_s axle-scale"].Difference.Observed, 0.1)
	require.Contains(t, whats, "fails axle-scale")
	require.Contains(t, whats, "link tickets:printer")
	require.Equal(t, 2, whats["link tickets:printer"].Revision)

	// It has answered with an error so far; its trouble is shown. Then it accepts.
	require.Eventually(t, func() bool {
		for _, f := range r.observed(exporter, len(spans)).Findings {
			if f.Trouble != "it answered 500 Internal Server Error" {
				return false
			}
		}
		return true
	}, patience, 50*time.Millisecond)
	_, err := r.store.Pool().Exec(context.Background(), "UPDATE drifts SET try_at = now()")
	require.NoError(t, err)
	hook.set(http.StatusFound)
	require.Eventually(t, func() bool {
		return r.observed(exporter, len(spans)).Findings[0].Trouble == "it answered 302 Found"
	}, patience, 50*time.Millisecond)
	hook.set(http.StatusNoContent)
	_, err = r.store.Pool().Exec(context.Background(), "UPDATE drifts SET try_at = now()")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(hook.got()) == 3 }, patience, 50*time.Millisecond)
	ids := map[string]bool{}
	for _, e := range hook.got() {
		ids[e.ID()] = true
		require.Equal(t, observation.EventType, e.Type())
		require.Equal(t, "/workspaces/main/models/weighing", e.Source())
		said := observation.Finding{}
		require.NoError(t, e.DataAs(&said))
		require.NotEmpty(t, said.Says)
		require.Equal(t, said.Subject, e.Subject())
	}
	require.Len(t, ids, 3)

	// The model is mended: the drift ends, and stays in the history.
	mended := map[string]string{"text": weighing, "note": "as it is"}
	r.do("POST", observedPath+"/revisions", mended, 201, "If-Match", `"2"`)
	require.Eventually(t, func() bool {
		ended := 0
		for _, f := range r.observed(exporter, len(spans)).Findings {
			if f.EndedAt != nil && f.SentAt != nil {
				ended++
			}
		}
		return ended == 3
	}, patience, 50*time.Millisecond)
	require.Len(t, hook.got(), 3, "nothing is sent twice")

	r.do("DELETE", observedPath+"/observation", nil, 204)
	v = r.observed(exporter, 0)
	require.Empty(t, v.Findings)
	require.Nil(t, v.From)
}

// TestTelemetryIsAnsweredAsTheProtocolSays: at the model's path and at the root, in each encoding.
func TestTelemetryIsAnsweredAsTheProtocolSays(t *testing.T) {
	t.Parallel()
	r := start(t).signIn()
	r.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "weighing", "text": weighing}, 201)
	exporter := r.token("exporter", "editor")
	span := func(start, end time.Time) string {
		one := learn.Span{Trace: strings.Repeat("ef", 16), ID: "0102030405060708", Service: "axle-scale", Name: "weigh",
			Kind: learn.Server, Start: start.UnixNano(), End: end.UnixNano()}
		text, err := otlp.JSON([]learn.Span{one})
		require.NoError(t, err)
		return string(text)
	}
	long := strings.Repeat("x", 1<<20) // as packed, next to nothing
	now := time.Now().Add(-2 * time.Hour)
	for _, c := range []struct {
		name, path, kind, body string
		status                 int
		says                   string
	}{
		{"traces", observedPath + "/v1/traces", "application/json", span(now, now), 200, "{}"},
		{"metrics are dropped", observedPath + "/v1/metrics", "application/json", "{}", 200, "metrics are not used, and were dropped"},
		{"logs are dropped", observedPath + "/v1/logs", "application/json", "{}", 200, "logs are not used, and were dropped"},
		{"a clock that is ahead", observedPath + "/v1/traces", "application/json", span(now, now.Add(4*time.Hour)), 200, `"rejectedSpans":"1"`},
		{"an old trace", observedPath + "/v1/traces", "application/json", span(now.AddDate(-3, 0, 0), now.AddDate(-3, 0, 0)), 200, "over 400 days ago"},
		{"a long name", observedPath + "/v1/traces", "application/json", strings.Replace(span(now, now), "weigh", long, 1), 200, "1 spans hold more than 8192 bytes"},
		{"no JSON", observedPath + "/v1/traces", "application/json", "{", 400, `"code":3`},
		{"another type", observedPath + "/v1/traces", "text/plain", "x", 415, "application/x-protobuf or application/json"},
		{"too many parts", observedPath + "/v1/traces", "application/json", `{"resourceSpans":[` + strings.Repeat("{},", 600_000) + "{}]}", 413, "at most 500000 spans"},
		{"too many parts, packed densely", observedPath + "/v1/traces", "application/x-protobuf", strings.Repeat("\x0a\x00", 600_000), 413, "at most 500000 spans"},
		{"another signal", observedPath + "/v1/profiles", "application/json", "{}", 422, "signal"},
		{"no such model", "/api/v1/workspaces/main/models/none/v1/traces", "application/json", "{}", 404, "there is no model none"},
	} {
		status, body := r.by(exporter, "POST", c.path, c.kind, c.body)
		require.Equal(t, c.status, status, "%s: %s", c.name, body)
		require.Contains(t, strings.ReplaceAll(body, `": "`, `":"`), c.says, c.name)
	}
	viewer := r.token("reader", "viewer")
	status, _ := r.by(viewer, "POST", observedPath+"/v1/traces", "application/json", "{}")
	require.Equal(t, 403, status)
	r.observed(exporter, 1)
}

// TestTheRootTakesTelemetryForAModel that a header names.
func TestTheRootTakesTelemetryForAModel(t *testing.T) {
	t.Parallel()
	r := start(t).signIn()
	r.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "weighing", "text": weighing}, 201)
	exporter, viewer := r.token("exporter", "editor"), r.token("reader", "viewer")
	text, err := otlp.Protobuf(lived(t, weighing, 1))
	require.NoError(t, err)
	for _, c := range []struct {
		token, model string
		status       int
	}{{exporter, "main/weighing", 200}, {viewer, "main/weighing", 404}, {exporter, "weighing", 404},
		{exporter, "main/none", 404}, {exporter, "none/weighing", 404}, {"", "main/weighing", 401}} {
		req, err := http.NewRequest("POST", r.url+"/v1/traces", strings.NewReader(string(text)))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/x-protobuf")
		req.Header.Set("Ironweir-Model", c.model)
		if c.token != "" {
			req.Header.Set("Authorization", "Bearer "+c.token)
		}
		answer, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		require.Equal(t, c.status, answer.StatusCode, c.model)
	}
	require.Positive(t, r.do("GET", observedPath+"/observation", nil, 200)["spans"])
}
