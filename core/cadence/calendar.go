// Package cadence reads calendars: cron expressions in four field layouts, in a
// zone, with a settled rule for clock changes. It is pure; the zone data comes
// from the time package.
package cadence

import (
	"fmt"
	"math/bits"
	"strconv"
	"strings"
)

// Layouts lists the field layouts by name.
var Layouts = []string{"standard", "with-seconds", "with-year", "with-both"}

var layoutFields = map[string][]string{
	"standard":     {"minute", "hour", "day", "month", "weekday"},
	"with-seconds": {"second", "minute", "hour", "day", "month", "weekday"},
	"with-year":    {"minute", "hour", "day", "month", "weekday", "year"},
	"with-both":    {"second", "minute", "hour", "day", "month", "weekday", "year"},
}

const (
	firstYear = 1970
	lastYear  = 2199
)

// Calendar is a compiled cron expression.
type Calendar struct {
	Text   string
	Layout string
	Sunday int

	second, minute, hour, day, month, weekday set
	year                                      []bool // index 0 is firstYear; nil: every year
	elapsed                                   bool   // the hour is `*` or a step: fires follow elapsed time
	dayOpen, weekdayOpen                      bool   // `*` or `?`
	lastDay                                   []int  // L, L-3: days before the last
	nearest                                   []int  // 15W; 0 is LW
	lastWeekday                               set    // 5L
	nth                                       [6]set // 5#2
	fields                                    map[string]string
}

// set is a set of 0 to 63.
type set uint64

func (s set) has(i int) bool { return s>>uint(i)&1 == 1 }

// from gives the first member from i on; 64 and more: there is none.
func (s set) from(i int) int { return i + bits.TrailingZeros64(uint64(s)>>uint(i)) }

type fieldRange struct {
	low, high int
	names     []string // from low
}

var ranges = map[string]fieldRange{
	"second": {0, 59, nil}, "minute": {0, 59, nil}, "hour": {0, 23, nil}, "day": {1, 31, nil},
	"month":   {1, 12, []string{"JAN", "FEB", "MAR", "APR", "MAY", "JUN", "JUL", "AUG", "SEP", "OCT", "NOV", "DEC"}},
	"weekday": {0, 7, []string{"SUN", "MON", "TUE", "WED", "THU", "FRI", "SAT"}},
	"year":    {firstYear, lastYear, nil},
}

// Parse reads a cron expression in a layout; sunday is the number that Sunday
// bears (0, when 7 is Sunday too, or 1).
func Parse(text, layout string, sunday int) (*Calendar, error) {
	if layout == "" {
		layout = "standard"
	}
	names, ok := layoutFields[layout]
	if !ok {
		return nil, fmt.Errorf("unknown field layout %q; it is one of %s", layout, strings.Join(Layouts, ", "))
	}
	fields := strings.Fields(text)
	if len(fields) != len(names) {
		message := fmt.Sprintf(
			"the cron text %q has %d fields; the layout %s has %d: %s",
			text,
			len(fields),
			layout,
			len(names),
			strings.Join(names, " "),
		)
		if fits := Fits(text, sunday); len(fits) > 0 {
			message += fmt.Sprintf("; it fits `cron-fields: %s`", strings.Join(fits, "` or `"))
		}
		return nil, fmt.Errorf("%s", message)
	}
	c := &Calendar{Text: text, Layout: layout, Sunday: sunday, second: 1, fields: map[string]string{}}
	for i, name := range names {
		c.fields[name] = fields[i]
		if err := c.field(name, fields[i]); err != nil {
			return nil, err
		}
	}
	hour := c.fields["hour"]
	c.elapsed = hour == "*" || strings.HasPrefix(hour, "*/")
	if c.fields["day"] == "?" && c.fields["weekday"] == "?" {
		return nil, fmt.Errorf("the cron text %q leaves both day and weekday open with `?`; give one of them", text)
	}
	if !c.possible() {
		return nil, fmt.Errorf("the cron text %q can never fire: that day does not exist", text)
	}
	return c, nil
}

// Fits lists the layouts that a text parses in.
func Fits(text string, sunday int) []string {
	var fits []string
	n := len(strings.Fields(text))
	for _, l := range Layouts {
		if len(layoutFields[l]) != n {
			continue
		}
		if _, err := Parse(text, l, sunday); err == nil {
			fits = append(fits, l)
		}
	}
	return fits
}

