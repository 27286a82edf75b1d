package otlp_test

import (
	"compress/gzip"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/learn"
	"ironweir/core/model"
	"ironweir/core/verify"
	"ironweir/formats/otlp"
	"time"
)

// orders reads the traces of a system that really ran: an HTTP service publishes to a
// fan-out exchange; of its two queues' consumers one calls a service that fails at times
// and retries through a queue that returns messages after 500 ms, the other rejects some.
// The spans are those of standard instrumentation, with the older names of attributes.
func orders(t *testing.T) []learn.Span { return recorded(t, "orders", 1220) }

// recorded reads traces of testdata; spans is how many they have.
func recorded(t *testing.T, name string, spans int) []learn.Span {
	f, err := os.Open("testdata/" + name + ".jsonl.gz")
	require.NoError(t, err)
	defer f.Close()
	unpacked, err := gzip.NewReader(f)
	require.NoError(t, err)
	text, err := io.ReadAll(unpacked)
	require.NoError(t, err)
	all, err := otlp.Read(text)
	require.NoError(t, err)
	require.Len(t, all, spans)
	return all
}

func messaging(s *learn.Span) bool { return s.Attributes["messaging.system"] != "" }

// variations rewrite the traces as other instrumentation would have recorded the same.
var variations = map[string]func(spans []learn.Span) []learn.Span{
	"untouched": func(spans []learn.Span) []learn.Span { return spans },
	"newer names": each(func(s *learn.Span) {
		if !messaging(s) {
			return
		}
		s.Attributes["messaging.operation.type"] = map[learn.Kind]string{learn.Producer: "send", learn.Consumer: "process"}[s.Kind]
		s.Attributes["messaging.message.id"] = s.Attributes["messaging.message_id"]
		switch queue, consumed := strings.CutSuffix(s.Name, " process"); {
		case consumed:
			s.Attributes["messaging.destination.name"] = queue
		case s.Attributes["messaging.destination"] != "":
			s.Attributes["messaging.destination.name"] = s.Attributes["messaging.destination"]
		default:
			s.Attributes["messaging.destination.name"] = s.Attributes["messaging.rabbitmq.routing_key"]
		}
		for _, old := range []string{"messaging.destination", "messaging.operation", "messaging.message_id"} {
			delete(s.Attributes, old)
		}
	}),
	"sends of the kind client": each(func(s *learn.Span) {
		if s.Kind == learn.Producer {
			s.Kind = learn.Client
			s.Attributes["messaging.operation"] = "publish"
		}
	}),
	"older HTTP names": each(func(s *learn.Span) {
		for now, before := range map[string]string{"http.request.method": "http.method", "http.response.status_code": "http.status_code", "server.address": "net.peer.name", "server.port": "net.peer.port", "url.path": "http.target", "url.full": "http.url"} {
			if v, ok := s.Attributes[now]; ok && !messaging(s) {
				delete(s.Attributes, now)
				s.Attributes[before] = v
			}
		}
	}),
	"consumers begin traces of their own": func(spans []learn.Span) []learn.Span {
		trace := map[learn.Reference]string{}
		parents := map[learn.Reference]learn.Span{}
		for _, s := range spans {
			parents[learn.Reference{Trace: s.Trace, ID: s.ID}] = s
		}
		var of func(s learn.Span) string
		of = func(s learn.Span) string {
			ref := learn.Reference{Trace: s.Trace, ID: s.ID}
			if trace[ref] == "" {
				trace[ref] = s.Trace
				if p, ok := parents[learn.Reference{Trace: s.Trace, ID: s.Parent}]; s.Kind == learn.Consumer {
					trace[ref] = s.Trace[:16] + s.ID
				} else if ok {
					trace[ref] = of(p)
				}
			}
			return trace[ref]
		}
		out := slices.Clone(spans)
		for i := range out {
			s := &out[i]
			s.Trace = of(spans[i])
			if p, ok := parents[learn.Reference{Trace: spans[i].Trace, ID: s.Parent}]; ok && s.Kind == learn.Consumer {
				s.Links, s.Parent = []learn.Reference{{Trace: of(p), ID: p.ID}}, ""
			}
		}
		return out
	},
	"internal spans between": func(spans []learn.Span) []learn.Span {
		var out []learn.Span
		for i, s := range spans {
			if s.Kind == learn.Client || s.Kind == learn.Producer {
				id := fmt.Sprintf("%016x", i+1)
				out = append(
					out,
					learn.Span{
						Trace:      s.Trace,
						ID:         id,
						Parent:     s.Parent,
						Service:    s.Service,
						Name:       "work",
						Kind:       learn.Internal,
						Start:      s.Start - 1,
						End:        s.End,
						Attributes: map[string]string{},
					},
				)
				s.Parent = id
			}
			out = append(out, s)
		}
		return out
	},
	"receives and settlements": func(spans []learn.Span) []learn.Span {
		var out []learn.Span
		for i, s := range spans {
			if s.Kind == learn.Consumer {
				queue := strings.TrimSuffix(s.Name, " process")
				about := func(operation, name string) map[string]string {
					return map[string]string{
						"messaging.system":           "amqp",
						"messaging.destination.name": queue,
						"messaging.operation.type":   operation,
						"messaging.operation.name":   name,
					}
				}
				settled := "ack"
				if s.Error != "" && queue == "packing" {
					settled, s.Error = "reject", "" // only the settlement says so
				}
				out = append(
					out,
					learn.Span{
						Trace:      s.Trace,
						ID:         fmt.Sprintf("a%015x", i),
						Parent:     s.Parent,
						Service:    s.Service,
						Name:       "receive " + queue,
						Kind:       learn.Client,
						Start:      s.Start - 1000,
						End:        s.Start,
						Attributes: about("receive", "receive"),
					},
					learn.Span{
						Trace:      s.Trace,
						ID:         fmt.Sprintf("b%015x", i),
						Parent:     s.ID,
						Service:    s.Service,
						Name:       settled + " " + queue,
						Kind:       learn.Client,
						Start:      s.End,
						End:        s.End,
						Attributes: about("settle", settled),
					},
				)
			}
			out = append(out, s)
		}
		return out
	},
	"one span in a hundred is lost": func(spans []learn.Span) []learn.Span {
		r := rand.New(rand.NewPCG(3, 1))
		return slices.DeleteFunc(slices.Clone(spans), func(learn.Span) bool { return r.Float64() < 0.01 })
	},
	"in another order": func(spans []learn.Span) []learn.Span {
		out := slices.Clone(spans)
		rand.New(rand.NewPCG(1, 1)).Shuffle(len(out), func(a, b int) { out[a], out[b] = out[b], out[a] })
		return out
	},
}

