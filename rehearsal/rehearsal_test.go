package rehearsal_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	sdk "github.com/cloudevents/sdk-go/v2"
	"github.com/cloudevents/sdk-go/v2/binding"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
	"github.com/stretchr/testify/require"

	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
	"ironweir/rehearsal"
)

// patience is how long a test waits for something: no test depends on how fast the machine is.
const patience = 5 * time.Minute

// compiled reads a model of the demo, or one that is written out.
func compiled(t testing.TB, text string) *graph.Graph {
	t.Helper()
	if strings.HasSuffix(text, ".yaml") {
		source, err := os.ReadFile("../demo/" + text)
		require.NoError(t, err)
		text = string(source)
	}
	m, err := model.Parse("model.yaml", []byte(text), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	return g
}

func started(t testing.TB, p rehearsal.Plan) *rehearsal.Rehearsal {
	t.Helper()
	p.Folder = t.TempDir()
	r, err := rehearsal.Start(p)
	require.NoError(t, err)
	t.Cleanup(r.End)
	return r
}

func served(t testing.TB, r *rehearsal.Rehearsal) string {
	s := httptest.NewServer(r.Handler("tester"))
	t.Cleanup(s.Close)
	return s.URL
}

// until waits until something holds of the state.
func until(t testing.TB, r *rehearsal.Rehearsal, what string, holds func(s *rehearsal.State) bool) *rehearsal.State {
	t.Helper()
	var s *rehearsal.State
	require.Eventually(t, func() bool {
		var err error
		s, err = r.State()
		require.NoError(t, err)
		return holds(s)
	}, patience, 5*time.Millisecond, what)
	return s
}

const line = `ironweir: topology/1
name: line
nodes:
  drop: {kind: bucket, keys: ["inbound/{seq}.csv"], links: {split: {match: {prefix: inbound/}}}}
  split: {kind: function, takes: 200ms, retry: {tries: 2, wait: 1s}, links: {work: {}}}
  work: {kind: queue, lease: 30s, links: {do: {retry: {tries: 2, wait: 1s}, dead-letter: desk}}}
  do: {kind: function, takes: 300ms, timeout: 5s}
  desk: {kind: queue}
  door: {kind: endpoint, method: POST, path: "/orders/{id}", accepts: {type: object, required: [kg]}, links: {weigh: {}}}
  weigh: {kind: function, takes: 150ms}
  small: {kind: queue, capacity: 1}
limits: {payload: 64KB}
`

func TestAnyCloudEventsClientCanPost(t *testing.T) {
	r := started(t, rehearsal.Plan{Graph: compiled(t, line), Pace: 100})
	address := served(t, r)
	client, err := sdk.NewClientHTTP(sdk.WithTarget(address + "/entries/drop"))
	require.NoError(t, err)
	event := sdk.NewEvent()
	event.SetID("a-1")
	event.SetSource("haulier")
	event.SetType("manifest.written")
	event.SetSubject("inbound/gannet/1.csv")
	require.NoError(t, event.SetData(sdk.ApplicationJSON, map[string]any{"lines": 3}))
	for name, ctx := range map[string]context.Context{"binary": binding.WithForceBinary(context.Background()), "structured": binding.WithForceStructured(context.Background())} {
		result := client.Send(ctx, event)
		require.True(t, sdk.IsACK(result), "%s: %v", name, result)
		var answer *cehttp.Result
		require.True(t, sdk.ResultAs(result, &answer))
		require.Equal(t, 202, answer.StatusCode, name)
	}
	req, err := cehttp.NewHTTPRequestFromEvents(
		context.Background(),
		address+"/entries/drop",
		[]sdk.Event{event, event, event},
	)
	require.NoError(t, err)
	answer, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	var taken struct{ Journeys []uint64 }
	require.NoError(t, json.NewDecoder(answer.Body).Decode(&taken))
	require.Equal(t, []uint64{3, 4, 5}, taken.Journeys, "a batch")

	s := until(
		t,
		r,
		"all are worked through",
		func(s *rehearsal.State) bool { return s.Nodes["do"].Runs == 5 && s.Underway == 0 },
	)
	require.Equal(t, int64(5), s.Entered)
	require.Equal(t, int64(5), s.Links["drop:split"].Messages)
	require.Equal(t, 5, s.Acts[0].Times)
	require.Equal(t, "sent an event to drop", s.Acts[0].What)
	j, err := r.Journey(1)
	require.NoError(t, err)
	require.Equal(t, "complete", j.Outcome)
	require.Equal(t, "inbound/gannet/1.csv", j.Key)
	require.JSONEq(t, `{"lines": 3}`, string(j.Steps[0].Event["data"].(json.RawMessage)))
	require.Equal(t, "haulier", j.Steps[0].Event["source"])
	require.Equal(t, "a-1", j.Steps[0].Event["id"])
}

func TestTheStandardsAnswers(t *testing.T) {
	r := started(t, rehearsal.Plan{Graph: compiled(t, line)})
	address := served(t, r)
	const binary = "ce-specversion: 1.0\nce-id: 1\nce-source: s\nce-type: t"
	for _, c := range []struct {
		method, path, headers, body string
		status                      int
		says                        string
	}{
		{"POST", "/entries/drop", binary + "\ncontent-type: application/json", `{"a":1}`, 202, `"journeys":[1]`},
		{"POST", "/entries/drop", binary, "", 202, `"journeys":[2]`},
		{"POST", "/entries/drop", "content-type: application/cloudevents+json", `{"specversion":"1.0","id":"1","source":"s","type":"t"}`, 202, "journeys"},
		{"POST", "/entries/drop", "content-type: application/cloudevents-batch+json", `[]`, 202, `"journeys":[]`},
		{"POST", "/entries/drop", "content-type: application/cloudevents-batch+json", `[{"specversion":"1.0","id":"1","source":"s","type":"t"},{"id":"2"}]`, 400, "not a CloudEvent"},
		{"POST", "/entries/drop", "content-type: application/json", `{"a":1}`, 400, "ce-specversion"},
		{"POST", "/entries/drop", "ce-specversion: 1.0\nce-id: 1\nce-source: s", "", 400, "type"},
		{"POST", "/entries/drop", "ce-specversion: 0.3\nce-id: 1\nce-source: s\nce-type: t", "", 400, "1.0"},
		{"POST", "/entries/drop", "content-type: application/cloudevents+json", `{"specversion":`, 400, "not a CloudEvent"},
		{"POST", "/entries/drop", "content-type: application/cloudevents+avro", `x`, 415, "cloudevents+avro"},
		{"POST", "/entries/drop", binary, strings.Repeat("x", rehearsal.MaxEvents+1), 413, "at most"},
		{"POST", "/entries/drip", binary, "", 404, `did you mean`},
		{"PUT", "/entries/drop", binary, "", 405, "posted"},
		{"OPTIONS", "/entries/drop", "WebHook-Request-Origin: gannet.example", "", 200, ""},
		{"POST", "/entries/work", binary, strings.Repeat("x", 65_000), 413, "payload limit"},
		{"POST", "/entries/small", binary, "", 202, ""},
		{"POST", "/entries/small", binary, "", 429, "full"},
		{"POST", "/orders/77", "content-type: application/json", `{"kg": 12}`, 200, `"status":200`},
		{"POST", "/orders/77", "content-type: application/json", `{"tons": 12}`, 400, `"status":400`},
		{"GET", "/orders/77", "", "", 405, "POST"},
		{"POST", "/elsewhere", "", "", 404, "POST /orders/{id}"},
	} {
		req, err := http.NewRequest(c.method, address+c.path, strings.NewReader(c.body))
		require.NoError(t, err)
		for _, h := range strings.Split(c.headers, "\n") {
			if key, value, ok := strings.Cut(h, ": "); ok {
				req.Header.Set(key, value)
			}
		}
		answer, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		body, _ := io.ReadAll(answer.Body)
		answer.Body.Close()
		require.Equal(t, c.status, answer.StatusCode, "%v\n%s", c, body)
		require.Contains(t, string(body), c.says, "%s %s", c.method, c.path)
		if c.method == "OPTIONS" {
			require.Equal(t, "gannet.example", answer.Header.Get("WebHook-Allowed-Origin"))
		}
	}
	require.NoError(t, r.Pause("tester"))
}

// What was rehearsed, with all that was put in, is had again by the scenario that
// is kept, and by setting the time back and going on.
func TestWhatIsKeptGivesTheSame(t *testing.T) {
	g := compiled(t, "kittiwake.yaml")
	text, err := os.ReadFile("../demo/quiet-tuesday.yaml")
	require.NoError(t, err)
	for name, plan := range map[string]rehearsal.Plan{"scenario": {Text: text}, "nothing": {}} {
		t.Run(name, func(t *testing.T) {
			plan.Graph, plan.Pace, plan.Paused = g, 5000, true
			if plan.Text != nil {
				plan.Scenario, err = model.ParseScenario("s.yaml", plan.Text, g.Topology)
				require.NoError(t, err)
			}
			r := started(t, plan)
			address := served(t, r)
			require.NoError(t, r.Resume("ann"))
			post := func(n int) {
				for k := range n {
					body := fmt.Sprintf(
						`{"specversion":"1.0","id":"%d","source":"s","type":"manifest","subject":"inbound/h/%d.csv","data":{"lines":[{"kg":%d}]}}`,
						k,
						k,
						1000*k,
					)
					answer, err := http.Post(
						address+"/entries/manifest-drop",
						"application/cloudevents+json",
						strings.NewReader(body),
					)
					require.NoError(t, err)
					require.Equal(t, 202, answer.StatusCode)
					answer.Body.Close()
				}
			}
			post(10)
			require.NoError(t, r.Incident("ann", map[string]any{"node": "goods-registry", "fails": "100%"}))
			post(20)
			require.NoError(t, r.Incident("ben", map[string]any{"node": "split-manifest", "slow": 3}))
			until(t, r, "an hour", func(s *rehearsal.State) bool { return s.Now > 3600 })
			require.NoError(t, r.Heal("ann", "goods-registry"))
			require.NoError(
				t,
				r.Incident(
					"ann",
					map[string]any{
						"send-back": map[string]any{"from": "clerk-desk", "to": "consignments", "rate": "1/s"},
					},
				),
			)
			post(5)
			require.NoError(t, r.Pause("ann"))
			s, err := r.State()
			require.NoError(t, err)
			require.Positive(t, s.Nodes["goods-registry"].Failures)

			want, err := r.Result()
			require.NoError(t, err)
			require.Equal(t, want.Ledger.Copies, want.Ledger.Sum())
			require.Equal(t, s.Entered, want.Ledger.Entered)

			kept, err := r.Keep("kept", false)
			require.NoError(t, err)
			require.Equal(t, 35, kept.Events)
			require.Empty(t, kept.LeftOut)
			scenario, err := model.ParseScenario("kept.yaml", kept.Scenario, g.Topology)
			require.NoError(t, err, "%s", kept.Scenario)
			got, err := study.Run(study.Plan{Graph: g, Scenario: scenario, Workers: 1})
			require.NoError(t, err)
			sameBytes(t, want, got)

			// Set back to before the repair, and on again: what was put in comes again.
			require.NoError(t, r.SetBack("ben", 1800*time.Second))
			back, err := r.State()
			require.NoError(t, err)
			require.Equal(t, 1800.0, back.Now)
			require.True(t, back.Ahead)
			require.Equal(t, 1.0, *back.Nodes["goods-registry"].Fails)
			require.NoError(t, r.Resume("ben"))
			until(t, r, "where it was", func(n *rehearsal.State) bool { return n.Now >= s.Now })
			require.NoError(t, r.Pause("ben"))
			require.NoError(t, r.SetBack("ben", time.Duration(s.Now*1e9+0.5)))
			again, err := r.Result()
			require.NoError(t, err)
			sameBytes(t, want, again)

			// Somebody puts something else in: what came later is forgotten.
			require.NoError(t, r.SetBack("ben", 1800*time.Second))
			require.NoError(t, r.Heal("ben", ""))
			other, err := r.State()
			require.NoError(t, err)
			require.False(t, other.Ahead)
			require.Nil(t, other.Nodes["goods-registry"].Fails)
			require.Nil(t, other.Nodes["split-manifest"].Slow)
		})
	}
}

// Time that is set back and let stand at once stands exactly there, at any pace: nothing
// happens between the two.
func TestTimeThatIsSetBackStands(t *testing.T) {
	g := compiled(t, "kittiwake.yaml")
	r := started(t, rehearsal.Plan{Graph: g, Pace: 100_000})
	until(t, r, "an hour", func(s *rehearsal.State) bool { return s.Now > 3600 })
	for range 20 {
		require.NoError(t, r.SetTime("ann", rehearsal.Time{Running: new(false), To: new(time.Second)}))
		s, err := r.State()
		require.NoError(t, err)
		require.False(t, s.Running)
		require.Equal(t, 1.0, s.Now)
		require.NoError(t, r.Resume("ann"))
		until(t, r, "a minute", func(s *rehearsal.State) bool { return s.Now > 60 })
	}
	require.ErrorContains(
		t,
		r.SetTime("ann", rehearsal.Time{Running: new(false), To: new(1e6 * time.Hour), Pace: new(2.0)}),
		"at most",
	)
	s, err := r.State()
	require.NoError(t, err)
	require.True(t, s.Running, "of what is refused nothing is done")
	require.Equal(t, 100_000.0, s.Pace)
}

// sameBytes compares results, but for what names and times them.
func sameBytes(t *testing.T, want, got *study.Document) {
	t.Helper()
	texts := make([]string, 2)
	for i, d := range []*study.Document{want, got} {
		c := *d
		c.Head, c.Scenario, c.Engine, c.Expect = document.Head{}, "", study.Engine{}, nil
		text, err := json.Marshal(c)
		require.NoError(t, err)
		texts[i] = string(text)
	}
	require.Equal(t, texts[0], texts[1])
}

func TestTimeStandsStepsAndStops(t *testing.T) {
	r := started(t, rehearsal.Plan{Graph: compiled(t, line), Paused: true})
	_, err := r.Event("ann", &sim.InputEvent{Node: "drop", Subject: "inbound/1.csv"})
	require.NoError(t, err)
	var said []string
	for range 40 {
		one, err := r.Step("ann")
		require.NoError(t, err)
		if one == "" {
			break
		}
		said = append(said, one)
	}
	require.Equal(t, "drop passes a message to its links", said[0])
	require.Equal(t, "a message is offered to split", said[1])
	require.Contains(t, said, "the readers of work receive what is visible")
	s, err := r.State()
	require.NoError(t, err)
	require.Equal(t, int64(1), s.Nodes["do"].Runs)
	require.False(t, s.Running)

	require.ErrorContains(t, r.SetPace("ann", 0), "0.001 to 100000")
	require.ErrorContains(t, r.SetBack("ann", time.Hour*1000), "at most")
	require.ErrorContains(t, r.Incident("ann", map[string]any{"node": "dropp", "fails": 1}), `did you mean "drop"`)
	require.ErrorContains(t, r.Incident("ann", map[string]any{"node": "do", "fails": 1, "at": "1h"}), "no place here")
	require.ErrorContains(t, r.Incident("ann", nil), "say what")
	require.ErrorContains(t, r.Heal("ann", "nowhere"), "no node or link")
	require.ErrorContains(t, r.Move("ann", 99, ""), "not there")
	_, err = r.Journey(99)
	require.ErrorContains(t, err, "no message")
	_, err = r.Event("ann", &sim.InputEvent{Node: "nix"})
	require.ErrorContains(t, err, `no node "nix"`)

	r.End()
	_, err = r.State()
	require.ErrorIs(t, err, rehearsal.ErrOver)
}

func TestAtTheEndOfTheScenario(t *testing.T) {
	g := compiled(t, line)
	text := []byte("ironweir: scenario/1\nlength: 10m\ntraffic: {a: {into: drop, rate: 1/s}}\n")
	s, err := model.ParseScenario("s.yaml", text, g.Topology)
	require.NoError(t, err)
	r := started(t, rehearsal.Plan{Graph: g, Scenario: s, Text: text, Pace: 10_000})
	until(t, r, "its end", func(s *rehearsal.State) bool { return s.Now == 600 && !s.Running })
	require.ErrorContains(t, r.Resume("ann"), "the scenario is over")
	_, err = r.Event("ann", &sim.InputEvent{Node: "drop"})
	require.ErrorContains(t, err, "the scenario is over")
	want, err := study.Run(study.Plan{Graph: g, Scenario: s, Workers: 1})
	require.NoError(t, err)
	got, err := r.Result()
	require.NoError(t, err)
	want.Scenario = got.Scenario
	require.Equal(t, want.Ledger, got.Ledger)
	require.Equal(t, want.Latency, got.Latency)
}

func TestWhatRestsIsMoved(t *testing.T) {
	r := started(t, rehearsal.Plan{Graph: compiled(t, line), Pace: 100})
	require.NoError(t, r.Incident("ann", map[string]any{"node": "do", "fails": "100%"}))
	for k := range 3 {
		_, err := r.Event(
			"ann",
			&sim.InputEvent{
				Node:    "drop",
				Subject: fmt.Sprintf("inbound/%d.csv", k),
				Data:    map[string]any{"k": float64(k)},
			},
		)
		require.NoError(t, err)
	}
	until(t, r, "parked", func(s *rehearsal.State) bool { return s.Parked == 3 })
	list, all, back, err := r.Resting("desk")
	require.NoError(t, err)
	require.Equal(t, 3, all)
	require.Equal(t, []string{"work"}, back)
	event, err := r.Message(list[0].Message)
	require.NoError(t, err)
	require.Equal(t, map[string]any{"k": 0.0}, event["data"])
	require.NoError(t, r.Heal("ann", "do"))
	require.NoError(t, r.Move("ann", list[0].Message, "work"))
	require.NoError(t, r.Move("ann", list[1].Message, ""))
	s := until(t, r, "handled", func(s *rehearsal.State) bool { return s.Underway == 0 && s.Parked == 1 })
	require.Zero(t, s.Lost)
	require.ErrorContains(t, r.Move("ann", list[0].Message, "work"), "not there")
	kept, err := r.Keep("kept", false)
	require.NoError(t, err)
	require.Equal(t, []string{"messages moved by hand (1)", "messages removed by hand (1)"}, kept.LeftOut)
	require.Contains(t, string(kept.Scenario), "Left out")
}

func TestWatching(t *testing.T) {
	r := started(t, rehearsal.Plan{Graph: compiled(t, line)})
	ann, stop, err := r.Watch("ann")
	require.NoError(t, err)
	_, stopBen, err := r.Watch("ben") // who never reads holds nobody up
	require.NoError(t, err)
	defer stopBen()
	var s rehearsal.State
	require.Eventually(t, func() bool {
		require.NoError(t, json.Unmarshal(<-ann, &s))
		return len(s.Watchers) == 2
	}, patience, time.Millisecond)
	require.NoError(t, r.Incident("ben", map[string]any{"link": "work:do", "paused": true}))
	require.Eventually(t, func() bool {
		s = rehearsal.State{}
		require.NoError(t, json.Unmarshal(<-ann, &s))
		return s.Links["work:do"].Paused
	}, patience, time.Millisecond)
	require.Equal(t, "ben", s.Acts[0].Who)
	require.Equal(t, "paused work:do", s.Acts[0].What)
	stop()
}

func TestItEndsWhenNobodyUsesIt(t *testing.T) {
	r := started(t, rehearsal.Plan{Graph: compiled(t, line), Idle: 300 * time.Millisecond})
	_, stop, err := r.Watch("ann")
	require.NoError(t, err)
	time.Sleep(500 * time.Millisecond)
	require.False(t, r.Over(), "somebody watches")
	stop()
	<-r.Done()
	require.True(t, r.Over())
}

// A rehearsal that is left running holds no more after ten hours than after one.
func TestItDoesNotGrow(t *testing.T) {
	g := compiled(t, line)
	text := []byte("ironweir: scenario/1\nlength: 30d\ntraffic: {a: {into: drop, rate: 2/s}}\n")
	s, err := model.ParseScenario("s.yaml", text, g.Topology)
	require.NoError(t, err)
	r := started(t, rehearsal.Plan{Graph: g, Scenario: s, Text: text, Pace: rehearsal.MaxPace})
	heap := func() float64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return float64(m.HeapAlloc)
	}
	until(t, r, "an hour", func(s *rehearsal.State) bool { return s.Now > 3600 })
	first := heap()
	until(t, r, "ten hours", func(s *rehearsal.State) bool { return s.Now > 36_000 })
	require.Less(t, heap()-first, 2e6, "bytes")
}

