// Package text prints results for people at a terminal, and as Markdown.
package text

import (
	"bufio"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ironweir/core/document"
	"ironweir/core/model"
	"ironweir/core/study"
)

// Style is how text is printed.
type Style struct {
	Width  int
	Colour bool
	html   bool // a fragment of HTML instead of lines
}

type paint string

const (
	red    paint = "31"
	yellow paint = "33"
	green  paint = "32"
	faint  paint = "2"
	bold   paint = "1"
	cyan   paint = "36"
)

func (s Style) paint(p paint, text string) string {
	if s.html && text != "" {
		return marks[p] + text + endMark
	}
	if !s.Colour || text == "" {
		return text
	}
	return "\x1b[" + string(p) + "m" + text + "\x1b[0m"
}

// page collects output, so that a broken pipe is one error at the end.
type page struct {
	*bufio.Writer
	Style
}

func newPage(w io.Writer, s Style) *page { return &page{bufio.NewWriter(w), s} }

func (p *page) line(format string, args ...any) {
	if p.html {
		p.paragraph(fmt.Sprintf(format, args...))
		return
	}
	fmt.Fprintf(p, format+"\n", args...)
}

func (p *page) heading(text string) {
	if p.html {
		fmt.Fprintf(p, "<h3>%s</h3>\n", markup(text))
		return
	}
	p.line("\n%s", p.paint(bold, text))
}

// title starts something that has a few lines of its own.
func (p *page) title(text string) {
	if p.html {
		fmt.Fprintf(p, "<h4>%s</h4>\n", markup(text))
		return
	}
	p.line("\n%s", text)
}

// wrap prints text within the width, each line behind an indent.
func (p *page) wrap(indent, text string) {
	if p.html {
		p.paragraph(text)
		return
	}
	width := max(p.Width-utf8.RuneCountInString(indent), 30)
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && utf8.RuneCountInString(line)+1+utf8.RuneCountInString(word) > width {
			p.line("%s%s", indent, line)
			line = ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	if line != "" {
		p.line("%s%s", indent, line)
	}
}

// Table prints rows under a head; a head that begins with > stands on the right.
func Table(w io.Writer, head []string, rows [][]string, s Style) error {
	p := newPage(w, s)
	p.table(head, rows)
	return p.Flush()
}

// table prints rows under a head; columns whose head starts with ">" are
// aligned to the right. Empty columns are left out, and those whose head starts
// with "~" where the table is wider than the page, from the right.
func (p *page) table(head []string, rows [][]string) {
	if p.html {
		p.htmlTable(head, rows)
		return
	}
	right := make([]bool, len(head))
	width := make([]int, len(head))
	used := make([]bool, len(head))
	spare := make([]bool, len(head))
	for i, h := range head {
		h, spare[i] = strings.CutPrefix(h, "~")
		head[i], right[i] = strings.CutPrefix(h, ">")
		width[i] = utf8.RuneCountInString(head[i])
		for _, r := range rows {
			width[i] = max(width[i], utf8.RuneCountInString(r[i]))
			used[i] = used[i] || r[i] != ""
		}
	}
	total := 0
	for i := range head {
		if used[i] {
			total += width[i] + 2
		}
	}
	for i := len(head) - 1; i >= 0 && total > p.Width; i-- {
		if used[i] && spare[i] {
			used[i] = false
			total -= width[i] + 2
		}
	}
	// Where it still is too wide, the last column gives way.
	for i := len(head) - 1; i > 0; i-- {
		if !used[i] {
			continue
		}
		if over := total - p.Width; over > 0 && !right[i] && width[i]-over >= 12 {
			width[i] -= over
			for _, r := range rows {
				r[i] = shorten(r[i], width[i])
			}
		}
		break
	}
	row := func(cells []string, style paint) {
		var b strings.Builder
		for i, c := range cells {
			if !used[i] {
				continue
			}
			pad := strings.Repeat(" ", width[i]-utf8.RuneCountInString(c))
			b.WriteString("  ")
			if right[i] {
				b.WriteString(pad + c)
			} else {
				b.WriteString(c + pad)
			}
		}
		p.line("%s", p.paint(style, strings.TrimRight(b.String(), " ")))
	}
	row(head, faint)
	for _, r := range rows {
		row(r, "")
	}
}

// shorten cuts a text to a width, the cut marked.
func shorten(s string, width int) string {
	if r := []rune(s); len(r) > width {
		return string(r[:width-1]) + "…"
	}
	return s
}

// count writes an integer with thousands apart; 0 as nothing when blank.
func count(n int64) string {
	s := strconv.FormatInt(n, 10)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Count writes an integer with thousands apart, for pages beside this package's.
func Count(n int64) string { return count(n) }

func blankCount(n int64) string {
	if n == 0 {
		return ""
	}
	return count(n)
}

// seconds writes a time so that it reads well.
func seconds(s float64) string {
	switch {
	case s == 0:
		return "0s"
	case s < 1e-3:
		return fmt.Sprintf("%.0fµs", s*1e6)
	case s < 1:
		return fmt.Sprintf("%.0fms", s*1e3)
	case s < 10:
		return fmt.Sprintf("%.2fs", s)
	case s < 120:
		return fmt.Sprintf("%.1fs", s)
	}
	d := time.Duration(math.Round(s)) * time.Second
	if s >= 2*86400 {
		d = d.Round(time.Hour)
	} else if s >= 7200 {
		d = d.Round(time.Minute)
	}
	return model.FormatDuration(d)
}

func state(s document.State) string {
	if s.State == "at" {
		if *s.Seconds == 0 {
			return "immediately"
		}
		return seconds(*s.Seconds)
	}
	return s.State
}

// share writes a share of 0 to 1 in percent: one that is not nothing, or not all, never looks like it.
func share(x float64) string {
	switch {
	case x == 0:
		return "0%"
	case x < 1e-6:
		return "under 0.0001%"
	case x < 0.001:
		return fmt.Sprintf("%.2g%%", x*100)
	case x < 1 && 1-x < 1e-6:
		return "over 99.9999%"
	case x < 1 && 1-x < 0.0005:
		return strconv.FormatFloat(math.Floor(x*1e6)/1e4, 'f', -1, 64) + "%"
	}
	return fmt.Sprintf("%.1f%%", x*100)
}

func number(x float64) string {
	switch {
	case math.Abs(x) >= 1000:
		return count(int64(math.Round(x)))
	case x == math.Trunc(x):
		return strconv.FormatFloat(x, 'f', 0, 64)
	}
	return strconv.FormatFloat(x, 'g', 3, 64)
}

// Plural writes a number of things.
func Plural(n int, word string) string { return plural(n, word) }

func plural[N int | int64](n N, word string) string {
	if n == 1 {
		return "1 " + word
	}
	if stem, ok := strings.CutSuffix(word, "y"); ok && !strings.HasSuffix(stem, "e") {
		word = stem + "ie"
	}
	if strings.HasSuffix(word, "s") {
		word += "e"
	}
	return count(int64(n)) + " " + word + "s"
}

func interval(ci study.Interval, write func(float64) string) string {
	if ci == nil {
		return ""
	}
	return fmt.Sprintf("%s to %s", write(max(ci[0], 0)), write(ci[1]))
}