func each(change func(s *learn.Span)) func([]learn.Span) []learn.Span {
	return func(spans []learn.Span) []learn.Span {
		out := slices.Clone(spans)
		for i := range out {
			out[i].Attributes = maps.Clone(out[i].Attributes)
			change(&out[i])
		}
		return out
	}
}

// requireOrders requires the nodes and links of that system.
func requireOrders(t *testing.T, m *model.Topology) {
	t.Helper()
	kinds := map[string]model.Kind{}
	for _, n := range m.Nodes {
		kinds[n.Name] = n.Kind
	}
	require.Equal(
		t,
		map[string]model.Kind{
			"orders-api-requests": model.Endpoint,
			"orders-api":          model.Function,
			"orders":              model.Topic,
			"billing":             model.Queue,
			"packing":             model.Queue,
			"billing-worker":      model.Function,
			"packing-worker":      model.Function,
			"ledger":              model.Function,
			"billing-failed":      model.Queue,
			"packing-failed":      model.Queue,
		},
		kinds,
	)
	var links []string
	for _, n := range m.Nodes {
		for _, l := range n.Links {
			links = append(links, l.ID())
		}
	}
	require.ElementsMatch(
		t,
		[]string{
			"orders-api-requests:orders-api",
			"orders-api:orders",
			"orders:billing",
			"orders:packing",
			"billing:billing-worker",
			"packing:packing-worker",
			"billing-worker:ledger",
		},
		links,
	)
}

