package cadence_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/cadence"
)

// TestParseWords reads what people write, and says of what it cannot read which word that is.
func TestParseWords(t *testing.T) {
	for words, want := range map[string]cadence.Recurrence{
		"every 5 minutes":                       {Every: 5 * time.Minute},
		"every 90s":                             {Every: 90 * time.Second},
		"Every minute":                          {Every: time.Minute},
		"hourly":                                {Every: time.Hour},
		"every 2 days":                          {Every: 48 * time.Hour},
		"every weekday at 6":                    {Cron: "0 6 * * MON-FRI"},
		"every day at 6:30 and 18:30":           {Cron: "30 6,18 * * *"},
		"daily at 6pm":                          {Cron: "0 18 * * *"},
		"at 6 pm on weekdays":                   {Cron: "0 18 * * MON-FRI"},
		"at noon":                               {Cron: "0 12 * * *"},
		"at 12am every day":                     {Cron: "0 0 * * *"},
		"Mondays and Thursdays at 9, 13 and 17": {Cron: "0 9,13,17 * * MON,THU"},
		"every mon, wed, fri at 7":              {Cron: "0 7 * * MON,WED,FRI"},
		"Tuesday to Friday at 23:05":            {Cron: "5 23 * * TUE-FRI"},
		"on the 1st at midnight":                {Cron: "0 0 1 * *"},
		"at 8 on the 1st and the 15th of every month": {Cron: "0 8 1,15 * *"},
		"on the last day of the month at 18:00":       {Cron: "0 18 L * *"},
		"on the first Monday of the month at 9":       {Cron: "0 9 * * MON#1"},
		"on the last friday at 17":                    {Cron: "0 17 * * FRIL"},
		"every hour at minute 15":                     {Cron: "15 * * * *"},
		"at minute 0 and minute 30":                   {Cron: "0,30 * * * *"},
		"every day at 6 in January and July":          {Cron: "0 6 * 1,7 *"},
		"weekends at 10":                              {Cron: "0 10 * * SAT,SUN"},
		"every Sunday":                                {Cron: "0 0 * * SUN"},
	} {
		got, err := cadence.ParseWords(words)
		require.NoError(t, err, words)
		require.Equal(t, want, got, words)
	}
	for words, why := range map[string]string{
		"":                           "say when it fires",
		"soon":                       `"soon" is not understood`,
		"every 5":                    "something is missing",
		"every 5 parsecs":            `"parsecs" is not understood`,
		"every weekday at 25":        `"25" is not understood`,
		"every weekday at":           "something is missing",
		"every day at 6:15 and 7:30": "a schedule each",
		"every 5 minutes at 6":       "an interval knows no days and times",
		"on the 32nd at 6":           "31 days",
		"on the 9th Monday at 6":     "five of them",
		"every Monday on the 1st":    "two schedules",
		"every hour at 6":            "one of the two",
		"every 5 minutes every 2 h":  "it has two",
		"the last straw":             `"straw" is not understood`,
	} {
		_, err := cadence.ParseWords(words)
		require.ErrorContains(t, err, why, words)
	}
}

// TestWordsAreReadBack: what the calendar says of itself is read as the same calendar.
func TestWordsAreReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		minute := rapid.IntRange(0, 59).Draw(t, "minute")
		hour := rapid.SampledFrom([]string{"*", "0", "6", "6,18", "23"}).Draw(t, "hour")
		days := rapid.SampledFrom([]string{
			"* * *", "* * MON-FRI", "* * TUE,THU", "1 * *", "1,15 * *",
			"L * *", "* * MON#1", "* * FRIL", "* 1,7 *", "31 12 *",
		}).Draw(t, "days")
		expr := fmt.Sprintf("%d %s %s", minute, hour, days)
		written, err := cadence.Parse(expr, "standard", 0)
		require.NoError(t, err, expr)
		read, err := cadence.ParseWords(written.Words())
		require.NoError(t, err, "%s: %s", expr, written.Words())
		again, err := cadence.Parse(read.Cron, "standard", 0)
		require.NoError(t, err, read.Cron)
		require.Equal(t, written.Words(), again.Words())
		at := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
		for range 20 {
			a, ok := written.Next(at, time.UTC)
			b, same := again.Next(at, time.UTC)
			require.Equal(t, ok, same)
			require.Equal(t, a, b, "%s: %s, read as %s", expr, written.Words(), read.Cron)
			at = a
		}
	})
}

// FuzzParseWords: whatever is written, it is read or refused, and what is read can be used.
func FuzzParseWords(f *testing.F) {
	f.Add("every weekday at 6:30")
	f.Add("on the last 5th of the")
	f.Fuzz(func(t *testing.T, words string) {
		got, err := cadence.ParseWords(words)
		if err == nil {
			require.True(t, got.Every > 0 != (got.Cron != ""), words)
		}
	})
}
