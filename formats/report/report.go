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
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/study"
	"ironweir/formats/picture"
	"ironweir/formats/text"
)

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

type contents struct {
	Model, About, Digest, Version, Environment string
	Verdict                                    string
	Bad                                        bool
	Facts                                      []fact
	Picture                                    template.HTML
	NoPicture                                  string
	Check                                      template.HTML
	Runs                                       []section
}

// Write writes the report. The picture is left out, with a word about why,
// where Graphviz is not installed.
func Write(w io.Writer, g *graph.Graph, doc *check.Document, runs []Run) error {
	c := contents{
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
		c.Picture = inline(svg)
	}
	var b bytes.Buffer
	if err := text.CheckHTML(&b, doc); err != nil {
		return err
	}
	c.Check = template.HTML(b.String())
	for i, r := range runs {
		s, err := sectionOf(i, r)
		if err != nil {
			return err
		}
		c.Runs = append(c.Runs, s)
	}
	return parsed.Execute(w, c)
}

var svgStart = regexp.MustCompile(`(?s)^.*?<svg width="[^"]*" height="[^"]*"`)

// inline makes a drawing part of a page, as wide as the page is. What it shows of
// a model has been escaped by who drew it.
func inline(svg []byte) template.HTML {
	return template.HTML(svgStart.ReplaceAll(svg, []byte(`<svg role="img" aria-label="The model as a picture"`)))
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
	var b bytes.Buffer
	if err := text.RunHTML(&b, d); err != nil {
		return s, err
	}
	s.Body = template.HTML(b.String())
	s.Charts = charts(d, incidents(r.Scenario))
	return s, nil
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