// TestProcessesStopAndCrash: what people do to a process or a link by hand is that of a
// scenario, is shown, is healed, and is kept.
func TestProcessesStopAndCrash(t *testing.T) {
	r := started(t, rehearsal.Plan{Graph: compiled(t, `ironweir: topology/1
name: processes
nodes:
  work: {kind: queue, lease: 30s, links: {do: {read: {settle: reject}}}}
  do: {kind: function, takes: 20s}
`), Pace: 500})
	send := func() {
		_, err := r.Event("tester", &sim.InputEvent{Node: "work"})
		require.NoError(t, err)
	}
	require.NoError(t, r.Incident("tester", map[string]any{"node": "do", "stopped": true}))
	send()
	s := until(t, r, "the message waits", func(s *rehearsal.State) bool { return s.Now > 20 })
	require.True(t, s.Nodes["do"].Stopped)
	require.Zero(t, s.Nodes["do"].Runs)
	require.Equal(t, int64(1), s.Nodes["work"].Depth)
	require.False(t, s.Links["work:do"].Paused, "nobody has paused it")
	require.NoError(t, r.Heal("tester", "do"))
	until(
		t,
		r,
		"it runs",
		func(s *rehearsal.State) bool { return s.Nodes["do"].Running == 1 && !s.Nodes["do"].Stopped },
	)
	require.NoError(t, r.Incident("tester", map[string]any{"node": "do", "crash": true}))
	until(
		t,
		r,
		"it is redelivered at once",
		func(s *rehearsal.State) bool { return s.Nodes["do"].Runs == 2 && s.Nodes["do"].Failures == 1 },
	)
	until(t, r, "and handled", func(s *rehearsal.State) bool { return s.Nodes["work"].Handled == 1 })
	require.NoError(t, r.Incident("tester", map[string]any{"link": "work:do", "enabled": false}))
	send()
	s, err := r.State()
	require.NoError(t, err)
	require.True(t, s.Links["work:do"].Off)
	require.NoError(t, r.Heal("tester", ""))
	s = until(t, r, "both are handled", func(s *rehearsal.State) bool { return s.Nodes["work"].Handled == 2 })
	require.False(t, s.Links["work:do"].Off)
	require.Equal(t, int64(3), s.Nodes["do"].Runs)
	kept, err := r.Keep("again", true)
	require.NoError(t, err)
	for _, field := range []string{"stopped: true", "crash: true", "enabled: false"} {
		require.Contains(t, string(kept.Scenario), field)
	}
	require.ErrorContains(t, r.Incident("tester", map[string]any{"node": "work", "crash": true}), "runs no process")
}

