package cadence

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Recurrence is when a schedule fires: at an interval, or by a cron expression in the
// standard layout. One of the two is set.
type Recurrence struct {
	Every time.Duration
	Cron  string
}

// WordsExample shows what ParseWords reads.
const WordsExample = `"every 5 minutes", "every weekday at 6:30", "Monday and Thursday at 9 and 17", ` +
	`"on the 1st at noon", "on the last Friday of the month at 18:00"`

// ParseWords reads when a schedule fires from English words. An error names the word that
// it does not understand.
func ParseWords(text string) (Recurrence, error) {
	p := &wordReader{words: wordPattern.FindAllString(strings.ToLower(text), -1)}
	if len(p.words) == 0 {
		return Recurrence{}, fmt.Errorf("say when it fires, such as %s", WordsExample)
	}
	if err := p.read(); err != nil {
		return Recurrence{}, err
	}
	return p.recurrence()
}

// A word is a time, a number that may be counted, or letters.
var wordPattern = regexp.MustCompile(`\d{1,2}:\d{2}(?:am|pm)?|\d+(?:st|nd|rd|th|am|pm|[smhd]\b)?|\pL+|[^\s,.]`)

// wordReader goes through the words of a recurrence and collects what they say.
type wordReader struct {
	words []string
	at    int

	every    time.Duration
	times    []clockTime
	minutes  []int // past each hour
	days     []string
	weekdays []string
	months   []string
	hours    bool // each of them
	anyDay   bool // days are named, and are all
}

type clockTime struct{ hour, minute int }

func (p *wordReader) peek(ahead int) string {
	if p.at+ahead < len(p.words) {
		return p.words[p.at+ahead]
	}
	return ""
}

// skip goes past a word where it stands next.
func (p *wordReader) skip(words ...string) bool {
	if slices.Contains(words, p.peek(0)) && p.at < len(p.words) {
		p.at++
		return true
	}
	return false
}

func (p *wordReader) unknown() error {
	if p.at >= len(p.words) {
		return fmt.Errorf("something is missing after %q: write it as %s", p.words[len(p.words)-1], WordsExample)
	}
	return fmt.Errorf("%q is not understood here: write it as %s", p.words[p.at], WordsExample)
}

func (p *wordReader) read() error {
	for p.at < len(p.words) {
		switch {
		case p.skip("and", "on", "the", "in", "of", "each"):
		case p.skip("hourly"):
			p.hours = true
		case p.skip("daily"):
			p.anyDay = true
		case p.skip("at"):
			if err := p.readTimes(); err != nil {
				return err
			}
		case p.skip("every"):
			if err := p.readEvery(); err != nil {
				return err
			}
		default:
			if err := p.readDays(); err != nil {
				return err
			}
		}
	}
	return nil
}

var units = map[string]time.Duration{
	"s": time.Second, "second": time.Second, "sec": time.Second,
	"m": time.Minute, "minute": time.Minute, "min": time.Minute,
	"h": time.Hour, "hour": time.Hour,
	"d": 24 * time.Hour, "day": 24 * time.Hour,
}

// readEvery reads what stands behind `every`: an interval, an hour, days, or nothing that
// matters (`every month`).
func (p *wordReader) readEvery() error {
	n, unit := splitNumber(p.peek(0))
	if n > 0 && unit == "" {
		unit = strings.TrimSuffix(p.peek(1), "s")
		p.at++
	}
	if d := units[unit]; n > 0 && d > 0 {
		p.at++
		return p.interval(time.Duration(n) * d)
	}
	if n > 0 {
		return p.unknown()
	}
	switch {
	case p.skip("second"):
		return p.interval(time.Second)
	case p.skip("minute"):
		return p.interval(time.Minute)
	case p.skip("hour"):
		p.hours = true
		return nil
	case p.skip("day"):
		p.anyDay = true
		return nil
	case p.skip("month"):
		return nil
	}
	return p.readDays()
}

func (p *wordReader) interval(d time.Duration) error {
	if p.every > 0 {
		return fmt.Errorf("one interval is enough: it has two")
	}
	p.every = d
	return nil
}

// splitNumber splits a number from its unit, as `5m`; 0: it is none.
func splitNumber(word string) (int, string) {
	digits := strings.TrimRight(word, "abcdefghijklmnopqrstuvwxyz")
	n, err := strconv.Atoi(digits)
	if err != nil {
		return 0, ""
	}
	return n, word[len(digits):]
}