// TestARealSystemIsDrafted: whatever conventions its traces follow, the draft has the
// right kinds, links, tries and shares, and the analysis finds no error in it.
func TestARealSystemIsDrafted(t *testing.T) {
	spans := orders(t)
	for name, vary := range variations {
		t.Run(name, func(t *testing.T) {
			seen := learn.Observe(vary(spans))
			draft := seen.Draft("orders")
			text := model.WriteDocument(draft.Model, draft.Comments)
			m, err := model.Parse("orders.yaml", text, model.Options{})
			require.NoError(t, err, string(text))
			requireOrders(t, m)
			retry := m.Node("billing").Link("billing-worker").Retry
			require.Equal(t, 2, *retry.Tries, "as many as were needed in nine seconds")
			require.Equal(t, 500*time.Millisecond, *retry.Wait)
			require.Equal(t, 1, *m.Node("packing").Link("packing-worker").Retry.Tries)
			require.Equal(t, "POST", m.Node("orders-api-requests").Method)
			takes := func(name string, work float64) { // its own work, and the hand-over of the next message
				n := seen.Nodes[name]
				require.InDelta(t, work, n.Timed.Mean(), 0.002)
				require.Greater(t, n.Handover.Count, 20)
				require.InDelta(t, n.Timed.Mean()+n.Handover.Mean, m.Node(name).Takes.Expected(), 0.001)
			}
			takes("packing-worker", 0.045)
			require.InDelta(t, 0.020, m.Node("ledger").Takes.Expected(), 0.001)
			takes("billing-worker", 0.022)
			require.InDelta(t, 4.0/116, m.Node("packing-worker").Fails.EachTry, 0.009)
			require.InDelta(t, 10.0/126, m.Node("ledger").Fails.EachTry, 0.009)
			require.Zero(t, m.Node("billing-worker").Fails.EachTry, "its failures are the ledger's")
			require.Contains(t, string(text), "QUESTION: 4 messages failed for good at packing-worker")

			g, err := graph.Compile(m)
			require.NoError(t, err)
			for _, f := range check.Run(g, nil, document.Head{}, time.Now()).Findings {
				require.NotEqual(t, check.Error, f.Severity, f.Message)
			}
			if name == "one span in a hundred is lost" {
				return // what is lost counts as less work
			}
			doc, err := verify.Learned(seen, g, 20, 0.1)
			require.NoError(t, err)
			require.Len(t, doc.Rows, 21, "latencies, depths, rates and failures")
			for _, r := range doc.Rows {
				require.True(t, r.Within, "%+v", r)
			}
		})
	}
}

// TestAStoppedConsumerAndBursts: the same system, once with a consumer that was killed and started again four seconds
// later, once with messages that come six at a time. The draft is that of any other day, the stop is an incident of its
// scenario, and with each run as it was observed every number is within 10% (20% for the 99th percentiles).
func TestAStoppedConsumerAndBursts(t *testing.T) {
	for name, spans := range map[string]int{"stopped": 2393, "bursts": 2978} {
		seen := learn.Observe(recorded(t, name, spans))
		draft := seen.Draft(name)
		m, err := model.Parse("draft.yaml", model.WriteDocument(draft.Model, draft.Comments), model.Options{})
		require.NoError(t, err)
		requireOrders(t, m)
		retry := m.Node("billing").Link("billing-worker").Retry
		require.Equal(t, 3, *retry.Tries)
		require.Equal(t, 500*time.Millisecond, *retry.Wait)
		require.InDelta(t, 0.08, m.Node("ledger").Fails.EachTry, 0.02)
		require.InDelta(t, 0.03, m.Node("packing-worker").Fails.EachTry, 0.01)
		scenario := string(model.WriteDocument(draft.Scenario, draft.ScenarioComments))
		s, err := model.ParseScenario("scenario.yaml", []byte(scenario), m)
		require.NoError(t, err, scenario)
		if name == "stopped" {
			require.Len(t, s.Incidents, 1)
			require.Equal(t, "packing-worker", s.Incidents[0].Node)
			require.True(t, *s.Incidents[0].Stopped)
			require.InDelta(t, 5, s.Incidents[0].For.Seconds(), 1.5, "four seconds, and the time to start")
			require.Len(t, learn.Together(seen.Summary()).Nodes["packing-worker"].Stops, 1, "it is kept")
		} else {
			require.Empty(t, s.Incidents)
			require.Contains(t, scenario, "They come in bursts")
		}
		g, err := graph.Compile(m)
		require.NoError(t, err)
		doc, err := verify.Learned(seen, g, 5, 0.1)
		require.NoError(t, err)
		require.Len(t, doc.Rows, 21)
		for _, r := range doc.Rows {
			require.False(t, r.Structural(), "%+v", r)
		}
	}
}

