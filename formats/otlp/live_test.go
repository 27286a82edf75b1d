package otlp_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/plugin/kotel"
	"go.opentelemetry.io/contrib/instrumentation/net/http/otelhttp"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/sdk/resource"
	"go.opentelemetry.io/otel/sdk/trace"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/learn"
	"ironweir/core/model"
	"ironweir/core/verify"
	"ironweir/formats/otlp"
)

// liveSystem is a set of services that really run, in this process. Each has an OpenTelemetry SDK of its own; HTTP goes
// through its usual instrumentation, messages through a log with partitions and the instrumentation of its client.
// What they record is exported over HTTP, as protobuf packed with gzip.
type liveSystem struct {
	*testing.T
	collector *httptest.Server
	brokers   []string
	linked    bool // consumers begin traces of their own, which link to the span that sent the message
	providers []*trace.TracerProvider
	mu        sync.Mutex
	spans     []learn.Span
}

var propagator = propagation.TraceContext{}

func startSystem(t *testing.T, topics ...string) *liveSystem {
	s := &liveSystem{T: t}
	s.collector = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		otlp.Receive(w, r, "traces", func(spans []learn.Span) (int64, string, error) {
			s.mu.Lock()
			defer s.mu.Unlock()
			s.spans = append(s.spans, spans...)
			return 0, "", nil
		})
	}))
	t.Cleanup(s.collector.Close)
	cluster, err := kfake.NewCluster(kfake.NumBrokers(1), kfake.SeedTopics(4, topics...))
	require.NoError(t, err)
	t.Cleanup(cluster.Close)
	s.brokers = cluster.ListenAddrs()
	return s
}

// provider gives a service its SDK.
func (s *liveSystem) provider(service string) *trace.TracerProvider {
	exporter, err := otlptracehttp.New(context.Background(),
		otlptracehttp.WithEndpointURL(s.collector.URL+"/v1/traces"),
		otlptracehttp.WithCompression(otlptracehttp.GzipCompression))
	require.NoError(s, err)
	p := trace.NewTracerProvider(trace.WithBatcher(exporter),
		trace.WithResource(resource.NewSchemaless(attribute.String("service.name", service))))
	s.providers = append(s.providers, p)
	return p
}

// serves starts a service that answers HTTP, and gives its address.
func (s *liveSystem) serves(p *trace.TracerProvider, answer http.HandlerFunc) string {
	server := httptest.NewServer(otelhttp.NewHandler(answer, "serve",
		otelhttp.WithTracerProvider(p), otelhttp.WithPropagators(propagator)))
	s.Cleanup(server.Close)
	return server.URL
}

func (s *liveSystem) log(p *trace.TracerProvider, tracer *kotel.Tracer, more ...kgo.Opt) *kgo.Client {
	client, err := kgo.NewClient(append(more, kgo.SeedBrokers(s.brokers...),
		kgo.WithHooks(kotel.NewKotel(kotel.WithTracer(tracer)).Hooks()...))...)
	require.NoError(s, err)
	s.Cleanup(client.Close)
	return client
}

func (s *liveSystem) tracer(p *trace.TracerProvider, more ...kotel.TracerOpt) *kotel.Tracer {
	more = append(more, kotel.TracerProvider(p), kotel.TracerPropagator(propagator))
	if s.linked {
		more = append(more, kotel.LinkSpans())
	}
	return kotel.NewTracer(more...)
}

// consumes starts a service that runs for each message of the parcels, in a consumer group of its own, and gives how
// many it has taken.
func (s *liveSystem) consumes(p *trace.TracerProvider, group string,
	run func(context.Context, *kgo.Client) error) *atomic.Int64 {
	tracer := s.tracer(p, kotel.ConsumerGroup(group))
	client := s.log(p, tracer, kgo.ConsumerGroup(group), kgo.ConsumeTopics("parcels"),
		kgo.ConsumeResetOffset(kgo.NewOffset().AtStart()))
	var taken atomic.Int64
	go func() {
		for {
			records := client.PollFetches(context.Background())
			if records.IsClientClosed() {
				return
			}
			records.EachRecord(func(r *kgo.Record) {
				ctx, span := tracer.WithProcessSpan(r)
				if err := run(ctx, client); err != nil {
					span.SetStatus(codes.Error, err.Error())
				}
				span.End()
				taken.Add(1)
			})
		}
	}()
	return &taken
}

