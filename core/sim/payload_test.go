package sim

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/graph"
	"ironweir/core/model"
)

func ran(t *testing.T, nodes string, count string) (*graph.Graph, *replication) {
	t.Helper()
	m, err := model.Parse("model.yaml", []byte("ironweir: topology/1\nname: case\n"+nodes), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	s, err := model.ParseScenario(
		"scenario.yaml",
		[]byte(
			"ironweir: scenario/1\nlength: 1h\ntraffic: {in: {into: t, rate: 1/s, arrivals: even, max: "+count+", key: \"{seq}\", events: [{data: {kg: 3}}]}}\n",
		),
		m,
	)
	require.NoError(t, err)
	e, err := newReplication(&Plan{Graph: g, Scenario: s})
	require.NoError(t, err)
	t.Cleanup(e.Close)
	require.NoError(t, e.Loop())
	return g, e
}

// TestPayloadsAreShared [PE-12]: four copies of a message have one content between them.
func TestPayloadsAreShared(t *testing.T) {
	_, e := ran(
		t,
		"nodes: {t: {kind: topic, links: {a: {}, b: {}, c: {}, d: {}}}, a: {kind: queue}, b: {kind: queue}, c: {kind: queue}, d: {kind: queue}}\n",
		"50",
	)
	require.Equal(t, 1+50, len(e.Contents), "the empty one, and one a message")
	require.EqualValues(t, 4, e.Contents[1].Refs)
}

// TestOnlyWhatIsReadIsCarried [PE-10] [PE-11]: where nothing reads payloads, runs that
// pass a message on share what it says and take the fast path; where something reads
// them, they do not.
func TestOnlyWhatIsReadIsCarried(t *testing.T) {
	const nodes = "nodes: {t: {kind: topic, links: {q: {}}}, q: {kind: queue, links: {f: {}}}, f: {kind: function, takes: 1ms%s, links: {out: {}}}, out: {kind: queue}}\n"
	g, e := ran(t, fmt.Sprintf(nodes, ""), "50")
	require.False(t, g.UsesData)
	require.EqualValues(t, 50, e.Tally.Fast)
	require.Equal(t, 1+50, len(e.Contents))
	g, e = ran(t, fmt.Sprintf(nodes, `, cases: {heavy: {if: "event.data.kg > 2 && event.id != ''", takes: 2ms}}`), "50")
	require.True(t, g.UsesData)
	require.Zero(t, e.Tally.Fast)
	require.Greater(t, len(e.Contents), 1+50, "an event of its own for each that a run sends")
}

// TestFinishedMessagesTakeNoMemory [SX-03]: ten times as many finished messages take no
// more records.
func TestFinishedMessagesTakeNoMemory(t *testing.T) {
	const nodes = "nodes: {t: {kind: topic, links: {q: {}}}, q: {kind: queue, links: {f: {}}}, f: {kind: function, takes: 1ms}}\n"
	_, few := ran(t, nodes, "100")
	_, many := ran(t, nodes, "1000")
	require.Equal(t, few.Copies.Count, many.Copies.Count)
	require.Equal(t, few.Journeys.Count, many.Journeys.Count)
	require.Equal(t, len(few.Contents), len(many.Contents))
}