// TestPointing: viewers see where others point, until they point nowhere.
func TestPointing(t *testing.T) {
	r := started(t, rehearsal.Plan{Graph: compiled(t, line)})
	states, stop, err := r.Watch("ann")
	require.NoError(t, err)
	defer stop()
	shows := func(want ...rehearsal.Pointer) {
		require.Eventually(t, func() bool {
			s := rehearsal.State{}
			require.NoError(t, json.Unmarshal(<-states, &s))
			return slices.Equal(want, s.Pointers)
		}, patience, time.Millisecond)
	}
	require.NoError(t, r.Point("cleo", rehearsal.Pointer{Node: "work", X: 3, Y: -4}))
	require.NoError(t, r.Point("ben", rehearsal.Pointer{Node: "work", X: 1, Y: 2}))
	shows(rehearsal.Pointer{Who: "ben", Node: "work", X: 1, Y: 2}, rehearsal.Pointer{Who: "cleo", Node: "work", X: 3, Y: -4})
	require.NoError(t, r.Point("ben", rehearsal.Pointer{Node: ""}))
	shows(rehearsal.Pointer{Who: "cleo", Node: "work", X: 3, Y: -4})
	require.NoError(t, r.Point("cleo", rehearsal.Pointer{Node: "no-such-node"}))
	shows()
}