// TestAWrongDraftIsFound: with each run as it was observed, chance hides no wrong wait, limit or link; with runs that
// are drawn, a wrong time or failure is found.
func TestAWrongDraftIsFound(t *testing.T) {
	seen := learn.Observe(orders(t))
	draft := string(model.WriteDocument(seen.Draft("orders").Model, nil))
	beyond := func(was, is string) (structural, drawn []string) {
		require.Contains(t, draft, was)
		m, err := model.Parse("draft.yaml", []byte(strings.Replace(draft, was, is, 1)), model.Options{})
		require.NoError(t, err)
		g, err := graph.Compile(m)
		require.NoError(t, err)
		doc, err := verify.Learned(seen, g, 20, 0.1)
		require.NoError(t, err)
		for _, r := range doc.Rows {
			switch {
			case r.Structural():
				structural = append(structural, r.What)
			case !r.Within:
				drawn = append(drawn, r.What)
			}
		}
		return structural, drawn
	}
	structural, _ := beyond("wait: 500ms", "wait: 2s")
	require.Contains(t, structural, "orders-api-requests to billing-worker, p99")
	structural, _ = beyond("tries: 2", "tries: 1")
	require.Contains(t, structural, "depth of billing, mean")
	structural, _ = beyond("reject}, retry: {tries: 1}", "reject, parallel: 2}, retry: {tries: 1}")
	require.Contains(t, structural, "depth of packing, mean")
	structural, drawn := beyond("fails: 7.94%", "fails: 40%")
	require.Empty(t, structural)
	require.Contains(t, drawn, "failures of ledger")
}

// TestWhatIsNotUnderstoodIsCounted: no span is passed over in silence.
func TestWhatIsNotUnderstoodIsCounted(t *testing.T) {
	span := func(k int, kind learn.Kind, name string, attributes map[string]string) learn.Span {
		return learn.Span{
			Trace:      "t" + strconv.Itoa(k),
			ID:         "s" + strconv.Itoa(k),
			Service:    "desk",
			Name:       name,
			Kind:       kind,
			Attributes: attributes,
		}
	}
	seen := learn.Observe([]learn.Span{
		span(1, learn.Client, "GET", nil),
		span(2, learn.Producer, "publish", map[string]string{"messaging.system": "amqp"}),
		span(
			3,
			learn.Client,
			"frobnicate q",
			map[string]string{"messaging.destination.name": "q", "messaging.operation.type": "frobnicate"},
		),
		span(4, learn.Client, "something", map[string]string{"messaging.destination.name": "q"}),
		span(5, learn.Consumer, "q process", nil),
	})
	require.Equal(t, map[string]int{
		"a call that does not say whom it calls (peer.service, server.address, url.full, db.* or rpc.*)": 1,
		"a message that does not say where it is sent (messaging.destination.name)":                      1,
		"a messaging span of the unknown operation frobnicate":                                           1,
		"a messaging span without an operation (messaging.operation.type)":                               1,
	}, seen.Skipped)
	require.NotNil(t, seen.Links[learn.LinkKey{From: "q", To: "desk"}], "the name of the span says what is read")
}

// TestPeersOnOneHostStayApart: an address is a host and a port; a database is one by name.
func TestPeersOnOneHostStayApart(t *testing.T) {
	var spans []learn.Span
	for k, attributes := range []map[string]string{
		{"server.address": "10.0.0.7", "server.port": "9000"}, {"server.address": "10.0.0.7", "server.port": "9001"},
		{"net.peer.name": "10.0.0.7", "net.peer.port": "9001"},
		{"url.full": "https://registry.example/v1/goods?x=1"}, {"db.system": "postgresql", "db.name": "bookings", "server.address": "10.0.0.7"}, {"peer.service": "scale"}, {"rpc.service": "harbour.Berths"},
	} {
		spans = append(
			spans,
			learn.Span{
				Trace:      "t",
				ID:         strconv.Itoa(k),
				Service:    "desk",
				Kind:       learn.Client,
				Start:      int64(k),
				End:        int64(k + 5),
				Attributes: attributes,
			},
		)
	}
	seen := learn.Observe(spans)
	require.Empty(t, seen.Skipped)
	require.ElementsMatch(
		t,
		[]string{"desk", "10.0.0.7:9000", "10.0.0.7:9001", "registry.example", "bookings", "scale", "harbour.Berths"},
		slices.Collect(maps.Keys(seen.Nodes)),
	)
	require.Equal(t, 2, seen.Nodes["10.0.0.7:9001"].Runs)
}
