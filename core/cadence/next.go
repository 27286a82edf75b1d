package cadence

import "time"

// Next gives the first instant after `after` at which the calendar fires in
// the zone; ok is false when there is none before 2200.
//
// Fixed hours: a wall time that a clock change skips fires once at the end of
// the gap; one that it repeats fires once, the first time. An hour field of `*`
// or a step follows elapsed time: nothing extra in spring, both hours in
// autumn.
func (c *Calendar) Next(after time.Time, zone *time.Location) (next time.Time, ok bool) {
	after = after.Truncate(time.Second)
	if c.elapsed {
		return c.nextElapsed(after, zone)
	}
	wall := wallClock(after, zone)
	if _, before := after.Add(-26 * time.Hour).In(zone).Zone(); before != offset(after, zone) {
		wall = wall.Add(-26 * time.Hour)
	}
	for {
		if wall, ok = c.nextWall(wall); !ok {
			return time.Time{}, false
		}
		if t := instant(wall, zone); t.After(after) {
			return t, true
		}
	}
}

func (c *Calendar) nextElapsed(after time.Time, zone *time.Location) (time.Time, bool) {
	for {
		at := after.Add(time.Second) // the first instant that may fire
		off := time.Duration(offset(at, zone)) * time.Second
		wall, ok := c.nextWall(at.UTC().Add(off - time.Second))
		if !ok {
			return time.Time{}, false
		}
		t := wall.Add(-off)
		_, end := at.In(zone).ZoneBounds()
		if end.IsZero() || t.Before(end) {
			return t.In(zone), true
		}
		after = end.Add(-time.Second)
	}
}

func offset(t time.Time, zone *time.Location) int {
	_, o := t.In(zone).Zone()
	return o
}

// wallClock gives the local date and time, written as if it were UTC.
func wallClock(t time.Time, zone *time.Location) time.Time {
	return t.UTC().Add(time.Duration(offset(t, zone)) * time.Second)
}

// instant gives when a wall time happens: the first time if it happens twice,
// the end of the gap if it does not happen at all.
func instant(wall time.Time, zone *time.Location) time.Time {
	early := offset(wall.Add(-26*time.Hour), zone)
	late := offset(wall.Add(26*time.Hour), zone)
	a := wall.Add(-time.Duration(early) * time.Second)
	if offset(a, zone) == early {
		return a.In(zone)
	}
	b := wall.Add(-time.Duration(late) * time.Second)
	if offset(b, zone) == late {
		return b.In(zone)
	}
	start, _ := a.In(zone).ZoneBounds()
	return start.In(zone)
}

// nextWall gives the first wall time after `after` that fits the fields.
func (c *Calendar) nextWall(after time.Time) (time.Time, bool) {
	t := after.Add(time.Second)
	for t.Year() <= lastYear {
		y, mo, d := t.Date()
		if y < firstYear {
			t = time.Date(firstYear, 1, 1, 0, 0, 0, 0, time.UTC)
			continue
		}
		switch {
		case c.year != nil && !c.year[y-firstYear]:
			t = time.Date(y+1, 1, 1, 0, 0, 0, 0, time.UTC)
		case !c.month.has(int(mo)):
			t = time.Date(y, mo+1, 1, 0, 0, 0, 0, time.UTC)
		case !c.onDay(t):
			t = time.Date(y, mo, d+1, 0, 0, 0, 0, time.UTC)
		case !c.hour.has(t.Hour()):
			t = time.Date(y, mo, d, min(c.hour.from(t.Hour()), 24), 0, 0, 0, time.UTC)
		case !c.minute.has(t.Minute()):
			t = time.Date(y, mo, d, t.Hour(), min(c.minute.from(t.Minute()), 60), 0, 0, time.UTC)
		case !c.second.has(t.Second()):
			t = t.Add(time.Duration(min(c.second.from(t.Second()), 60)-t.Second()) * time.Second)
		default:
			return t, true
		}
	}
	return time.Time{}, false
}

// onDay judges the day: where both day and weekday are given, either does.
func (c *Calendar) onDay(t time.Time) bool {
	if c.dayOpen && c.weekdayOpen {
		return true
	}
	day := !c.dayOpen && c.fitsDay(t)
	weekday := !c.weekdayOpen && c.fitsWeekday(t)
	return day || weekday
}

func (c *Calendar) fitsDay(t time.Time) bool {
	d, last := t.Day(), daysIn(t)
	if c.day.has(d) {
		return true
	}
	for _, before := range c.lastDay {
		if d == last-before {
			return true
		}
	}
	for _, near := range c.nearest {
		if near == 0 {
			near = last
		}
		if near <= last && d == nearestWorkday(t, near, last) {
			return true
		}
	}
	return false
}

func (c *Calendar) fitsWeekday(t time.Time) bool {
	w := int(t.Weekday())
	return c.weekday.has(w) || c.nth[(t.Day()-1)/7+1].has(w) || c.lastWeekday.has(w) && t.Day()+7 > daysIn(t)
}

func daysIn(t time.Time) int {
	return time.Date(t.Year(), t.Month()+1, 0, 0, 0, 0, 0, time.UTC).Day()
}

// nearestWorkday gives the weekday (Monday to Friday) of the month that is
// nearest to a day; it never leaves the month.
func nearestWorkday(t time.Time, day, last int) int {
	switch time.Date(t.Year(), t.Month(), day, 0, 0, 0, 0, time.UTC).Weekday() {
	case time.Saturday:
		if day > 1 {
			return day - 1
		}
		return day + 2
	case time.Sunday:
		if day < last {
			return day + 1
		}
		return day - 2
	}
	return day
}

// possible reports whether the calendar fires at all: the days of every month
// repeat within 400 years, and within 28 but for century leap years.
func (c *Calendar) possible() bool {
	_, ok := c.nextWall(time.Date(firstYear, 1, 1, 0, 0, 0, 0, time.UTC).Add(-time.Second))
	return ok
}

// Change says what a clock change does to a fire.
type Change string

const (
	NoChange Change = ""
	Skipped  Change = "the clock skips this time: it fires at the end of the gap"
	Repeated Change = "the clock repeats this time: it fires the first time only"
	Both     Change = "the clock repeats this hour: it fires in both"
)

// ChangeAt reports whether the fire at t is one that a clock change moves or
// doubles.
func (c *Calendar) ChangeAt(t time.Time, zone *time.Location) Change {
	wall := wallClock(t, zone)
	start, end := t.In(zone).ZoneBounds()
	if !end.IsZero() {
		if lost := offset(t, zone) - offset(end, zone); lost > 0 && end.Sub(t) <= time.Duration(lost)*time.Second {
			if c.elapsed {
				return Both
			}
			return Repeated
		}
	}
	if start.IsZero() {
		return NoChange
	}
	gained := offset(start, zone) - offset(start.Add(-time.Second), zone)
	if gained < 0 && t.Sub(start) < time.Duration(-gained)*time.Second && c.elapsed {
		return Both
	}
	if gained > 0 && t.Equal(start) && !c.elapsed {
		w, ok := c.nextWall(wall.Add(-time.Second))
		if !ok || !w.Equal(wall) {
			return Skipped
		}
	}
	return NoChange
}
