package sim_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// yard is a model of which each message waits somewhere in a way of its own.
const yard = `nodes:
  slips:
    kind: queue
    lease: 1m
    retention: 1h
    links: {check: {read: {parallel: 1}, retry: {tries: 2, wait: 10s}, dead-letter: aside}}
  check: {kind: function, takes: 5s, links: {rows: {}}}
  rows: {kind: table, takes: 3s}
  aside: {kind: queue}
  later: {kind: queue, delay: 30s, links: {log: {}}}
  log: {kind: function, takes: 1s}
  lanes: {kind: queue, order: grouped, group: event.subject, links: {log-lane: {}}}
  log-lane: {kind: function, takes: 8s}
  scans: {kind: stream, partitions: 1, links: {pack: {read: {up-to: 5, within: 20s}}}}
  pack: {kind: function, takes: 1s}
  news: {kind: topic, links: {rows: {}}}
  tide: {kind: schedule, every: 1h, enabled: false, links: {log: {}}}
`

// open makes a live run without traffic of its own.
func open(t *testing.T, g *graph.Graph) *sim.Live {
	t.Helper()
	l, err := sim.NewLive(sim.LivePlan{
		Plan: sim.Plan{Graph: g, Scenario: scenarioOf(t, g, "length: 2h\ntraffic: {}\n"), Audit: true},
	})
	require.NoError(t, err)
	return l
}

func bring(t *testing.T, l *sim.Live, node, subject string) uint64 {
	t.Helper()
	out, err := l.Put(&sim.Input{At: l.Now(), Event: &sim.InputEvent{Node: node, Subject: subject}})
	require.NoError(t, err)
	require.False(t, out.Rejected)
	return out.Journey
}

func advance(t *testing.T, l *sim.Live, by time.Duration) {
	t.Helper()
	there, err := l.Advance(l.Now()+by, 1<<40)
	require.NoError(t, err)
	require.True(t, there)
}

// TestWhatRestsSaysHowItStands: in a word or two, for each way to wait.
func TestWhatRestsSaysHowItStands(t *testing.T) {
	g := compile(t, yard)
	l := open(t, g)
	states := func(node string) []string {
		list, all, err := l.Resting(node)
		require.NoError(t, err)
		require.Equal(t, all, len(list))
		var out []string
		for _, r := range list {
			out = append(out, r.State)
		}
		return out
	}
	for _, subject := range []string{"a", "b"} {
		bring(t, l, "slips", subject)
	}
	bring(t, l, "later", "c")
	bring(t, l, "lanes", "d")
	bring(t, l, "lanes", "d")
	bring(t, l, "scans", "e")
	advance(t, l, time.Second)
	require.Equal(t, []string{"in a run", "ready"}, states("slips"))
	require.Equal(t, []string{"not visible yet"}, states("later"))
	require.Equal(t, []string{"in a run", "blocked by its group"}, states("lanes"))
	require.Equal(t, []string{"in a batch"}, states("scans"))
	bring(t, l, "news", "f")
	advance(t, l, time.Second)
	require.Equal(t, []string{"being written"}, states("rows"))

	_, err := l.Put(&sim.Input{At: l.Now(), Incident: incident(t, g, "down", "node: check, fails: 100%")})
	require.NoError(t, err)
	advance(t, l, 3*time.Minute)
	require.Equal(t, []string{"stored here"}, states("aside"), "the second message was given up after two tries")
	_, _, err = l.Resting("nowhere")
	require.ErrorContains(t, err, `no node "nowhere"`)
}

