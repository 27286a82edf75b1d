// Package junit writes findings and expectations as JUnit XML, as pipelines
// read it. It does no I/O of its own.
package junit

import (
	"encoding/xml"
	"fmt"
	"io"
	"sort"

	"ironweir/core/check"
	"ironweir/core/study"
)

type suites struct {
	XMLName  xml.Name `xml:"testsuites"`
	Name     string   `xml:"name,attr"`
	Tests    int      `xml:"tests,attr"`
	Failures int      `xml:"failures,attr"`
	Errors   int      `xml:"errors,attr"`
	Skipped  int      `xml:"skipped,attr"`
	Suites   []suite  `xml:"testsuite"`
}

type suite struct {
	Name     string     `xml:"name,attr"`
	Tests    int        `xml:"tests,attr"`
	Failures int        `xml:"failures,attr"`
	Errors   int        `xml:"errors,attr"`
	Skipped  int        `xml:"skipped,attr"`
	Time     string     `xml:"time,attr"`
	Cases    []testCase `xml:"testcase"`
}

type testCase struct {
	Class   string   `xml:"classname,attr"`
	Name    string   `xml:"name,attr"`
	File    string   `xml:"file,attr,omitempty"`
	Line    int      `xml:"line,attr,omitempty"`
	Time    string   `xml:"time,attr"`
	Failure *failure `xml:"failure"`
	Skipped *skipped `xml:"skipped"`
}

type failure struct {
	Message string `xml:"message,attr"`
	Type    string `xml:"type,attr"`
	Text    string `xml:",chardata"`
}

type skipped struct {
	Message string `xml:"message,attr"`
}

func (s *suite) add(c testCase) {
	c.Time = "0"
	s.Cases = append(s.Cases, c)
	s.Tests++
	if c.Failure != nil {
		s.Failures++
	}
	if c.Skipped != nil {
		s.Skipped++
	}
}

func write(w io.Writer, name string, all ...suite) error {
	out := suites{Name: name, Suites: all}
	for _, s := range all {
		out.Tests += s.Tests
		out.Failures += s.Failures
		out.Skipped += s.Skipped
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	encoder := xml.NewEncoder(w)
	encoder.Indent("", "  ")
	if err := encoder.Encode(out); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// Check writes a check: a case for each finding, and one for each rule that
// found nothing. Accepted findings are skipped; what is less severe than least
// does not fail.
func Check(w io.Writer, doc *check.Document, least check.Severity) error {
	s := suite{Name: doc.Model + " check", Time: "0"}
	found := map[string]bool{}
	for i := range doc.Findings {
		f := &doc.Findings[i]
		found[f.Code] = true
		c := testCase{
			Class: "check." + f.Code,
			Name:  f.Title + ": " + f.ID,
			File:  f.Position.File,
			Line:  f.Position.Line,
		}
		switch {
		case f.Accepted != nil:
			c.Skipped = &skipped{"accepted: " + f.Accepted.Because}
		case f.Severity.AtLeast(least):
			text := fmt.Sprintf("%s\n%s", f.Position, f.Message)
			for _, r := range f.Remedies {
				text += "\nremedy: " + r.Say
			}
			c.Failure = &failure{Message: f.Message, Type: string(f.Severity), Text: text}
		}
		s.add(c)
	}
	for _, r := range check.Rules {
		if !found[r.Code] {
			s.add(testCase{Class: "check." + r.Code, Name: r.Title})
		}
	}
	return write(w, doc.Model, s)
}

// Run writes the expectations of a run, a case each.
func Run(w io.Writer, doc *study.Document) error {
	s := suite{Name: doc.Model + " under " + doc.Scenario, Time: "0"}
	names := make([]string, 0, len(doc.Expect))
	for name := range doc.Expect {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		x := doc.Expect[name]
		c := testCase{Class: "run." + doc.Scenario, Name: name}
		if !x.Holds {
			c.Failure = &failure{
				Message: fmt.Sprintf("%s holds in %d of %d replications", x.Expression, x.HoldsIn, doc.Replications),
				Type:    "expectation",
				Text:    x.Error,
			}
		}
		s.add(c)
	}
	return write(w, doc.Model, s)
}