var weekdayWords = []string{"sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"}

// dayOf returns the number of a weekday by its name, or its first three letters or more.
func dayOf(word string) (int, bool) {
	word = strings.TrimSuffix(word, "s")
	for i, name := range weekdayWords {
		if len(word) >= 3 && strings.HasPrefix(name, word) {
			return i, true
		}
	}
	return 0, false
}

func monthOf(word string) (time.Month, bool) {
	for m := time.January; m <= time.December; m++ {
		if len(word) >= 3 && strings.HasPrefix(strings.ToLower(m.String()), word) {
			return m, true
		}
	}
	return 0, false
}

func cronDay(i int) string { return strings.ToUpper(weekdayWords[i][:3]) }

// readDays reads weekdays, days of the month or months.
func (p *wordReader) readDays() error {
	word := p.peek(0)
	if m, ok := monthOf(word); ok {
		p.at++
		p.months = append(p.months, strconv.Itoa(int(m)))
		return nil
	}
	if day, ok := dayOf(word); ok {
		p.at++
		name := cronDay(day)
		if last, ok := dayOf(p.peek(1)); ok && p.skip("to", "through", "until", "-") {
			p.at++
			name += "-" + cronDay(last)
		}
		p.weekdays = append(p.weekdays, name)
		return nil
	}
	switch {
	case p.skip("weekday", "weekdays"):
		p.weekdays = append(p.weekdays, "MON-FRI")
		return nil
	case p.skip("weekend", "weekends"):
		p.weekdays = append(p.weekdays, "SAT", "SUN")
		return nil
	case p.skip("last"):
		return p.readLast()
	case p.skip("day"):
		return p.readDayNumbers()
	}
	nth, counted := ordinalOf(word)
	if !counted {
		return p.unknown()
	}
	if nth > 31 {
		return fmt.Errorf("%s: a month has 31 days at most", word)
	}
	p.at++
	if day, ok := dayOf(p.peek(0)); ok {
		if nth > 5 {
			return fmt.Errorf("%s %s: a month has five of them at most", word, p.peek(0))
		}
		p.at++
		p.weekdays = append(p.weekdays, fmt.Sprintf("%s#%d", cronDay(day), nth))
	} else {
		p.days = append(p.days, strconv.Itoa(nth))
	}
	p.skipMonth()
	return nil
}

// readLast reads what stands behind `last`: a weekday, or `day`.
func (p *wordReader) readLast() error {
	if day, ok := dayOf(p.peek(0)); ok {
		p.at++
		p.weekdays = append(p.weekdays, cronDay(day)+"L")
	} else if p.skip("day") {
		p.days = append(p.days, "L")
	} else {
		return p.unknown()
	}
	p.skipMonth()
	return nil
}

// readDayNumbers reads what stands behind `day`: 1, or 1 and 15.
func (p *wordReader) readDayNumbers() error {
	for more := false; ; more = true {
		from := p.at
		if more {
			p.skip("and")
		}
		n, err := strconv.Atoi(p.peek(0))
		switch {
		case err == nil && n >= 1 && n <= 31:
			p.at++
			p.days = append(p.days, strconv.Itoa(n))
		case more:
			p.at = from
			p.skipMonth()
			return nil
		default:
			return p.unknown()
		}
	}
}

// skipMonth goes past `of the month`, `of every month` and the like.
func (p *wordReader) skipMonth() {
	from := p.at
	p.skip("day")
	p.skip("of")
	p.skip("the", "every", "each")
	if !p.skip("month") {
		p.at = from
	}
}

var ordinals = []string{"first", "second", "third", "fourth", "fifth"}

func ordinalOf(word string) (int, bool) {
	if i := slices.Index(ordinals, word); i >= 0 {
		return i + 1, true
	}
	n, unit := splitNumber(word)
	return n, n > 0 && (unit == "st" || unit == "nd" || unit == "rd" || unit == "th")
}