// TestTheStateOfALiveRun says what an incident has changed, and for how long.
func TestTheStateOfALiveRun(t *testing.T) {
	g := compile(t, yard)
	l := open(t, g)
	node := func(name string) sim.LiveNode { return l.State().Nodes[g.NodeID(name)] }
	link := func(name string) sim.LiveLink { return l.State().Links[g.LinkID(name)] }
	require.Equal(t, sim.LiveNode{Fails: -1, Slow: 1, Concurrency: -1}, node("check"))
	require.True(t, node("tide").Off, "its schedule is switched off")
	put := func(name, text string) {
		_, err := l.Put(&sim.Input{At: l.Now(), Incident: incident(t, g, name, text)})
		require.NoError(t, err)
	}
	put("weak", "node: check, fails: 40%, slow: 3")
	put("narrow", "node: check, concurrency: 2")
	put("still", "node: check, stopped: true")
	put("held", "link: lanes:log-lane, paused: true")
	put("on", "node: tide, enabled: true")
	require.Equal(t, sim.LiveNode{Fails: 0.4, Slow: 3, Concurrency: 2, Stopped: true}, node("check"))
	require.False(t, node("tide").Off)
	require.Equal(t, sim.LiveLink{Paused: true}, link("lanes:log-lane"))
	put("worse", "node: check, fails: 90%")
	require.Equal(t, 0.9, node("check").Fails, "of two the later one holds")
	_, err := l.Put(&sim.Input{At: l.Now(), End: []string{"worse", "narrow", "still", "held", "on"}})
	require.NoError(t, err)
	require.Equal(t, sim.LiveNode{Fails: 0.4, Slow: 3, Concurrency: -1}, node("check"))
	require.True(t, node("tide").Off)
	require.Equal(t, sim.LiveLink{}, link("lanes:log-lane"))

	bring(t, l, "lanes", "a")
	advance(t, l, time.Second)
	s := l.State()
	require.EqualValues(t, 1, s.Entered)
	require.EqualValues(t, 1, s.Underway)
	require.EqualValues(t, 1, s.Links[g.LinkID("lanes:log-lane")].Matched)
	require.EqualValues(t, 1, node("log-lane").Active)
	require.Equal(t, time.Second, node("lanes").Oldest)
}

// TestMessagesAreMoved out of where they lie: to another node, or away; each counts as dealt with.
func TestMessagesAreMoved(t *testing.T) {
	g := compile(t, yard)
	l := open(t, g)
	for _, subject := range []string{"a", "b", "c"} {
		bring(t, l, "aside", subject)
	}
	list, _, err := l.Resting("aside")
	require.NoError(t, err)
	ev, err := l.Message(list[1].Message)
	require.NoError(t, err)
	require.Equal(t, "b", ev["subject"])
	move := func(id uint64, to string) error {
		_, err := l.Put(&sim.Input{At: l.Now(), Move: &sim.Move{Message: id, To: to}})
		return err
	}
	require.ErrorContains(t, move(list[0].Message, "nowhere"), `no node "nowhere"`)
	require.NoError(t, move(list[0].Message, "slips"))
	require.NoError(t, move(list[1].Message, ""))
	require.ErrorContains(t, move(list[1].Message, ""), "is not there")
	advance(t, l, time.Second)
	busy, _, err := l.Resting("slips")
	require.NoError(t, err)
	require.ErrorContains(t, move(busy[0].Message, ""), "is worked on just now")
	advance(t, l, time.Minute)
	r, err := l.Result()
	require.NoError(t, err)
	aside := r.Nodes[g.NodeID("aside")]
	require.EqualValues(t, 1, aside.Fates[sim.Passed])
	require.EqualValues(t, 1, aside.Fates[sim.Handled])
	require.EqualValues(t, 1, aside.Fates[sim.Arrived])
	require.EqualValues(t, 1, r.Nodes[g.NodeID("rows")].Fates[sim.Stored])
}

// TestWhatCannotBePutIn is refused before it changes anything.
func TestWhatCannotBePutIn(t *testing.T) {
	g := compile(t, yard)
	l := open(t, g)
	before := l.State()
	for want, in := range map[string]*sim.Input{
		"nothing to put in":                   {},
		`no node "nowhere"`:                   {Event: &sim.InputEvent{Node: "nowhere"}},
		`no active incident is named "flood"`: {End: []string{"flood"}},
		"message 77 is not there":             {Move: &sim.Move{Message: 77}},
		"the scenario is over: it lasts 2h":   {At: 3 * time.Hour, Event: &sim.InputEvent{Node: "slips"}},
		"a reader cannot be rewound":          {Incident: &model.Incident{Rewind: &model.Rewind{}}},
	} {
		_, err := l.Put(in)
		require.ErrorContains(t, err, want)
	}
	require.Equal(t, before, l.State())
}