func (c *Calendar) field(name, text string) error {
	r := ranges[name]
	bad := func(why string) error {
		return fmt.Errorf("the %s field %q of the cron text %q %s", name, text, c.Text, why)
	}
	if text == "?" && name != "day" && name != "weekday" {
		return bad("cannot be `?`; only day and weekday can")
	}
	open := text == "*" || text == "?"
	values := map[int]bool{}
	for _, item := range strings.Split(text, ",") {
		if item == "" {
			return bad("has an empty item")
		}
		special, err := c.special(name, item)
		if err != nil {
			return bad(err.Error())
		}
		if special {
			continue
		}
		span, stepText, stepped := strings.Cut(item, "/")
		step := 1
		if stepped {
			n, err := strconv.Atoi(stepText)
			if err != nil || n < 1 || n > r.high {
				return bad(fmt.Sprintf("has the step %q; a step is a whole number from 1 to %d", stepText, r.high))
			}
			step = n
		}
		open = open || step == 1 && (span == "*" || span == "?") // all there is, however it is written
		low, high := r.low, r.high
		if name == "weekday" {
			low, high = c.Sunday, c.Sunday+6
		}
		if span != "*" && span != "?" {
			from, to, ranged := strings.Cut(span, "-")
			if low, err = c.value(name, from); err != nil {
				return bad(err.Error())
			}
			switch {
			case ranged:
				if high, err = c.value(name, to); err != nil {
					return bad(err.Error())
				}
			case !stepped:
				high = low
			}
			if high < low && name == "weekday" && c.Sunday == 0 && high == 0 {
				high = 7
			}
			if high < low {
				return bad(fmt.Sprintf("runs backwards: %s", span))
			}
		}
		for v := low; v <= high; v += step {
			values[v] = true
		}
	}
	c.store(name, values, open)
	return nil
}

func (c *Calendar) store(name string, values map[int]bool, open bool) {
	var s set
	for v := range values {
		switch {
		case name == "weekday":
			s |= 1 << uint((v-c.Sunday)%7)
		case name != "year":
			s |= 1 << uint(v)
		}
	}
	switch name {
	case "second":
		c.second = s
	case "minute":
		c.minute = s
	case "hour":
		c.hour = s
	case "day":
		c.day, c.dayOpen = s, open
	case "month":
		c.month = s
	case "weekday":
		c.weekday, c.weekdayOpen = s, open
	case "year":
		if !open {
			c.year = make([]bool, lastYear-firstYear+1)
			for v := range values {
				c.year[v-firstYear] = true
			}
		}
	}
}

func (c *Calendar) value(name, text string) (int, error) {
	r := ranges[name]
	for i, n := range r.names {
		if strings.EqualFold(text, n) {
			if name == "weekday" {
				return i + c.Sunday, nil
			}
			return i + r.low, nil
		}
	}
	low, high := r.low, r.high
	if name == "weekday" && c.Sunday == 1 {
		low, high = 1, 7
	}
	n, err := strconv.Atoi(text)
	if err != nil {
		return 0, fmt.Errorf("has %q, which is neither a number nor a name", text)
	}
	if n < low || n > high {
		return 0, fmt.Errorf("has %d, outside %d to %d", n, low, high)
	}
	return n, nil
}

// special reads L, L-3, 15W, LW (day) and 5L, 5#2 (weekday).
func (c *Calendar) special(name, item string) (bool, error) {
	upper := strings.ToUpper(item)
	switch {
	case name == "day" && upper == "LW":
		c.nearest = append(c.nearest, 0)
	case name == "day" && upper == "L":
		c.lastDay = append(c.lastDay, 0)
	case name == "day" && strings.HasPrefix(upper, "L-"):
		n, err := strconv.Atoi(upper[2:])
		if err != nil || n < 1 || n > 30 {
			return false, fmt.Errorf("has %q; L-n counts 1 to 30 days before the last", item)
		}
		c.lastDay = append(c.lastDay, n)
	case name == "day" && strings.HasSuffix(upper, "W"):
		n, err := c.value("day", upper[:len(upper)-1])
		if err != nil {
			return false, err
		}
		c.nearest = append(c.nearest, n)
	case name == "weekday" && upper == "L":
		c.lastWeekday |= 1 << 6
	case name == "weekday" && strings.HasSuffix(upper, "L") && len(upper) > 1:
		n, err := c.value("weekday", upper[:len(upper)-1])
		if err != nil {
			return false, err
		}
		c.lastWeekday |= 1 << uint((n-c.Sunday)%7)
	case name == "weekday" && strings.Contains(upper, "#"):
		day, which, _ := strings.Cut(upper, "#")
		n, err := c.value("weekday", day)
		if err != nil {
			return false, err
		}
		k, err := strconv.Atoi(which)
		if err != nil || k < 1 || k > 5 {
			return false, fmt.Errorf("has %q; the number after # is 1 to 5", item)
		}
		c.nth[k] |= 1 << uint((n-c.Sunday)%7)
	default:
		return false, nil
	}
	return true, nil
}
