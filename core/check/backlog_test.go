package check_test

import (
	"os"
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