// readTimes reads times of a day, or `minute 15`, of each hour.
func (p *wordReader) readTimes() error {
	for {
		if p.skip("minute", "minutes") {
			n, err := strconv.Atoi(p.peek(0))
			if err != nil || n > 59 {
				return p.unknown()
			}
			p.at++
			p.minutes = append(p.minutes, n)
			p.hours = true
		} else if t, ok := p.readTime(); ok {
			p.times = append(p.times, t)
		} else {
			return p.unknown()
		}
		// Another time, unless what follows is a day: "at 6 and on Monday", "at 6 and 1st".
		next := p.at
		if p.skip("and") {
			p.skip("at")
		}
		_, counted := ordinalOf(p.peek(0))
		if _, ok := p.timeAt(); counted || !ok && p.peek(0) != "minute" {
			p.at = next
			return nil
		}
	}
}

func (p *wordReader) readTime() (clockTime, bool) {
	t, ok := p.timeAt()
	if !ok {
		return t, false
	}
	p.at++
	switch { // 6 pm
	case p.skip("pm"):
		t.hour = t.hour%12 + 12
	case p.skip("am"):
		t.hour %= 12
	case p.skip("o"): // o'clock
		p.skip("'")
		p.skip("clock")
	}
	return t, true
}

// timeAt returns the time that stands next.
func (p *wordReader) timeAt() (clockTime, bool) {
	word := p.peek(0)
	switch word {
	case "noon":
		return clockTime{12, 0}, true
	case "midnight":
		return clockTime{}, true
	}
	half := ""
	for _, end := range []string{"am", "pm"} {
		if cut, ok := strings.CutSuffix(word, end); ok {
			word, half = cut, end
		}
	}
	hours, minutes, _ := strings.Cut(word, ":")
	hour, err := strconv.Atoi(hours)
	minute := 0
	if err == nil && minutes != "" {
		minute, err = strconv.Atoi(minutes)
	}
	switch {
	case err != nil || hour > 23 || minute > 59 || half != "" && (hour == 0 || hour > 12):
		return clockTime{}, false
	case half == "pm":
		hour = hour%12 + 12
	case half == "am":
		hour %= 12
	}
	return clockTime{hour, minute}, true
}

// recurrence puts together what was read.
func (p *wordReader) recurrence() (Recurrence, error) {
	dated := len(p.days)+len(p.weekdays)+len(p.months) > 0 || p.anyDay
	if p.every > 0 {
		if dated || p.hours || len(p.times) > 0 {
			return Recurrence{}, fmt.Errorf("an interval knows no days and times: leave those out, or the interval")
		}
		return Recurrence{Every: p.every}, nil
	}
	if p.hours && len(p.minutes) == 0 && !dated && len(p.times) == 0 {
		return Recurrence{Every: time.Hour}, nil
	}
	minute, hour, err := p.clock(dated)
	if err != nil {
		return Recurrence{}, err
	}
	if len(p.days) > 0 && len(p.weekdays) > 0 {
		return Recurrence{}, fmt.Errorf("days of the month and of the week take two schedules: a cron expression fires on either")
	}
	or := func(list []string) string {
		if len(list) == 0 {
			return "*"
		}
		return strings.Join(list, ",")
	}
	cron := strings.Join([]string{minute, hour, or(p.days), or(p.months), or(p.weekdays)}, " ")
	if _, err := Parse(cron, "standard", 0); err != nil {
		return Recurrence{}, err
	}
	return Recurrence{Cron: cron}, nil
}

// clock returns the fields of minutes and hours.
func (p *wordReader) clock(dated bool) (minute, hour string, err error) {
	if p.hours {
		if len(p.times) > 0 {
			return "", "", fmt.Errorf("every hour, or at a time: one of the two")
		}
		if len(p.minutes) == 0 {
			return "0", "*", nil
		}
		return numbers(p.minutes), "*", nil
	}
	if len(p.times) == 0 {
		if !dated {
			return "", "", fmt.Errorf("say when it fires, such as %s", WordsExample)
		}
		return "0", "0", nil
	}
	var hours, minutes []int
	for _, t := range p.times {
		hours, minutes = append(hours, t.hour), append(minutes, t.minute)
	}
	slices.Sort(hours)
	slices.Sort(minutes)
	hours, minutes = slices.Compact(hours), slices.Compact(minutes)
	if len(hours)*len(minutes) != len(p.times) {
		return "", "", fmt.Errorf("times at different minutes of different hours take a schedule each")
	}
	return numbers(minutes), numbers(hours), nil
}

func numbers(list []int) string {
	var out []string
	for _, n := range list {
		out = append(out, strconv.Itoa(n))
	}
	return strings.Join(out, ",")
}
