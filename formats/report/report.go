// Package report writes one HTML file of a check and its runs that can be sent
// to people who have nothing installed: picture, findings, ledgers, tables and
// charts, with nothing to load from elsewhere.
package report

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"regexp"
	"time"

	"ironweir/core/check"
	"ironweir/core/check/guarantees"
	"ironweir/core/graph"
	"ironweir/core/mend"
	"ironweir/core/model"
	"ironweir/core/sensitivity"
	"ironweir/core/study"
	"ironweir/formats/picture"
	"ironweir/formats/text"
)

// Contents are what a report is made of; what is nil or empty is left out.
type Contents struct {
	Check       *check.Document // never nil
	Guarantees  *guarantees.Document
	Runs        []Run
	Sensitivity []*sensitivity.Document
	Plan        *mend.Document
}

// Run is a simulation in a report.
type Run struct {
	Result   *study.Document
	Scenario *model.Scenario // for its incidents; nil where only the result is at hand
}

//go:embed page.html
var page string

var parsed = template.Must(template.New("report").Parse(page))

// section is what the page shows of one run.
type section struct {
	Anchor, Title, About string
	Held                 bool
	Expected             bool
	Facts                []fact
	Body                 template.HTML
	Charts               []template.HTML
}

// fact is a number at the top.
type fact struct {
	Value, Name string
	Bad         bool
}

// part is a section of its own words and picture.
type part struct {
	Anchor, Title string
	Picture, Body template.HTML
}

// shown is what the page shows.
type shown struct {
	Model, About, Digest, Version, Environment string
	Verdict                                    string
	Bad                                        bool
	Facts                                      []fact
	Picture                                    template.HTML
	NoPicture                                  string
	Check                                      template.HTML
	Guarantees                                 template.HTML
	Runs                                       []section
	Parts                                      []part
}

// Write writes the report. The picture is left out, with a word about why,
// where Graphviz is not installed.
func Write(w io.Writer, g *graph.Graph, of Contents) error {
	doc := of.Check
	c := shown{
		Model:       doc.Model,
		About:       g.Topology.About,
		Digest:      doc.Digest[:min(12, len(doc.Digest))],
		Version:     doc.Version,
		Environment: doc.Environment,
	}
	c.Verdict, c.Bad = doc.Summary.Verdict(), doc.Summary.Errors > 0
	counted := func(n int, one string) fact {
		if n != 1 {
			one += "s"
		}
		return fact{fmt.Sprint(n), one, n > 0 && one[0] == 'e'}
	}
	c.Facts = []fact{
		counted(doc.Summary.Errors, "error"),
		counted(doc.Summary.Warnings, "warning"),
		counted(doc.Summary.Notes, "note"),
		{fmt.Sprint(doc.Summary.Accepted), "accepted", false},
	}
	if svg, err := picture.Render(picture.DOT(g, picture.Options{Check: doc, Rates: true}), "svg"); err != nil {
		c.NoPicture = err.Error()
	} else {
		c.Picture = inline(svg, "The model as a picture")
	}
	var err error
	if c.Check, err = fragment(text.CheckHTML, doc); err != nil {
		return err
	}
	if of.Guarantees != nil {
		if c.Guarantees, err = fragment(text.GuaranteesHTML, of.Guarantees); err != nil {
			return err
		}
	}
	for i, r := range of.Runs {
		s, err := sectionOf(i, r)
		if err != nil {
			return err
		}
		c.Runs = append(c.Runs, s)
	}
	for i, s := range of.Sensitivity {
		p := part{Anchor: fmt.Sprintf("guesses-%d", i+1), Title: "Which guesses decide: " + s.Scenario}
		if !s.Partial {
			svg, err := fragment(picture.Tornado, s)
			if err != nil {
				return err
			}
			p.Picture = inline([]byte(svg), "Tornado chart of the guesses")
		}
		if p.Body, err = fragment(text.SensitivityHTML, s); err != nil {
			return err
		}
		c.Parts = append(c.Parts, p)
	}
	if of.Plan != nil {
		body, err := fragment(text.MendHTML, of.Plan)
		if err != nil {
			return err
		}
		c.Parts = append(c.Parts, part{Anchor: "plan", Title: "Plan: the fewest changes", Body: body})
	}
	return parsed.Execute(w, c)
}

// fragment writes a part of the page, whose words are escaped by what writes it.
func fragment[T any](write func(io.Writer, T) error, of T) (template.HTML, error) {
	var b bytes.Buffer
	err := write(&b, of)
	return template.HTML(b.String()), err
}

var svgStart = regexp.MustCompile(`(?s)^.*?<svg width="[^"]*" height="[^"]*"`)

// inline makes a drawing part of a page, as wide as the page is. What it shows of
// a model has been escaped by who drew it.
func inline(svg []byte, label string) template.HTML {
	return template.HTML(svgStart.ReplaceAll(svg, []byte(`<svg role="img" aria-label="`+label+`"`)))
}

func sectionOf(i int, r Run) (section, error) {
	d := r.Result
	s := section{Anchor: fmt.Sprintf("run-%d", i+1), Title: d.Scenario, Expected: len(d.Expect) > 0, Held: true}
	if d.Variant != "" {
		s.Title += ", " + d.Variant
	}
	if r.Scenario != nil {
		s.About = r.Scenario.About
	}
	for _, x := range d.Expect {
		s.Held = s.Held && x.Holds
	}
	bad := d.Ledger.Lost["total"]
	s.Facts = []fact{
		{text.Count(d.Ledger.Entered), "entered", false},
		{text.Count(d.Ledger.Copies), "copies", false},
		{text.Count(bad), "lost", bad > 0},
		{text.Count(d.Ledger.Parked), "parked", d.Ledger.Parked > 0},
		{text.Count(d.Ledger.Waiting), "waiting at the end", false},
	}
	s.Charts = charts(d, incidents(r.Scenario))
	var err error
	s.Body, err = fragment(text.RunHTML, d)
	return s, err
}

// window is when something goes wrong, in seconds since the start.
type window struct {
	name     string
	from, to float64
}

func incidents(s *model.Scenario) []window {
	if s == nil {
		return nil
	}
	var out []window
	for _, x := range s.Incidents {
		w := window{x.Name, x.At.Seconds(), s.Length.Seconds()}
		if x.For > 0 {
			w.to = min((x.At + x.For).Seconds(), w.to)
		} else if x.SendBack != nil || x.Rewind != nil {
			w.to = w.from + s.Length.Seconds()/400
		}
		out = append(out, w)
	}
	return out
}

func clockAt(start time.Time, s float64) string {
	return start.UTC().Add(time.Duration(s * 1e9)).Format("Mon 15:04")
}
