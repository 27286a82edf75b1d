package rehearsal_test

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	sdk "github.com/cloudevents/sdk-go/v2"
	"github.com/cloudevents/sdk-go/v2/binding"
	"github.com/cloudevents/sdk-go/v2/types"
	"github.com/stretchr/testify/require"

	"ironweir/core/sim"
	"ironweir/formats/otlp"
	"ironweir/rehearsal"
)

// everyWay is a model in which an event passes through every kind of node that keeps
// it: a topic, queues, a move, a stream, a table, an endpoint, a dead letter, a result.
const everyWay = `ironweir: topology/1
name: ways
nodes:
  door: {kind: endpoint, links: {all: {mode: accept}}}
  all: {kind: topic, links: {first: {match: {source: "urn:plant:fan", type: spun}}, log: {}, rows: {}, breaks: {retry: {tries: 1}, dead-letter: desk}}}
  first: {kind: queue, links: {second: {}}}
  second: {kind: queue, dedupe: {by: event.id, within: 1h}, links: {take: {}}}
  log: {kind: stream, links: {read: {}}}
  rows: {kind: table, links: {seen: {}}}
  breaks: {kind: function, fails: 100%, links: {told: {when: failure}}}
  desk: {kind: queue}
  told: {kind: queue}
  take: {kind: function, hook: "HOOK"}
  read: {kind: function, hook: "HOOK"}
  seen: {kind: function, hook: "HOOK", timeout: 10s, links: {made: {count: 2}}}
  made: {kind: queue}
`

// TestAnEventKeepsItsIdentity sends events with the CloudEvents SDK and compares what
// comes out of each way attribute by attribute [PE-01] [PE-02] [PE-04] [PE-05].
func TestAnEventKeepsItsIdentity(t *testing.T) {
	var mu sync.Mutex
	got := map[string][]sdk.Event{}
	hook := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		event, err := sdk.NewEventFromHTTPRequest(req)
		if err != nil {
			w.WriteHeader(http.StatusTeapot)
			return
		}
		mu.Lock()
		defer mu.Unlock()
		node := req.Header.Get("Ironweir-Node")
		got[node] = append(got[node], *event)
	}))
	t.Cleanup(hook.Close)
	const parent = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"
	made := time.Date(2026, 3, 27, 18, 0, 0, 123000000, time.FixedZone("", 3600))
	base := func(id string) sdk.Event {
		e := sdk.NewEvent()
		e.SetID(id)
		e.SetSource("urn:plant:fan")
		e.SetType("spun")
		e.SetSubject("fans/ä 7%.csv")
		e.SetTime(made)
		e.SetExtension("traceparent", parent)
		e.SetExtension("shift", 3)
		e.SetExtension("night", true)
		return e
	}
	object, text, bytes := base("f-771"), base("f-772"), base("f-773")
	require.NoError(t, object.SetData("application/json", json.RawMessage(`{"rpm":12345678901234567890,"ok":true}`)))
	require.NoError(t, text.SetData("text/plain", "plain words"))
	require.NoError(t, bytes.SetData("application/octet-stream", []byte{0xff, 0, 1, 0xfe, '{'}))

	for form, force := range map[string]func(context.Context) context.Context{"binary": binding.WithForceBinary, "structured": binding.WithForceStructured} {
		t.Run(form, func(t *testing.T) {
			got = map[string][]sdk.Event{}
			r := started(
				t,
				rehearsal.Plan{Graph: compiled(t, replace(everyWay, "HOOK", hook.URL)), Pace: 100, Hooks: true},
			)
			address := served(t, r)
			sent := []sdk.Event{object, text, bytes}
			for k, entry := range []string{"/entries/all", "/entries/all", "/door"} {
				client, err := sdk.NewClientHTTP(sdk.WithTarget(address + entry))
				require.NoError(t, err)
				result := client.Send(force(context.Background()), sent[k])
				require.True(t, sdk.IsACK(result), "%s: %v", entry, result)
			}
			again := must(sdk.NewClientHTTP(sdk.WithTarget(address+"/entries/second"))).Send(
				force(context.Background()),
				object,
			)
			require.True(t, sdk.IsACK(again), "the same once more, which `dedupe` drops: %v", again)
			until(t, r, "all hooks have been called", func(s *rehearsal.State) bool {
				mu.Lock()
				defer mu.Unlock()
				return len(got["take"]) == 3 && len(got["read"]) == 3 && len(got["seen"]) == 3 &&
					s.Nodes["made"].Depth == 6
			})
			mu.Lock()
			defer mu.Unlock()
			for _, node := range []string{"take", "read", "seen"} {
				for k := range sent {
					same(t, sent[k], got[node][k], node)
				}
			}
			same3 := func(node string, of func(event map[string]any) map[string]any) {
				list, all, _, err := r.Resting(node)
				require.NoError(t, err)
				require.Equal(t, 3, all, node)
				for k, rest := range list {
					event, err := r.Message(rest.Message)
					require.NoError(t, err)
					same(t, sent[k], decoded(t, of(event)), node)
				}
			}
			same3("desk", func(event map[string]any) map[string]any { return event })
			same3(
				"told",
				func(event map[string]any) map[string]any { // the original within a failure record can be sent again
					require.Equal(t, "breaks", event["source"], "[RM-01] the result is an event of its own")
					return event["data"].(map[string]any)["event"].(map[string]any)
				},
			)
			ids := map[string]bool{}
			list, _, _, err := r.Resting("made")
			require.NoError(t, err)
			for _, rest := range list {
				event, err := r.Message(rest.Message)
				require.NoError(t, err)
				require.Equal(t, "seen", event["source"], "[PE-06]")
				ids[event["id"].(string)] = true
			}
			require.Len(t, ids, 6, "[PE-07] each event of one source has an id of its own")

			j, err := r.Journey(1)
			require.NoError(t, err)
			same(t, object, decoded(t, j.Steps[0].Event), "the journey")
			spans := otlp.Spans(compiled(t, replace(everyWay, "HOOK", hook.URL)), made, 1, []sim.Journey{*j})
			first := spans[0]
			require.Equal(t, "0af7651916cd43dd8448eb211c80319c", first.Trace, "[PE-04] the trace goes on")
			require.Equal(t, "b7ad6b7169203331", first.Parent)
			require.Equal(t, "f-771", first.Attributes["cloudevents.event_id"])
			require.Equal(t, "urn:plant:fan", first.Attributes["cloudevents.event_source"])
			require.Equal(t, "spun", first.Attributes["cloudevents.event_type"])
		})
	}
}

