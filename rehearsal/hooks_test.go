package rehearsal_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"testing"
	"time"

	sdk "github.com/cloudevents/sdk-go/v2"
	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	trace "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"ironweir/core/sim"
	"ironweir/rehearsal"
)

// answeredBy is a model of which one function is answered by a hook.
func answeredBy(address, timeout string) string {
	return fmt.Sprintf(`ironweir: topology/1
name: hooked
nodes:
  work: {kind: queue, lease: 30s, links: {do: {read: {up-to: 2, within: 50ms}, retry: {tries: 2, wait: 10ms}, dead-letter: desk}}}
  do: {kind: function, takes: 1h, timeout: %s, hook: %q, links: {results: {type: done}, log: {}}}
  results: {kind: queue}
  log: {kind: queue}
  desk: {kind: queue}
`, timeout, address)
}

func TestHooksAnswerForFunctions(t *testing.T) {
	handler := http.NewServeMux()
	handler.HandleFunc("/fine", func(w http.ResponseWriter, r *http.Request) {
		event, err := sdk.NewEventFromHTTPRequest(r) // a client nobody here wrote reads what is posted
		if err != nil || event.Subject() != "s" || r.Header.Get("Ironweir-Node") != "do" {
			w.WriteHeader(418)
		}
	})
	handler.HandleFunc("/batch", func(w http.ResponseWriter, r *http.Request) {
		events, err := sdk.NewEventsFromHTTPRequest(r)
		if err != nil || len(events) != 2 {
			w.WriteHeader(418)
		}
	})
	handler.HandleFunc("/says", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/cloudevents-batch+json")
		io.WriteString(
			w,
			`[{"specversion":"1.0","id":"1","source":"h","type":"done","subject":"a"},{"specversion":"1.0","id":"2","source":"h","type":"done","subject":"b"},{"specversion":"1.0","id":"3","source":"h","type":"other","subject":"c","link":"log"}]`,
		)
	})
	handler.HandleFunc("/broken", func(w http.ResponseWriter, r *http.Request) { http.Error(w, "no such lorry", 500) })
	handler.HandleFunc("/slow", func(w http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body) // only then is it seen that the caller has gone
		<-r.Context().Done()
	})
	handler.HandleFunc("/large", func(w http.ResponseWriter, r *http.Request) { w.Write(make([]byte, 2<<20)) })
	handler.HandleFunc("/garbled", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/cloudevents+json")
		io.WriteString(w, "{")
	})
	handler.HandleFunc("/away", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/fine", http.StatusTemporaryRedirect)
	})
	server := httptest.NewServer(handler)
	defer server.Close()
	for _, c := range []struct {
		name, address, timeout string
		events                 int
		handled                bool
		results, log           int64
		says                   string
	}{
		{"fine", server.URL + "/fine", "1m", 1, true, 1, 1, ""},
		{"batch", server.URL + "/batch", "1m", 2, true, 2, 2, ""},
		{"says", server.URL + "/says", "1m", 1, true, 2, 3, ""},
		{"broken", server.URL + "/broken", "1m", 1, false, 0, 0, "it answered 500: no such lorry"},
		{"slow", server.URL + "/slow", "200ms", 1, false, 0, 0, ""},
		{"large", server.URL + "/large", "1m", 1, false, 0, 0, "over 1048576 bytes"},
		{"garbled", server.URL + "/garbled", "1m", 1, false, 0, 0, "not a CloudEvent"},
		{"away", server.URL + "/away", "1m", 1, false, 0, 0, "may not send elsewhere"},
		{"absent", "http://127.0.0.1:9/", "1m", 1, false, 0, 0, "refused"},
		{"outside", "http://192.0.2.1/", "1m", 1, false, 0, 0, "not on this machine"},
		{"by name", "http://gannet.example/", "1m", 1, false, 0, 0, "not on this machine"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := started(t, rehearsal.Plan{Graph: compiled(t, answeredBy(c.address, c.timeout)), Hooks: true})
			client, err := sdk.NewClientHTTP(sdk.WithTarget(served(t, r) + "/entries/work"))
			require.NoError(t, err)
			for range c.events {
				event := sdk.NewEvent()
				event.SetSource("tester")
				event.SetType("work.to.do")
				event.SetSubject("s")
				require.True(t, sdk.IsACK(client.Send(context.Background(), event)))
			}
			s := until(t, r, "its end", func(s *rehearsal.State) bool {
				return s.Nodes["desk"].Copies == int64(c.events) || s.Nodes["work"].Handled == int64(c.events)
			})
			require.Equal(t, c.handled, s.Nodes["desk"].Copies == 0)
			if c.handled {
				require.Equal(t, c.results, s.Nodes["results"].Copies, "%v", s.Acts)
				require.Equal(t, c.log, s.Nodes["log"].Copies)
			} else {
				require.Equal(t, int64(2), s.Nodes["do"].Failures)
			}
			said, _ := json.Marshal(s.Acts)
			require.Contains(t, string(said), c.says)

			want, err := r.Result()
			require.NoError(t, err, "and again from what was written down, without asking anybody")
			require.Equal(t, s.Nodes["do"].Runs, want.Nodes["do"].Runs)
			require.Equal(t, s.Nodes["do"].Failures, want.Nodes["do"].Failures)
		})
	}
}

