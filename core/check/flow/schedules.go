package flow

import (
	"math"
	"time"

	"ironweir/core/cadence"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// CalendarOf gives the calendar and zone of a schedule by cron, or nil.
func CalendarOf(n *graph.Node) (*cadence.Calendar, *time.Location) {
	if !n.Kind.Fires() || n.Cron == "" {
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
	c, zone := CalendarOf(n)
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

// ShortestGap returns the least time between two firings of a schedule.
func (a *Analysis) ShortestGap(n *graph.Node) time.Duration {
	return remembered(a.memo.gaps, calendarKey(n), func() time.Duration { return gapOf(n) })
}

// FirstChange returns the first instant of a schedule that a clock change affects, if any.
func (a *Analysis) FirstChange(n *graph.Node) ChangedInstant {
	c, zone := CalendarOf(n)
	if c == nil {
		return ChangedInstant{Change: cadence.NoChange}
	}
	return remembered(a.memo.changes, calendarKey(n), func() ChangedInstant { return firstChanged(c, zone) })
}

// ChangedInstant is an instant that a clock change affects.
type ChangedInstant struct {
	At     time.Time
	Change cadence.Change
}

// firstChanged returns the first instant within a year that a clock change skips or
// repeats.
func firstChanged(c *cadence.Calendar, zone *time.Location) ChangedInstant {
	t := model.DefaultStart
	for range 1500 {
		next, ok := c.Next(t, zone)
		if !ok || next.Sub(model.DefaultStart) > 370*24*time.Hour {
			break
		}
		t = next
		if change := c.ChangeAt(t, zone); change != cadence.NoChange && change != cadence.Both {
			return ChangedInstant{t, change}
		}
	}
	return ChangedInstant{Change: cadence.NoChange}
}
