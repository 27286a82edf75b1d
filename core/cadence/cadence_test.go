package cadence

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func fires(t *testing.T, text, layout, zone, from string, n int) []string {
	t.Helper()
	c, err := Parse(text, layout, 0)
	require.NoError(t, err)
	loc, err := time.LoadLocation(zone)
	require.NoError(t, err)
	at, err := time.Parse(time.RFC3339, from)
	require.NoError(t, err)
	var out []string
	for range n {
		next, ok := c.Next(at, loc)
		require.True(t, ok)
		out = append(out, next.UTC().Format("01-02T15:04:05Z"))
		at = next
	}
	return out
}

// [SC-03] [SC-04] [SC-06] [FO-12] The clocks of Europe/London went forward on 29 March 2026 at 01:00 UTC, and
// back on 25 October 2026 at 01:00 UTC.
func TestClockChanges(t *testing.T) {
	for _, c := range []struct {
		says, text, from string
		want             []string
	}{
		{"a fixed hour in the gap fires once, at its end", "30 1 * * *", "2026-03-28T12:00:00Z", []string{"03-29T01:00:00Z", "03-30T00:30:00Z"}},
		{"several in the gap fire once", "0,30 1 * * *", "2026-03-28T12:00:00Z", []string{"03-29T01:00:00Z", "03-30T00:00:00Z"}},
		{"a fixed hour that comes twice fires the first time", "30 1 * * *", "2026-10-24T12:00:00Z", []string{"10-25T00:30:00Z", "10-26T01:30:00Z"}},
		{"every hour in spring: nothing extra", "30 * * * *", "2026-03-28T23:45:00Z", []string{"03-29T00:30:00Z", "03-29T01:30:00Z", "03-29T02:30:00Z"}},
		{"every hour in autumn: both", "30 * * * *", "2026-10-24T23:45:00Z", []string{"10-25T00:30:00Z", "10-25T01:30:00Z", "10-25T02:30:00Z"}},
		{"a step of hours follows elapsed time", "0 */2 * * *", "2026-10-24T22:30:00Z", []string{"10-24T23:00:00Z", "10-25T02:00:00Z"}},
		{"the closing at 04:30 is not touched", "30 4 * * *", "2026-03-28T12:00:00Z", []string{"03-29T03:30:00Z", "03-30T03:30:00Z"}},
	} {
		require.Equal(t, c.want, fires(t, c.text, "standard", "Europe/London", c.from, len(c.want)), c.says)
	}
}

func TestFields(t *testing.T) {
	from := "2026-03-01T00:00:00Z"
	require.Equal(t, []string{"03-31T00:00:00Z", "04-30T00:00:00Z"}, fires(t, "0 0 L * *", "standard", "UTC", from, 2))
	require.Equal(t, []string{"03-28T00:00:00Z"}, fires(t, "0 0 L-3 * *", "standard", "UTC", from, 1))
	require.Equal(
		t,
		[]string{"03-16T00:00:00Z"},
		fires(t, "0 0 15W * *", "standard", "UTC", from, 1),
		"the 15th is a Sunday",
	)
	require.Equal(
		t,
		[]string{"03-27T00:00:00Z", "04-24T00:00:00Z"},
		fires(t, "0 0 ? * 5L", "standard", "UTC", from, 2),
		"the last Friday",
	)
	require.Equal(t, []string{"03-09T00:00:00Z"}, fires(t, "0 0 ? * MON#2", "standard", "UTC", from, 1))
	require.Equal(
		t,
		[]string{"03-01T00:00:10Z", "03-01T00:00:40Z"},
		fires(t, "10/30 * * * * *", "with-seconds", "UTC", from, 2),
	)
	require.Equal(
		t,
		[]string{"03-06T09:00:00Z", "03-13T09:00:00Z", "03-13T09:00:00Z"}[:2],
		fires(t, "0 9 ? * FRI", "standard", "UTC", from, 2),
	)
	require.Equal(
		t,
		[]string{"03-01T00:00:00Z", "03-07T00:00:00Z", "03-08T00:00:00Z"},
		fires(t, "0 0 * * 6-7", "standard", "UTC", "2026-02-28T12:00:00Z", 3),
	)
	require.Equal(t, "at 01:30, on day 15 of the month, or on Friday", mustParse(t, "30 1 15 * 5").Words())
	require.Equal(t, "every 15 minutes", mustParse(t, "*/15 * * * *").Words())
	text, ok := mustParse(t, "30 4 * * *").In("with-both", 0)
	require.True(t, ok)
	require.Equal(t, "0 30 4 * * * *", text)
}