func TestHooksAreOffUnlessAllowed(t *testing.T) {
	asked := false
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked = true }))
	defer server.Close()
	r := started(t, rehearsal.Plan{Graph: compiled(t, answeredBy(server.URL, "2h")), Pace: rehearsal.MaxPace})
	_, err := r.Event("ann", &sim.InputEvent{Node: "work"})
	require.NoError(t, err)
	until(t, r, "a run as the model says", func(s *rehearsal.State) bool { return s.Now > 3 })
	require.False(t, asked)
}

// A hook that is asked when time is set back is asked anew once somebody goes
// another way, and a late answer to the old question changes nothing.
func TestSetBackWhileAHookIsAsked(t *testing.T) {
	answer := make(chan struct{})
	asked := make(chan struct{}, 10)
	server := httptest.NewServer(
		http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked <- struct{}{}; <-answer }),
	)
	defer server.Close()
	r := started(t, rehearsal.Plan{Graph: compiled(t, answeredBy(server.URL, "1m")), Hooks: true})
	_, err := r.Event("ann", &sim.InputEvent{Node: "work"})
	require.NoError(t, err)
	<-asked
	s, err := r.State()
	require.NoError(t, err)
	require.NoError(t, r.SetBack("ann", time.Duration(s.Now*1e9)))
	<-asked // nothing was written down of its answer
	close(answer)
	until(
		t,
		r,
		"answered once",
		func(s *rehearsal.State) bool { return s.Nodes["do"].Runs == 1 && s.Nodes["results"].Copies == 1 },
	)
}

func TestTracesOfTheRealSystem(t *testing.T) {
	r := started(t, rehearsal.Plan{Graph: compiled(t, "kittiwake.yaml")})
	address := served(t, r) + "/v1/traces"
	lines, err := os.ReadFile("../demo/import/quay-traces.jsonl")
	require.NoError(t, err)
	post := func(kind, coding string, body []byte) *http.Response {
		req, err := http.NewRequest("POST", address, bytes.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", kind)
		if coding != "" {
			req.Header.Set("Content-Encoding", coding)
		}
		answer, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		return answer
	}
	var packed bytes.Buffer
	zip := gzip.NewWriter(&packed)
	zip.Write(lines)
	require.NoError(t, zip.Close())
	require.Equal(t, 200, post("application/json", "gzip", packed.Bytes()).StatusCode)
	before := r.Observed.Beside()
	require.Positive(t, before.Spans)

	// A span that an exporter packs as protobuf: a function that the model does not have.
	id, _ := hex.DecodeString("0102030405060708090a0b0c0d0e0f10")
	text := func(s string) *common.AnyValue {
		return &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: s}}
	}
	one := &trace.Span{
		TraceId:           id,
		SpanId:            id[:8],
		Name:              "consignments process",
		Kind:              trace.Span_SPAN_KIND_CONSUMER,
		StartTimeUnixNano: 1,
		EndTimeUnixNano:   2e9,
		Attributes: []*common.KeyValue{
			{Key: "messaging.destination.name", Value: text("consignments")},
			{Key: "messaging.operation.type", Value: text("process")},
		},
	}
	body, err := proto.Marshal(&collector.ExportTraceServiceRequest{ResourceSpans: []*trace.ResourceSpans{{
		Resource: &resource.Resource{
			Attributes: []*common.KeyValue{{Key: "service.name", Value: text("night-clerk")}},
		}, ScopeSpans: []*trace.ScopeSpans{{Spans: []*trace.Span{one}}}}}})
	require.NoError(t, err)
	answer := post("application/x-protobuf", "", body)
	require.Equal(t, 200, answer.StatusCode)
	require.Equal(t, "application/x-protobuf", answer.Header.Get("Content-Type"))
	after := r.Observed.Beside()
	require.Equal(t, before.Spans+1, after.Spans)
	require.Contains(t, after.Drift.Unmodelled.Nodes, "night-clerk")
	require.Contains(t, after.Patch["nodes"], "night-clerk")
	for _, d := range after.Drift.Different {
		require.Contains(
			t,
			after.Patch["nodes"].(map[string]any)[d.Node],
			map[string]string{"takes_mean_s": "takes", "fails": "fails"}[d.What],
		)
	}

	require.Equal(t, 415, post("text/plain", "", lines).StatusCode)
	require.Equal(t, 415, post("application/json", "br", lines).StatusCode)
	require.Equal(t, 400, post("application/json", "gzip", lines).StatusCode)
	require.Equal(t, 400, post("application/json", "", []byte("{")).StatusCode)
	require.Equal(t, 400, post("application/x-protobuf", "", []byte("\x01\x02nothing")).StatusCode)
	require.Equal(t, 200, post("application/json", "", []byte("{}")).StatusCode)
}
