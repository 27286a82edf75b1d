package otlp_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	"google.golang.org/protobuf/proto"

	"ironweir/core/graph"
	"ironweir/core/learn"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/formats/otlp"
)

const system = `ironweir: topology/1
name: system
nodes:
  drop: {kind: bucket, keys: ["in/{seq}.csv", "in/{seq}.pdf"], links: {split: {match: {prefix: in/, suffix: .csv}}}}
  split: {kind: function, takes: {dist: lognormal, p50: 400ms, p95: 1.5s}, fails: 4%, retry: {tries: 4, wait: 1s}, links: {lines: {count: 3}, shelf: {chance: 40%}}}
  lines: {kind: queue, lease: 2m, links: {clear: {read: {parallel: 50}, retry: {tries: 3, wait: 1s}, dead-letter: desk}}}
  clear: {kind: function, takes: {dist: exponential, mean: 300ms}, fails: 30%, links: {registry: {mode: wait}, news: {type: cleared}}}
  registry: {kind: outside, takes: {dist: uniform, min: 100ms, max: 900ms}}
  news: {kind: topic, links: {board: {}, mail: {}, stamp: {}}}
  stamp: {kind: function, takes: 20ms, fails: 30%, retry: {tries: 2, wait: 1s}, links: {begun: {at: start}, stamped: {when: success}, torn: {when: failure}}}
  begun: {kind: topic, links: {board: {}}}
  stamped: {kind: topic, links: {board: {}}}
  torn: {kind: queue, links: {patch: {read: {parallel: 50}, retry: {tries: 1}, dead-letter: desk}}}
  patch: {kind: function, takes: 20ms, fails: 20%, results: all, links: {stamped: {when: success}}}
  board: {kind: function, takes: 60ms}
  mail: {kind: queue, links: {relay: {read: {parallel: 50}}}}
  relay: {kind: outside, takes: 200ms}
  orders: {kind: endpoint, method: POST, path: /orders, links: {take: {}}}
  take: {kind: function, takes: 80ms, links: {stock: {mode: wait}}}
  stock: {kind: function, takes: {dist: exponential, mean: 50ms}, fails: 3%}
  shelf: {kind: bucket}
  desk: {kind: queue, links: {clerk: {read: {parallel: 50}}}}
  clerk: {kind: outside, takes: 1m}
`