func mustParse(t *testing.T, text string) *Calendar {
	t.Helper()
	c, err := Parse(text, "standard", 0)
	require.NoError(t, err)
	return c
}

func TestRefusals(t *testing.T) {
	for text, part := range map[string]string{
		"* * * *":       "has 4 fields",
		"0 30 4 * * *":  "it fits `cron-fields: with-seconds`",
		"60 * * * *":    "outside 0 to 59",
		"5-1 * * * *":   "runs backwards",
		"*/0 * * * *":   "step",
		"0 0 30 2 *":    "can never fire",
		"0 0 ? * ?":     "leaves both day and weekday open",
		"0 0 * FOO *":   "neither a number nor a name",
		"0 0 * * MON#6": "1 to 5",
	} {
		_, err := Parse(text, "standard", 0)
		require.ErrorContains(t, err, part, text)
	}
}

// TestAgainstEachMinute compares Next with a search through every minute: an
// instant fires when its wall time fits, or, for fixed hours, when it ends a
// gap that a fitting wall time fell into; and not when that wall time has been.
func TestAgainstEachMinute(t *testing.T) {
	zones := []string{"UTC", "Europe/London", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu"}
	rapid.Check(t, func(t *rapid.T) {
		pick := func(label string, options ...string) string { return rapid.SampledFrom(options).Draw(t, label) }
		text := pick(
			"minute",
			"0",
			"30",
			"*/20",
			"5,35",
			"15-45/15",
		) + " " + pick(
			"hour",
			"*",
			"*/3",
			"0",
			"1",
			"2",
			"1,2,3",
			"22-23",
		) + " " +
			pick(
				"day",
				"*",
				"29",
				"25-31",
				"L",
			) + " " + pick(
			"month",
			"*",
			"3,10",
			"4-11",
		) + " " + pick(
			"weekday",
			"*",
			"SUN",
			"1-5",
			"0,6",
		)
		c, err := Parse(text, "standard", 0)
		if err != nil {
			t.Skip()
		}
		zone, err := time.LoadLocation(pick("zone", zones...))
		require.NoError(t, err)
		start := time.Date(
			2026,
			time.Month(rapid.SampledFrom([]int{3, 4, 10, 11}).Draw(t, "m")),
			rapid.IntRange(1, 28).Draw(t, "d"),
			12,
			0,
			0,
			0,
			time.UTC,
		)
		end := start.Add(4 * 24 * time.Hour)
		var want []time.Time
		for at := start.Add(time.Minute); at.Before(end); at = at.Add(time.Minute) {
			if bruteFires(c, at, zone) {
				want = append(want, at)
			}
		}
		at := start
		for _, w := range want {
			next, ok := c.Next(at, zone)
			require.True(t, ok)
			require.Equal(t, w.UTC().String(), next.UTC().String(), "%s in %s after %s", text, zone, at)
			at = next
		}
		if next, ok := c.Next(at, zone); ok {
			require.False(t, next.Before(end), "%s in %s: %s is one too many", text, zone, next.UTC())
		}
	})
}

func bruteFires(c *Calendar, at time.Time, zone *time.Location) bool {
	fits := func(wall time.Time) bool {
		return c.minute.has(wall.Minute()) && c.hour.has(wall.Hour()) && c.month.has(int(wall.Month())) && c.onDay(wall)
	}
	now, before := wallClock(at, zone), wallClock(at.Add(-time.Minute), zone)
	if c.elapsed {
		return fits(now)
	}
	for wall := before.Add(time.Minute); wall.Before(now); wall = wall.Add(time.Minute) { // a gap
		if fits(wall) {
			return true
		}
	}
	if !fits(now) {
		return false
	}
	for back := time.Minute; back <= 3*time.Hour; back += time.Minute { // has this wall time been?
		if wallClock(at.Add(-back), zone).Equal(now) {
			return false
		}
	}
	return true
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"*/15 * * * *", "0 0 L * ?", "0 0 15W * *", "1-5/2 1,2 * JAN MON#2", "0 30 4 * * * *"} {
		f.Add(s, 0)
	}
	f.Fuzz(func(t *testing.T, text string, sunday int) {
		for _, layout := range Layouts {
			if c, err := Parse(text, layout, sunday&1); err == nil {
				c.Words()
				c.Next(time.Unix(1.7e9, 0), time.UTC)
			}
		}
	})
}