// TestWhereToSendBack: to the nodes whose dead letters, or failures, come to a node.
func TestWhereToSendBack(t *testing.T) {
	l := open(t, compile(t, `nodes:
  slips: {kind: queue, links: {check: {dead-letter: aside}}}
  check: {kind: function, dead-letter: aside, links: {lost: {to: aside, when: failure}}}
  news: {kind: topic, links: {mail: {dead-letter: aside}}}
  mail: {kind: function}
  tide: {kind: schedule, every: 1h, links: {mail: {dead-letter: spare}}}
  aside: {kind: queue}
  spare: {kind: queue}
`))
	require.Equal(t, []string{"slips", "check", "mail"}, l.SendBackTargets("aside"))
	require.Equal(t, []string{"mail"}, l.SendBackTargets("spare"))
	require.Empty(t, l.SendBackTargets("slips"))
}

// TestEachStepIsSaid: what happens next, in the words of the trade.
func TestEachStepIsSaid(t *testing.T) {
	l := open(t, compile(t, yard))
	bring(t, l, "slips", "a")
	var said []string
	for {
		words, err := l.Step()
		require.NoError(t, err)
		if words == "" {
			break
		}
		said = append(said, words)
	}
	require.Equal(t, []string{
		"the readers of slips receive what is visible",
		"a run of check continues", // it has worked, and writes
		"a run of check continues", // it has written
		"rows passes a message to its links",
	}, said, "not its time limit, nor its lease, nor a schedule that is switched off")
	require.Equal(t, 8*time.Second, l.Now())
}

// TestAStepPassesOverTimersWithoutEffect: the retention of a message that was taken away ends, and only then is the one
// set of the message that came after it.
func TestAStepPassesOverTimersWithoutEffect(t *testing.T) {
	g := compile(t, yard)
	l := open(t, g)
	put := func(in *sim.Input) {
		in.At = l.Now()
		_, err := l.Put(in)
		require.NoError(t, err)
	}
	put(&sim.Input{Incident: incident(t, g, "held", "link: slips:check, paused: true")})
	bring(t, l, "slips", "a")
	advance(t, l, 10*time.Minute)
	bring(t, l, "slips", "b")
	list, _, err := l.Resting("slips")
	require.NoError(t, err)
	put(&sim.Input{Move: &sim.Move{Message: list[0].Message}})
	words, err := l.Step()
	require.NoError(t, err)
	require.Equal(t, "a retention of slips ends", words)
	require.InDelta(t, 70*time.Minute, l.Now(), float64(time.Second), "that of b, not the hour of a")
	require.EqualValues(t, 1, l.State().Lost)
	words, err = l.Step()
	require.NoError(t, err)
	require.Empty(t, words)
	r, err := l.Result()
	require.NoError(t, err)
	oldest := r.Nodes[g.NodeID("slips")].Oldest // looked at when the series take a point
	require.InDelta(t, 3600, oldest, 100, "seconds")
}

// TestTheLatestJourneysAreRecorded: a hundred of them, each as far as it has come.
func TestTheLatestJourneysAreRecorded(t *testing.T) {
	l := open(t, compile(t, yard))
	first := bring(t, l, "aside", "0")
	for range sim.MaxTraced - 1 {
		bring(t, l, "aside", "x")
	}
	j, recorded := l.Trail(first)
	require.True(t, recorded)
	require.Equal(t, "aside", j.Entry)
	require.Equal(t, "0", j.Key)
	require.Equal(t, "complete", j.Outcome)
	underway := bring(t, l, "slips", "late")
	_, recorded = l.Trail(first)
	require.False(t, recorded, "the oldest is forgotten")
	advance(t, l, time.Second)
	j, recorded = l.Trail(underway)
	require.True(t, recorded)
	require.Equal(t, "in_flight", j.Outcome)
	require.Equal(t, 1, j.Copies)
	advance(t, l, time.Minute)
	j, _ = l.Trail(underway)
	require.Equal(t, "complete", j.Outcome)
	require.Equal(t, 2, j.Copies)
}
