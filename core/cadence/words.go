package cadence

import (
	"fmt"
	"math/bits"
	"strconv"
	"strings"
	"time"
)

// Words says in English when the calendar fires.
func (c *Calendar) Words() string {
	s := c.timeWords()
	if days := c.dayWords(); days != "" {
		s += ", " + days
	} else if !strings.HasPrefix(s, "every") {
		s += " every day"
	}
	if m := c.fields["month"]; m != "*" {
		s += ", in " + names(c.month, 1, 12, func(i int) string { return time.Month(i).String() })
	}
	if y := c.fields["year"]; y != "" && y != "*" {
		s += ", in the years " + y
	}
	return s
}

func (c *Calendar) timeWords() string {
	minute, hour := c.fields["minute"], c.fields["hour"]
	seconds := ""
	if f, ok := c.fields["second"]; ok && f != "0" {
		switch {
		case f == "*":
			seconds = "every second"
		case strings.HasPrefix(f, "*/"):
			seconds = "every " + f[2:] + " seconds"
		default:
			seconds = "at second " + f
		}
	}
	var s string
	switch {
	case minute == "*" && hour == "*":
		s = "every minute"
	case strings.HasPrefix(minute, "*/") && hour == "*":
		s = "every " + minute[2:] + " minutes"
	case bits.OnesCount64(uint64(c.minute)) <= 4 && bits.OnesCount64(uint64(c.hour)) <= 6 && hour != "*":
		var times []string
		for h := 0; h < 24; h++ {
			for m := 0; m < 60; m++ {
				if c.hour.has(h) && c.minute.has(m) {
					times = append(times, fmt.Sprintf("%02d:%02d", h, m))
				}
			}
		}
		if len(times) <= 8 {
			s = "at " + join(times)
			break
		}
		fallthrough
	default:
		s = minuteWords(minute, c.minute) + " of " + hourWords(hour, c.hour)
	}
	if seconds != "" {
		s = seconds + " of: " + s
	}
	return s
}

func minuteWords(text string, s set) string {
	switch {
	case text == "*":
		return "every minute"
	case strings.HasPrefix(text, "*/"):
		return "every " + text[2:] + " minutes"
	case bits.OnesCount64(uint64(s)) == 1:
		return "at minute " + text
	}
	return "at the minutes " + names(s, 0, 59, strconv.Itoa)
}

func hourWords(text string, s set) string {
	switch {
	case text == "*":
		return "every hour"
	case strings.HasPrefix(text, "*/"):
		return "every " + ordinal(text[2:]) + " hour from midnight"
	}
	return "the hours " + names(s, 0, 23, func(i int) string { return fmt.Sprintf("%02d", i) })
}

func (c *Calendar) dayWords() string {
	var parts []string
	if !c.dayOpen {
		var days []string
		if c.day != 0 {
			days = append(days, "on day "+names(c.day, 1, 31, strconv.Itoa))
		}
		for _, before := range c.lastDay {
			if before == 0 {
				days = append(days, "on the last day")
			} else {
				days = append(days, fmt.Sprintf("%d days before the last day", before))
			}
		}
		for _, near := range c.nearest {
			if near == 0 {
				days = append(days, "on the last weekday from Monday to Friday")
			} else {
				days = append(days, fmt.Sprintf("on the Monday-to-Friday day nearest day %d", near))
			}
		}
		parts = append(parts, join(days)+" of the month")
	}
	if !c.weekdayOpen {
		var days []string
		name := func(i int) string { return time.Weekday(i % 7).String() }
		if c.weekday != 0 {
			days = append(days, "on "+names(c.weekday, 0, 6, name))
		}
		if c.lastWeekday != 0 {
			days = append(days, "on the last "+names(c.lastWeekday, 0, 6, name)+" of the month")
		}
		for k, s := range c.nth {
			if s != 0 {
				days = append(
					days,
					fmt.Sprintf("on the %s %s of the month", ordinal(strconv.Itoa(k)), names(s, 0, 6, name)),
				)
			}
		}
		parts = append(parts, join(days))
	}
	return strings.Join(parts, ", or ")
}

func ordinal(n string) string {
	switch n {
	case "1":
		return "1st"
	case "2":
		return "2nd"
	case "3":
		return "3rd"
	}
	return n + "th"
}

// names lists the members of a set, runs of three or more as a range.
func names(s set, low, high int, name func(int) string) string {
	var out []string
	for i := low; i <= high; i++ {
		if !s.has(i) {
			continue
		}
		j := i
		for j < high && s.has(j+1) {
			j++
		}
		switch {
		case j-i >= 2:
			out = append(out, name(i)+" to "+name(j))
		case j > i:
			out = append(out, name(i), name(j))
		default:
			out = append(out, name(i))
		}
		i = j
	}
	return join(out)
}

func join(items []string) string {
	switch len(items) {
	case 0:
		return ""
	case 1:
		return items[0]
	}
	return strings.Join(items[:len(items)-1], ", ") + " and " + items[len(items)-1]
}

// In writes the calendar in another layout; ok is false where that layout
// cannot say it.
func (c *Calendar) In(layout string, sunday int) (text string, ok bool) {
	second, year := c.fields["second"], c.fields["year"]
	var out []string
	for _, name := range layoutFields[layout] {
		f, have := c.fields[name]
		if !have {
			f = map[string]string{"second": "0", "year": "*"}[name]
		}
		if name == "weekday" && sunday != c.Sunday && !c.weekdayOpen {
			if c.lastWeekday != 0 || c.nth != [6]set{} {
				return "", false
			}
			var days []string
			for i := 0; i < 7; i++ {
				if c.weekday.has(i) {
					days = append(days, strconv.Itoa(i+sunday))
				}
			}
			f = strings.Join(days, ",")
		}
		out = append(out, f)
	}
	hasSecond, hasYear := strings.Contains(layout, "seconds") ||
		layout == "with-both", strings.Contains(layout, "year") ||
		layout == "with-both"
	if !hasSecond && second != "" && second != "0" || !hasYear && year != "" && year != "*" {
		return "", false
	}
	return strings.Join(out, " "), true
}