// traces simulates a model and gives the traces of every journey.
func traces(t *testing.T, text string, journeys int) (*model.Topology, []learn.Span) {
	m, err := model.Parse("m.yaml", []byte(text), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	s := model.DefaultScenario()
	s.Length, s.TrafficGiven = 10*time.Hour, true
	s.Traffic = []*model.Traffic{
		{Name: "csv", Into: "drop", Rate: 100.0 / 3600, Arrivals: "poisson", Key: "in/{seq}.csv"},
		{Name: "pdf", Into: "drop", Rate: 20.0 / 3600, Arrivals: "poisson", Key: "in/{seq}.pdf"},
		{Name: "orders", Into: "orders", Rate: 60.0 / 3600, Arrivals: "poisson"},
	}
	told, err := sim.Journeys(sim.Plan{Graph: g, Scenario: s}, sim.JourneyLimits{Bad: journeys, Others: journeys})
	require.NoError(t, err)
	return m, otlp.Spans(g, s.Start, 1, told)
}

// TestLearnedBack exports simulated traces and learns from them: the topology,
// the times and the shares come back, in every form that traces travel in.
func TestLearnedBack(t *testing.T) {
	m, spans := traces(t, system, 5000)
	asJSON, err := otlp.JSON(spans)
	require.NoError(t, err)
	asProtobuf, err := otlp.Protobuf(spans)
	require.NoError(t, err)
	var line bytes.Buffer
	require.NoError(t, json.Compact(&line, asJSON))
	first := ""
	for name, text := range map[string][]byte{"JSON": asJSON, "protobuf": asProtobuf,
		"JSON Lines": append(line.Bytes(), '\n')} {
		read, err := otlp.Read(text)
		require.NoError(t, err, name)
		require.Len(t, read, len(spans), name)
		seen := learn.Observe(read)
		drift := seen.Drift(m)
		// What a share of 4% and two tries leave unseen is nothing here, so all is seen.
		require.True(t, drift.None(), "%s: %+v", name, drift)
		draft := seen.Draft("learned")
		written := string(model.WriteDocument(draft.Model, draft.Comments))
		if first == "" {
			first = written
		}
		require.Equal(t, first, written, name)
	}
	learned, err := model.Parse("learned.yaml", []byte(first), model.Options{})
	require.NoError(t, err, first)
	require.ElementsMatch(t, m.NodeNames(), learned.NodeNames())
	for _, n := range m.Nodes {
		l := learned.Node(n.Name)
		require.Equal(t, n.Kind, l.Kind, n.Name)
		require.Equal(t, n.ResultsAll, l.ResultsAll, n.Name)
		require.Len(t, l.Links, len(n.Links), n.Name)
		for _, link := range n.Links {
			have := l.Link(link.Name)
			require.NotNil(t, have, link.ID())
			require.Equal(t, link.Relation, have.Relation, link.ID())
			require.Equal(t, link.DeadLetter, have.DeadLetter, link.ID())
			require.InDelta(t, link.Count.Dist.Expected(), have.Count.Dist.Expected(), 0.01, link.ID())
			require.InDelta(t, link.Chance, have.Chance, 0.06, link.ID())
			require.Equal(t, link.Type, have.Type, link.ID())
			require.Equal(t, link.When, have.When, link.ID())
			require.Equal(t, link.AtStart, have.AtStart, link.ID())
		}
	}
	require.Equal(t, []string{".csv"}, learned.Node("drop").Link("split").Match[0].Suffix)
	require.Equal(t, 3, *learned.Node("lines").Link("clear").Retry.Tries)
	require.Equal(t, "lognormal", learned.Node("split").Takes.Dist)
	require.Equal(t, "exponential", learned.Node("clear").Takes.Dist)
	require.Equal(t, "uniform", learned.Node("registry").Takes.Dist)

	draft := learn.Observe(spans).Draft("learned")
	s, err := model.ParseScenario("s.yaml", model.WriteDocument(draft.Scenario, draft.ScenarioComments), learned)
	require.NoError(t, err)
	total := 0.0
	for _, traffic := range s.Traffic {
		if traffic.Into == "drop" {
			for k, point := range traffic.Curve {
				until := s.Length
				if k+1 < len(traffic.Curve) {
					until = traffic.Curve[k+1].At
				}
				total += point.Rate * (until - point.At).Seconds()
			}
		}
	}
	require.InDelta(t, 1200, total, 180) // 120 an hour, ten hours
}

// TestDrift changes the model after the traces were taken.
func TestDrift(t *testing.T) {
	_, spans := traces(t, system, 5000)
	changed, err := model.Parse("m.yaml", []byte(`ironweir: topology/1
name: system
nodes:
  drop: {kind: bucket, links: {split: {}}}
  split: {kind: function, takes: 2s, fails: 4%, links: {lines: {}}}
  lines: {kind: queue, links: {clearing: {}}}
  clearing: {kind: function, observed-as: [clear], takes: 300ms, fails: 1%}
  board: {kind: function, takes: 60ms}
  never: {kind: queue}
`), model.Options{})
	require.NoError(t, err)
	d := learn.Observe(spans).Drift(changed)
	require.Contains(t, d.Unmodelled.Nodes, "registry")
	require.Contains(t, d.Unmodelled.Nodes, "news")
	require.Equal(t, []string{"never"}, d.Unobserved.Nodes)
	var different []string
	for _, x := range d.Different {
		different = append(different, x.Node+" "+x.What)
	}
	require.ElementsMatch(t, []string{"split takes_mean_s", "clearing fails"}, different)
	patch, _ := learn.Observe(spans).Into(changed)
	require.NotNil(t, patch.Get("nodes").Get("news"))
	require.Nil(t, patch.Get("nodes").Get("lines"), "the model has its link, to clearing")
	require.NotNil(t, patch.Get("nodes").Get("clearing").Get("links").Get("registry"))
}

// TestForeignTraces reads spans as other libraries record them: without this
// product's attributes, with links instead of parents.
func TestForeignTraces(t *testing.T) {
	text := `{"resourceSpans":[
 {"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"Shop API"}}]},"scopeSpans":[{"spans":[
  {"traceId":"0102030405060708090a0b0c0d0e0f10","spanId":"0102030405060701","name":"POST /orders","kind":2,"startTimeUnixNano":"1000000000","endTimeUnixNano":"1500000000","attributes":[{"key":"http.request.method","value":{"stringValue":"POST"}},{"key":"http.route","value":{"stringValue":"/orders"}}]},
  {"traceId":"0102030405060708090a0b0c0d0e0f10","spanId":"0102030405060702","parentSpanId":"0102030405060701","name":"publish","kind":4,"startTimeUnixNano":"1100000000","endTimeUnixNano":"1110000000","attributes":[{"key":"messaging.destination.name","value":{"stringValue":"orders.placed"}}]},
  {"traceId":"0102030405060708090a0b0c0d0e0f10","spanId":"0102030405060705","parentSpanId":"0102030405060701","name":"GET","kind":3,"startTimeUnixNano":"1200000000","endTimeUnixNano":"1400000000","attributes":[{"key":"server.address","value":{"stringValue":"bank.example"}}]}]}]},
 {"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"packer"}}]},"scopeSpans":[{"spans":[
  {"traceId":"0102030405060708090a0b0c0d0e0f11","spanId":"0102030405060703","name":"process","kind":5,"startTimeUnixNano":"2000000000","endTimeUnixNano":"2300000000","status":{"code":2},"links":[{"traceId":"0102030405060708090a0b0c0d0e0f10","spanId":"0102030405060702"}],"attributes":[{"key":"messaging.destination.name","value":{"stringValue":"orders.placed"}}]}]}]},
 {"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"ledger"}}]},"scopeSpans":[{"spans":[
  {"traceId":"0102030405060708090a0b0c0d0e0f12","spanId":"0102030405060704","name":"process","kind":5,"startTimeUnixNano":"2000000000","endTimeUnixNano":"2400000000","links":[{"traceId":"0102030405060708090a0b0c0d0e0f10","spanId":"0102030405060702"}],"attributes":[{"key":"messaging.destination.name","value":{"stringValue":"orders.placed"}}]}]}]}]}`
	spans, err := otlp.Read([]byte(text))
	require.NoError(t, err)
	draft := learn.Observe(spans).Draft("shop")
	written := model.WriteDocument(draft.Model, draft.Comments)
	m, err := model.Parse("shop.yaml", written, model.Options{})
	require.NoError(t, err, string(written))
	require.Equal(t, model.Topic, m.Node("orders-placed").Kind)
	require.Equal(t, []string{"orders.placed"}, m.Node("orders-placed").ObservedAs)
	require.Equal(t, model.Endpoint, m.Node("shop-api-requests").Kind)
	require.Equal(t, model.Outside, m.Node("bank-example").Kind)
	require.NotNil(t, m.Node("shop-api").Link("bank-example"))
	require.InDelta(t, 0.3, m.Node("shop-api").Takes.Expected(), 1e-9, "its own time: half a second less the call")
	require.InDelta(t, 1, m.Node("packer").Fails.EachTry, 1e-9)
	require.Contains(t, string(written), "one message was taken by several services")
}

// TestExport sends to a receiver that speaks the protocol.
func TestExport(t *testing.T) {
	_, spans := traces(t, system, 50)
	got := 0
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/v1/traces" || r.Header.Get("Content-Type") != "application/x-protobuf" {
			http.Error(w, "not OTLP/HTTP", http.StatusBadRequest)
			return
		}
		var body io.Reader = r.Body
		if r.Header.Get("Content-Encoding") == "gzip" {
			body, _ = gzip.NewReader(r.Body)
		}
		text, err := io.ReadAll(body)
		var m collector.ExportTraceServiceRequest
		if err != nil || proto.Unmarshal(text, &m) != nil {
			http.Error(w, "not protobuf", http.StatusBadRequest)
			return
		}
		for _, rs := range m.ResourceSpans {
			for _, scope := range rs.ScopeSpans {
				got += len(scope.Spans)
			}
		}
	}))
	defer receiver.Close()
	require.NoError(t, otlp.Export(context.Background(), receiver.URL, spans))
	require.Equal(t, len(spans), got)
	require.ErrorContains(t, otlp.Export(context.Background(), receiver.URL+"/elsewhere", spans), "400")
}

