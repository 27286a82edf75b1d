package check

import (
	"math"
	"time"

	"ironweir/core/cadence"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// calendarOf gives the calendar and zone of a schedule by cron, or nil.
func calendarOf(n *graph.Node) (*cadence.Calendar, *time.Location) {
	if n.Kind != model.Schedule || n.Cron == "" {
		return nil, nil
	}
	c, err := cadence.Parse(n.Cron, n.CronFields, n.Sunday)
	zone, zoneErr := time.LoadLocation(n.Zone)
	if err != nil || zoneErr != nil {
		return nil, nil
	}
	return c, zone
}

// gapOf gives the least time between two fires, over the first thousand.
func gapOf(n *graph.Node) time.Duration {
	if n.Every > 0 {
		return n.Every
	}
	c, zone := calendarOf(n)
	if c == nil {
		return math.MaxInt64
	}
	gap := time.Duration(math.MaxInt64)
	last, ok := c.Next(model.DefaultStart, zone)
	for k := 0; ok && k < 1000; k++ {
		next, more := c.Next(last, zone)
		if !more {
			break
		}
		gap, last = min(gap, next.Sub(last)), next
	}
	return gap
}

// shortestGap returns the least time between two firings of a schedule.
func (a *Analysis) shortestGap(n *graph.Node) time.Duration {
	return remembered(a.memo.gaps, calendarKey(n), func() time.Duration { return gapOf(n) })
}

// firstChange returns the first instant of a schedule that a clock change affects, if any.
func (a *Analysis) firstChange(n *graph.Node) changedInstant {
	c, zone := calendarOf(n)
	if c == nil {
		return changedInstant{change: cadence.NoChange}
	}
	return remembered(a.memo.changes, calendarKey(n), func() changedInstant { return firstChanged(c, zone) })
}

// changedInstant is an instant that a clock change affects.
type changedInstant struct {
	at     time.Time
	change cadence.Change
}

// firstChanged returns the first instant within a year that a clock change skips or
// repeats.
func firstChanged(c *cadence.Calendar, zone *time.Location) changedInstant {
	t := model.DefaultStart
	for range 1500 {
		next, ok := c.Next(t, zone)
		if !ok || next.Sub(model.DefaultStart) > 370*24*time.Hour {
			break
		}
		t = next
		if change := c.ChangeAt(t, zone); change != cadence.NoChange && change != cadence.Both {
			return changedInstant{t, change}
		}
	}
	return changedInstant{change: cadence.NoChange}
}
