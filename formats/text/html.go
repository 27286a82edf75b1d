package text

import (
	"fmt"
	"html"
	"io"
	"regexp"
	"strings"

	"ironweir/core/check"
	"ironweir/core/check/guarantees"
	"ironweir/core/mend"
	"ironweir/core/sensitivity"
	"ironweir/core/study"
)

// Marks stand for styles within text until it has been escaped.
var (
	marks = map[paint]string{
		red:    "\x01r",
		yellow: "\x01y",
		green:  "\x01g",
		faint:  "\x01f",
		bold:   "\x01b",
		cyan:   "\x01c",
	}
	endMark = "\x02"
	toSpans = strings.NewReplacer(
		"\x01r",
		`<span class="red">`,
		"\x01y",
		`<span class="yellow">`,
		"\x01g",
		`<span class="green">`,
		"\x01f",
		`<span class="faint">`,
		"\x01b",
		`<span class="bold">`,
		"\x01c",
		`<span class="cyan">`,
		"\x02",
		"</span>",
	)
)

// CheckHTML writes what Check prints as a fragment of HTML.
func CheckHTML(w io.Writer, doc *check.Document) error {
	return Check(w, doc, Style{Width: 1 << 20, html: true})
}

// RunHTML writes what Run prints as a fragment of HTML.
func RunHTML(w io.Writer, doc *study.Document) error {
	return Run(w, doc, Style{Width: 1 << 20, html: true}, nil)
}

// GuaranteesHTML writes what Guarantees prints as a fragment of HTML.
func GuaranteesHTML(w io.Writer, doc *guarantees.Document) error {
	return Guarantees(w, doc, Style{Width: 1 << 20, html: true})
}

// SensitivityHTML writes what Sensitivity prints as a fragment of HTML, without the chart.
func SensitivityHTML(w io.Writer, doc *sensitivity.Document) error {
	return Sensitivity(w, doc, Style{Width: 1 << 20, html: true})
}

// MendHTML writes what Mend prints as a fragment of HTML.
func MendHTML(w io.Writer, doc *mend.Document) error {
	return Mend(w, doc, Style{Width: 1 << 20, html: true})
}

// named is what stands between backticks: names and fields of the model.
var named = regexp.MustCompile("`([^`]+)`")

func markup(text string) string {
	return named.ReplaceAllString(toSpans.Replace(html.EscapeString(text)), "<code>$1</code>")
}

func (p *page) paragraph(text string) {
	if text = strings.TrimSpace(text); text != "" {
		fmt.Fprintf(p, "<p>%s</p>\n", markup(text))
	}
}

func (p *page) htmlTable(head []string, rows [][]string) {
	used := make([]bool, len(head))
	class := make([]string, len(head))
	for i, h := range head {
		h = strings.TrimPrefix(h, "~")
		var right bool
		if head[i], right = strings.CutPrefix(h, ">"); right {
			class[i] = ` class="right"`
		}
		for _, r := range rows {
			used[i] = used[i] || r[i] != ""
		}
	}
	row := func(tag string, cells []string) {
		p.WriteString("<tr>")
		for i, c := range cells {
			if used[i] {
				fmt.Fprintf(p, "<%s%s>%s</%s>", tag, class[i], markup(strings.TrimSpace(c)), tag)
			}
		}
		p.WriteString("</tr>\n")
	}
	p.WriteString("<table>\n<thead>")
	row("th", head)
	p.WriteString("</thead>\n<tbody>\n")
	for _, r := range rows {
		row("td", r)
	}
	p.WriteString("</tbody>\n</table>\n")
}