// exported ends the recording, and gives all spans.
func (s *liveSystem) exported() []learn.Span {
	for _, p := range s.providers {
		require.NoError(s, p.Shutdown(context.Background()))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.spans
}

// TestALiveSystemIsDrafted: an HTTP service writes parcels to a log; of its two consumer groups one asks a registry,
// which refuses each fifth, and puts those aside.
func TestALiveSystemIsDrafted(t *testing.T) {
	for _, linked := range []bool{false, true} {
		t.Run(fmt.Sprintf("linked %v", linked), func(t *testing.T) {
			t.Parallel()
			s := startSystem(t, "parcels", "parcels-aside")
			s.linked = linked
			s.isDrafted(s.parcels())
		})
	}
}

// parcels runs the system, and gives what was observed.
func (s *liveSystem) parcels() *learn.Observed {
	const parcels = 200
	t := s.T
	var asked atomic.Int64
	registry := s.serves(s.provider("registry"), func(w http.ResponseWriter, _ *http.Request) {
		time.Sleep(time.Duration(3+rand.IntN(6)) * time.Millisecond)
		if asked.Add(1)%5 == 0 {
			http.Error(w, "unknown sender", http.StatusInternalServerError)
		}
	})
	sorter := s.provider("sorter")
	client := http.Client{Transport: otelhttp.NewTransport(http.DefaultTransport,
		otelhttp.WithTracerProvider(sorter), otelhttp.WithPropagators(propagator))}
	sorted := s.consumes(sorter, "sorters", func(ctx context.Context, log *kgo.Client) error {
		time.Sleep(time.Duration(2+rand.IntN(5)) * time.Millisecond)
		ask, err := http.NewRequestWithContext(ctx, "GET", registry+"/senders/7", nil)
		if err != nil {
			return err
		}
		answer, err := client.Do(ask)
		if err != nil {
			return err
		}
		answer.Body.Close()
		if answer.StatusCode == http.StatusOK {
			return nil
		}
		aside := log.ProduceSync(ctx, &kgo.Record{Topic: "parcels-aside", Value: []byte("{}")})
		return errors.Join(fmt.Errorf("the registry answered %s", answer.Status), aside.FirstErr())
	})
	audited := s.consumes(s.provider("auditor"), "auditors", func(context.Context, *kgo.Client) error {
		time.Sleep(4 * time.Millisecond)
		return nil
	})
	intake := s.provider("intake")
	writes := s.log(intake, s.tracer(intake))
	address := s.serves(intake, func(w http.ResponseWriter, r *http.Request) {
		record := &kgo.Record{Topic: "parcels", Key: []byte(r.URL.Query().Get("to")), Value: []byte("{}")}
		if err := writes.ProduceSync(r.Context(), record).FirstErr(); err != nil {
			http.Error(w, err.Error(), http.StatusServiceUnavailable)
		}
	})
	for k := range parcels {
		answer, err := http.Post(fmt.Sprintf("%s/parcels?to=%d", address, k%17), "application/json", strings.NewReader("{}"))
		require.NoError(t, err)
		require.Equal(t, http.StatusOK, answer.StatusCode)
		answer.Body.Close()
		time.Sleep(time.Duration(30*rand.ExpFloat64()) * time.Millisecond)
	}
	require.Eventually(t, func() bool { return sorted.Load() == parcels && audited.Load() == parcels },
		time.Minute, 10*time.Millisecond)
	return learn.Observe(s.exported())
}

func (s *liveSystem) isDrafted(seen *learn.Observed) {
	t := s.T
	require.Empty(t, seen.Skipped)
	draft := seen.Draft("parcels")
	text := string(model.WriteDocument(draft.Model, draft.Comments))
	m, err := model.Parse("parcels.yaml", []byte(text), model.Options{})
	require.NoError(t, err, text)
	kinds, links := map[string]model.Kind{}, []string{}
	for _, n := range m.Nodes {
		kinds[n.Name] = n.Kind
		for _, l := range n.Links {
			links = append(links, l.ID())
		}
	}
	require.Equal(t, map[string]model.Kind{
		"intake-requests": model.Endpoint, "intake": model.Function, "parcels": model.Stream, "sorter": model.Function,
		"auditor": model.Function, "registry": model.Function, "parcels-aside": model.Stream,
	}, kinds)
	require.ElementsMatch(t, []string{
		"intake-requests:intake", "intake:parcels", "parcels:sorter", "parcels:auditor", "sorter:registry",
	}, links)
	require.Equal(t, "parcels-aside", m.Node("parcels").Link("sorter").DeadLetter)
	require.Equal(t, 1, *m.Node("parcels").Link("sorter").Retry.Tries)
	require.InDelta(t, 0.2, m.Node("registry").Fails.EachTry, 1e-9)
	require.Zero(t, m.Node("sorter").Fails.EachTry, "its failures are the registry's")
	require.Contains(t, text, "messages of 4 partitions were seen, but no two runs at the same time")
	require.Equal(t, "/parcels", m.Node("intake-requests").Path)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	for _, f := range check.Run(g, nil, document.Head{}, time.Now()).Findings {
		require.NotEqual(t, check.Error, f.Severity, f.Message)
	}
	doc, err := verify.Learned(seen, g, 5, 0.1)
	require.NoError(t, err)
	require.Len(t, doc.Rows, 18, "latencies to both consumers and of the answer, rates and failures")
	for _, r := range doc.Rows {
		if r.Unit != "s" { // how long things took depends on what else the machine does
			require.True(t, r.Within, "%+v", r)
		}
		t.Logf("%s: %.3g measured, %.3g predicted (%+.1f%%)", r.What, r.Measured, r.Predicted, 100*r.Error)
	}
}
