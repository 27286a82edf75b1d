package sim_test

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// drawGraph draws a topology whose nodes can be joined as drawn.
func drawGraph(t *rapid.T) *graph.Graph {
	m, err := model.Parse(
		"random.yaml",
		[]byte("ironweir: topology/1\nname: random\n"+drawTopology(t)),
		model.Options{},
	)
	if err != nil {
		t.Skip(err.Error())
	}
	g, err := graph.Compile(m)
	require.NoError(t, err)
	return g
}

func scenarioOf(t require.TestingT, g *graph.Graph, text string) *model.Scenario {
	s, err := model.ParseScenario("s.yaml", []byte("ironweir: scenario/1\n"+text), g.Topology)
	require.NoError(t, err)
	return s
}

func live(t require.TestingT, g *graph.Graph, s *model.Scenario, hooked map[string]bool) *sim.Live {
	l, err := sim.NewLive(
		sim.LivePlan{
			Plan:   sim.Plan{Graph: g, Scenario: s, Audit: true, Limits: sim.Limits{Events: 3_000}},
			Hooked: hooked,
		},
	)
	require.NoError(t, err)
	return l
}

// incident reads an incident as a scenario writes it.
func incident(t require.TestingT, g *graph.Graph, name, text string) *model.Incident {
	return scenarioOf(t, g, "incidents:\n  "+name+": {at: 0s, "+text+"}\n").Incidents[0]
}

func finish(t require.TestingT, l *sim.Live) *sim.Result {
	_, err := l.Advance(l.End(), 1<<40)
	require.NoError(t, err)
	r, err := l.Result()
	require.NoError(t, err)
	return r
}

// However a live run is paced, and looked at on the way, it is the run that it
// would have been at full speed.
func TestPaceChangesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g := drawGraph(t)
		s := scenarioOf(t, g, drawScenario(t))
		want, err := sim.Run(sim.Plan{Graph: g, Scenario: s, DisableFastPath: true, Limits: sim.Limits{Events: 3_000}})
		require.NoError(t, err)
		l := live(t, g, s, nil)
		for range rapid.IntRange(0, 12).Draw(t, "looks") {
			switch rapid.IntRange(0, 2).Draw(t, "what") {
			case 0:
				_, err := l.Advance(
					l.Now()+time.Duration(rapid.IntRange(0, 60_000).Draw(t, "ms"))*time.Millisecond,
					1<<40,
				)
				require.NoError(t, err)
			case 1:
				_, err := l.Step()
				require.NoError(t, err)
			case 2:
				l.State()
				for _, n := range g.Nodes {
					_, _, err := l.Resting(n.Name)
					require.NoError(t, err)
				}
			}
		}
		require.Equal(t, want, finish(t, l))
	})
}

// What was put in, put in again at the instants that were noted, gives the same,
// whatever is put in; and the ledger adds up after every event.
func TestInputsAgainGiveTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g := drawGraph(t)
		s := scenarioOf(t, g, drawScenario(t))
		hooked := map[string]bool{}
		for _, name := range []string{"press", "helper", "n0"} {
			hooked[name] = rapid.Bool().Draw(t, "hooked")
		}
		l := live(t, g, s, hooked)
		anyNode := func(label string) string {
			return g.Nodes[rapid.IntRange(0, len(g.Nodes)-1).Draw(t, label)].Name
		}
		var journal []sim.Input
		named := 0
		for range rapid.IntRange(1, 25).Draw(t, "inputs") {
			_, err := l.Advance(l.Now()+time.Duration(rapid.IntRange(0, 20_000).Draw(t, "ms"))*time.Millisecond, 1<<40)
			require.NoError(t, err)
			in := sim.Input{At: l.Now()}
			switch rapid.IntRange(0, 5).Draw(t, "what") {
			case 0, 1:
				in.Event = &sim.InputEvent{
					Node:    anyNode("into"),
					Subject: fmt.Sprint("s", rapid.IntRange(0, 3).Draw(t, "subject")),
					Size:    100,
					Data:    map[string]any{"n": 1.0},
				}
			case 2:
				named++
				name := fmt.Sprint("live-", named)
				text := rapid.SampledFrom(
					[]string{
						"node: press, fails: 100%",
						"node: press, slow: 3",
						"node: press, concurrency: 0",
						"link: line:press, paused: true",
						"send-back: {from: desk, to: line, rate: 2/s}",
						"node: tick, enabled: false",
					},
				).Draw(
					t,
					"incident",
				)
				in.Incident = incident(t, g, name, text)
			case 3:
				if named == 0 {
					continue
				}
				in.End = []string{fmt.Sprint("live-", rapid.IntRange(1, named).Draw(t, "end"))}
			case 4:
				list, _, err := l.Resting(anyNode("from"))
				require.NoError(t, err)
				if len(list) == 0 {
					continue
				}
				in.Move = &sim.Move{
					Message: list[0].Message,
					To:      rapid.SampledFrom([]string{"", "line", "desk", "n0"}).Draw(t, "to"),
				}
			case 5:
				asks := l.Pending()
				if len(asks) == 0 {
					continue
				}
				in.Reply = &sim.HookReply{
					Ask:   asks[0].ID,
					Error: rapid.SampledFrom([]string{"", "", "broken"}).Draw(t, "error"),
				}
				if rapid.Bool().Draw(t, "says") {
					in.Reply.Events = []sim.InputEvent{{Subject: "r", Size: 10}, {Type: "told", Size: 20}}
				}
			}
			if _, err := l.Put(&in); err == nil {
				journal = append(journal, in)
			}
		}
		at := l.Now()
		_, err := l.Advance(at, 1<<40) // what the last input sets off at its instant
		require.NoError(t, err)
		want := l.State()
		var text []byte
		text, err = json.Marshal(journal)
		require.NoError(t, err)
		var kept []sim.Input
		require.NoError(t, json.Unmarshal(text, &kept), "a journal is kept as text")
		again := live(t, g, s, hooked)
		for i := range kept {
			_, err := again.Put(&kept[i])
			require.NoError(t, err)
			require.Equal(t, journal[i].At, kept[i].At)
		}
		_, err = again.Advance(at, 1<<40)
		require.NoError(t, err)
		if want.Stopped == "" { // at a limit of events it may stand within an instant
			require.Equal(t, want, again.State())
		}
		require.Equal(t, finish(t, l), finish(t, again))
	})
}
