package cadence_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/robfig/cron/v3"
	"github.com/stretchr/testify/require"

	"ironweir/core/cadence"
)

// drawField makes a random field of an expression.
func drawField(r *rand.Rand, low, high int) string {
	one := func() string {
		a := low + r.IntN(high-low+1)
		switch r.IntN(6) {
		case 0:
			b := a + r.IntN(high-a+1)
			return fmt.Sprintf("%d-%d", a, b)
		case 1:
			b := a + r.IntN(high-a+1)
			return fmt.Sprintf("%d-%d/%d", a, b, 1+r.IntN(5))
		case 2:
			return fmt.Sprintf("*/%d", 1+r.IntN(high-low))
		}
		return fmt.Sprint(a)
	}
	if r.IntN(3) == 0 {
		return "*"
	}
	list := []string{one()}
	for r.IntN(3) == 0 {
		list = append(list, one())
	}
	return strings.Join(list, ",")
}

// clockChanges reports whether a zone's offset differs within a day and a half of
// an instant. There the two implementations follow different rules.
func clockChanges(t time.Time, zone *time.Location) bool {
	_, before := t.Add(-36 * time.Hour).In(zone).Zone()
	_, after := t.Add(36 * time.Hour).In(zone).Zone()
	return before != after
}

// TestAgainstAnotherImplementation compares the next instants of 10,000 random
// expressions, in random zones from random instants, with those of a cron library
// that shares no code with this one.
func TestAgainstAnotherImplementation(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 11))
	var zones []*time.Location
	for _, name := range []string{"UTC", "Europe/London", "Europe/Oslo", "America/New_York", "Asia/Kolkata",
		"Australia/Lord_Howe", "Pacific/Auckland", "America/St_Johns", "Africa/Cairo", "Asia/Kathmandu"} {
		z, err := time.LoadLocation(name)
		require.NoError(t, err)
		zones = append(zones, z)
	}
	parser := cron.NewParser(cron.Second | cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow)
	compared, never := 0, 0
	for k := range 10_000 {
		fields := []string{
			drawField(r, 0, 59),
			drawField(r, 0, 23),
			drawField(r, 1, 31),
			drawField(r, 1, 12),
			drawField(r, 0, 6),
		}
		layout, theirs := "standard", "0 "+strings.Join(fields, " ")
		if k%4 == 0 {
			fields = append([]string{drawField(r, 0, 59)}, fields...)
			layout, theirs = "with-seconds", strings.Join(fields, " ")
		}
		text := strings.Join(fields, " ")
		zone := zones[r.IntN(len(zones))]
		other, err := parser.Parse(theirs)
		require.NoError(t, err, text)
		ours, err := cadence.Parse(text, layout, 0)
		at := time.Date(
			2020+r.IntN(20),
			time.Month(1+r.IntN(12)),
			1+r.IntN(28),
			r.IntN(24),
			r.IntN(60),
			r.IntN(60),
			0,
			zone,
		)
		if err != nil { // it can never fire
			require.True(t, other.Next(at).IsZero(), "%s: %v", text, err)
			never++
			continue
		}
		for range 3 {
			want := other.Next(at)
			got, ok := ours.Next(at, zone)
			if want.IsZero() { // it looks five years ahead, and no further
				require.True(t, !ok || got.Sub(at) > 4*365*24*time.Hour, "%s after %s in %s: %s", text, at, zone, got)
				break
			}
			require.True(t, ok, "%s after %s in %s: never, the other %s", text, at, zone, want)
			if clockChanges(want, zone) || clockChanges(got, zone) || clockChanges(at, zone) {
				break
			}
			require.True(t, want.Equal(got), "%s after %s in %s: %s, the other %s", text, at, zone, got, want)
			compared++
			at = want
		}
	}
	require.Greater(t, compared, 20_000)
	t.Logf("%d instants agree, %d expressions can never fire", compared, never)
}