func TestFaults(t *testing.T) {
	for text, says := range map[string]string{
		"":                     "empty",
		"{}":                   "no spans",
		`{"resourceSpans": 3}`: "document 1 is not OTLP",
		`{"resourceSpans":[{"scopeSpans":[{"spans":[{"traceId":"xyz"}]}]}]}`: "traceId \"xyz\"",
		"{\"resourceSpans\":[]}\n{oops":                                      "document 2",
		"\x01\x02nothing":                                                    "neither OTLP JSON nor OTLP protobuf",
	} {
		_, err := otlp.Read([]byte(text))
		require.ErrorContains(t, err, says)
		require.NotContains(t, err.Error(), "\u00a0", "the library varies its space from build to build")
	}
}

func FuzzRead(f *testing.F) {
	f.Add(
		[]byte(
			`{"resourceSpans":[{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"a"}}]},"scopeSpans":[{"spans":[{"traceId":"01","spanId":"02","kind":4,"attributes":[{"key":"messaging.destination.name","value":{"stringValue":"q"}}]}]}]}]}`,
		),
	)
	f.Add([]byte("\n\x04\n\x02\x12\x00"))
	f.Fuzz(func(t *testing.T, text []byte) {
		spans, err := otlp.Read(text)
		if err != nil {
			return
		}
		d := learn.Observe(spans).Draft("f")
		if _, err := model.Parse("f", model.WriteDocument(d.Model, d.Comments), model.Options{}); err != nil &&
			len(d.Model.Get("nodes").Fields) > 0 {
			t.Logf("%v", err) // what is learned may break rules of the model; it may not panic
		}
	})
}