func replace(text, old, with string) string { return strings.ReplaceAll(text, old, with) }

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// decoded reads an event in its JSON form as the SDK does.
func decoded(t *testing.T, event map[string]any) sdk.Event {
	t.Helper()
	body, err := json.Marshal(event)
	require.NoError(t, err)
	var out sdk.Event
	require.NoError(t, json.Unmarshal(body, &out), "%s", body)
	require.NoError(t, out.Validate())
	return out
}

// same compares two events attribute by attribute.
func same(t *testing.T, want, got sdk.Event, where string) {
	t.Helper()
	require.Equal(t, want.ID(), got.ID(), where)
	require.Equal(t, want.Source(), got.Source(), where)
	require.Equal(t, want.Type(), got.Type(), where)
	require.Equal(t, want.Subject(), got.Subject(), where)
	require.True(t, want.Time().Equal(got.Time()), "%s: %v is not %v", where, got.Time(), want.Time())
	require.Equal(t, want.DataContentType(), got.DataContentType(), where)
	for name, value := range want.Extensions() {
		require.EqualValues(
			t,
			must(types.Format(value)),
			must(types.Format(got.Extensions()[name])),
			"%s: %s",
			where,
			name,
		)
	}
	require.Len(t, got.Extensions(), len(want.Extensions()), where)
	require.Equal(
		t,
		base64.StdEncoding.EncodeToString(want.Data()),
		base64.StdEncoding.EncodeToString(got.Data()),
		"%s: %s is not %s",
		where,
		got.Data(),
		want.Data(),
	)
}
