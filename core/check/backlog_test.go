package check_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/check"
	"ironweir/core/document"
)

// TestABacklogIsGivenUp: where `give-up` ends before the retention, what overloaded readers
// have no time for is parked, not lost, and the finding says so.
func TestABacklogIsGivenUp(t *testing.T) {
	text, err := os.ReadFile("../verify/testdata/backlog-given-up.yaml")
	require.NoError(t, err)
	doc := check.Run(largeGraph(t, string(text)), nil, document.Head{}, today)
	for _, entry := range []string{"bookings", "gauges"} {
		e := doc.Entries[entry]
		require.Zero(t, *e.LossProbability, entry)
		require.InDelta(t, 0.8, *e.Parked, 1e-9, entry) // 1.2 of 6 a minute are read
	}
	require.InDelta(t, 0.08, *doc.Capacity["aside"].Rate, 1e-9)
	said := 0
	for _, f := range doc.Findings {
		if f.Code == "IW501" {
			said++
			require.Contains(t, f.Message, "until what is older than 10m is given up")
		}
	}
	require.Equal(t, 2, said)
}

// TestGroupsThatAreNotKnownAreSaid: that the messages of a grouped queue are of many groups
// is taken for granted where nothing states them, and said.
func TestGroupsThatAreNotKnownAreSaid(t *testing.T) {
	assumed := func(keys string) []string {
		return checked(t, modelDocument(t, "nodes:\n"+
			"  bookings: {kind: queue, rate: 30/m, "+keys+
			"order: grouped, group: event.subject, links: {book: {}}}\n"+
			"  book: {kind: function, fails: 30%}\n")).Entries["bookings"].Assumptions
	}
	const many = "messages are taken to be of many groups, so that one that fails holds few others up"
	require.Contains(t, assumed(""), many)
	require.NotContains(t, assumed("keys: [lane-7], "), many)
}

// TestWhatWasHeldUpComesAtOnce: an outage of five hours is tolerated by the first queue,
// but the readers of the next one, which have 72 messages an hour times two, cannot take
// what gathers in 3.6 hours before it has waited there for one; with four they can.
func TestWhatWasHeldUpComesAtOnce(t *testing.T) {
	held := func(readers string) (said []string) {
		doc := checked(t, modelDocument(t, "nodes:\n"+
			"  desk: {kind: endpoint, rate: 40/h, links: {bookings: {}}}\n"+
			"  bookings: {kind: queue, retention: 5h, links: {lots: {}}}\n"+
			"  lots: {kind: queue, retention: 1h, links: {office: {read: {parallel: "+readers+"}}}}\n"+
			"  office: {kind: outside, takes: 50s}\n"))
		for _, f := range doc.Findings {
			if strings.Contains(f.Message, "what was held up then comes at once") {
				require.Contains(t, f.Message, "bookings:lots/stopped")
				said = append(said, f.Message)
			}
		}
		return said
	}
	two := held("2")
	require.Len(t, two, 1)
	require.Contains(t, two[0], "lost at `lots:office` after 3h36m")
	require.Empty(t, held("4"))
}

// TestAQueueThatIsNearlyFull: one that hides each of 30 messages a minute for a minute holds
// 30 on average. With room for 31 it is full for Erlang's B of 31 places and a load of 30,
// which is what a run of Poisson arrivals loses; with room for 60, hardly ever.
func TestAQueueThatIsNearlyFull(t *testing.T) {
	lost := func(capacity string) (float64, string) {
		doc := checked(t, modelDocument(t, "nodes:\n"+
			"  bookings: {kind: queue, rate: 30/m, delay: 1m, capacity: "+capacity+", "+
			"links: {book: {read: {parallel: 4}}}}\n"+
			"  book: {kind: function, takes: 1s}\n"))
		e := doc.Entries["bookings"]
		return *e.LossProbability, string(e.Basis["loss_probability"])
	}
	full := 1.0
	for places := 1.0; places <= 31; places++ {
		full = 30 * full / (places + 30*full)
	}
	share, basis := lost("31")
	require.InDelta(t, full, share, 0.01)
	require.Equal(t, "at_most", basis)
	share, _ = lost("60")
	require.Less(t, share, 1e-4)
}