// TestTracesMayBePacked with gzip; what unpacks to far more than it is, or is cut off, is
// refused in words.
func TestTracesMayBePacked(t *testing.T) {
	pack := func(text []byte) []byte {
		var out bytes.Buffer
		w := gzip.NewWriter(&out)
		_, err := w.Write(text)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return out.Bytes()
	}
	plain := []byte(`{"resourceSpans":[{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"scale"}}]},` +
		`"scopeSpans":[{"spans":[{"traceId":"00000000000000000000000000000001","spanId":"0000000000000001","name":"weigh",` +
		`"kind":2,"startTimeUnixNano":"1","endTimeUnixNano":"2"}]}]}]}`)
	want, err := otlp.Read(plain)
	require.NoError(t, err)
	require.Len(t, want, 1)
	got, err := otlp.Read(pack(plain))
	require.NoError(t, err)
	require.Equal(t, want, got)
	_, err = otlp.Read(pack(plain)[:40])
	require.ErrorContains(t, err, "cannot be unpacked: unexpected EOF")
	_, err = otlp.Read(pack(make([]byte, 20<<20)))
	require.ErrorContains(t, err, "it unpacks to more than 16777216 bytes")
	require.Equal(t, "lanes", otlp.Name("/tmp/lanes.jsonl.gz"))
	require.Equal(t, "lanes", otlp.Name("lanes.json"))
}
