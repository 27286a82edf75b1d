package main

import (
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/pmezard/go-difflib/difflib"

	"ironweir/core/check"
	"ironweir/core/check/guarantees"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/verify"
	"ironweir/formats/junit"
	"ironweir/formats/sarif"
	"ironweir/formats/text"
)

const checkFormats = "text|json|markdown|sarif|junit"

var checkCommand = &command{
	name:  "check",
	args:  "MODEL",
	short: "Find loops, losses and mistakes in a model, without running it",
	example: `ironweir check demo/kittiwake-draft.yaml
ironweir check demo/kittiwake.yaml -scenario demo/friday-evening.yaml -fail-on warning
ironweir check demo/kittiwake.yaml -set nodes.consignments.lease=20s -format json
ironweir check demo/kittiwake.yaml -since demo/kittiwake-draft.yaml
ironweir check demo/kittiwake-draft.yaml -owner clearance
ironweir check demo/kittiwake.yaml -verify
ironweir check demo/kittiwake.yaml -require requirements.yaml
ironweir check demo/kittiwake-draft.yaml -fix IW401 -dry-run
ironweir check demo/kittiwake-draft.yaml -format sarif > findings.sarif`,
	run: func(c *call) (int, error) {
		if os.Getenv("GOGC") == "" && !c.sent {
			debug.SetGCPercent(400) // one pass over a model: time counts more than memory
		}
		m := c.modelFlags(checkFormats)
		scenario := c.String("scenario", "", "take the traffic from scenario `FILE`")
		failOn := c.String(
			"fail-on",
			"error",
			"exit with 1 for a finding of this `SEVERITY` or worse: error, warning, note, never",
		)
		since := c.String("since", "", "show only what an older model, `OLD`, did not have")
		owner := c.String("owner", "", "show only findings on nodes of `OWNER`")
		fix := c.String(
			"fix",
			"",
			"apply the first remedy of findings with `CODE`, or of all, to the file, and show the difference",
		)
		verified := c.Bool(
			"verify",
			false,
			"simulate the model, without a fault and with each single fault, and print each claim that a run contradicts",
		)
		verifyTime := c.Duration("verify-time", 5*time.Minute, "with -verify: start no further run after `DURATION`")
		require := c.String("require", "", "exit with 1 unless the delivery guarantees in `FILE` hold")
		dry := c.Bool("dry-run", false, "with -fix: show the difference and leave the file alone")
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *m.format, checkFormats); err != nil {
			return 0, err
		}
		if err := c.oneOf("fail-on", *failOn, "error|warning|note|never"); err != nil {
			return 0, err
		}
		if *dry && *fix == "" {
			return 0, errors.New("-dry-run goes with -fix")
		}
		if *fix != "" {
			if err := c.fix(m, *fix, *dry); err != nil || *dry {
				return exitFine, err
			}
		}
		l, doc, err := c.check(c.Arg(0), m, *scenario)
		if err != nil {
			return 0, err
		}
		if *since != "" {
			old := *m
			_, before, err := c.check(*since, &old, *scenario)
			if err != nil {
				return 0, err
			}
			doc.Since(before)
		}
		if *owner != "" {
			if err := doc.OnlyOwner(*owner); err != nil {
				return 0, err
			}
		}
		var verification *verify.Report
		if *verified {
			if *m.format != "text" && *m.format != "json" {
				return 0, errors.New("-verify prints text or json")
			}
			if verification, err = c.verify(l, *verifyTime); err != nil {
				return 0, err
			}
		}
		var unmet []guarantees.Unmet
		if *require != "" {
			if unmet, err = c.unmet(l, *require); err != nil {
				return 0, err
			}
		}
		switch *m.format {
		case "json":
			err = c.printJSON(struct {
				*check.Document
				Unmet        []guarantees.Unmet `json:"unmet,omitempty"`
				Verification *verify.Report     `json:"verification,omitempty"`
			}{doc, unmet, verification})
		case "markdown":
			err = text.CheckMarkdown(c.out, doc)
		case "sarif":
			report, err := sarif.Report(doc, map[string][]byte{l.file: l.text})
			if err != nil {
				return 0, err
			}
			if err := c.printJSON(report); err != nil {
				return 0, err
			}
		case "junit":
			least := check.Severity(*failOn)
			if *failOn == "never" {
				least = check.Error
			}
			err = junit.Check(c.out, doc, least)
		default:
			if err = text.Check(c.out, doc, c.style()); err == nil && verification != nil {
				err = text.Verification(c.out, verification, c.style())
			}
		}
		if err != nil {
			return 0, err
		}
		if *m.format != "json" { // on standard error: the other formats have no word for it
			if err := text.Unmet(c.err, unmet, c.style()); err != nil {
				return 0, err
			}
		}
		if len(unmet) > 0 || verification != nil && len(verification.Contradictions) > 0 {
			return exitShort, nil
		}
		for _, f := range doc.Findings {
			if f.Accepted == nil && *failOn != "never" && f.Severity.AtLeast(check.Severity(*failOn)) {
				return exitShort, nil
			}
		}
		return exitFine, nil
	},
}

// check reads a model, and a scenario for its traffic, and checks it.
func (c *call) check(file string, m *modelFlags, scenario string) (*loaded, *check.Document, error) {
	l, err := c.loadModel(file, m)
	if err != nil {
		return nil, nil, err
	}
	if l.traffic, l.inputs, err = c.loadTraffic(scenario, l); err != nil {
		return nil, nil, err
	}
	return l, check.RunWith(l.graph, l.traffic, l.inputs.Events, l.head("check"), time.Now()), nil
}

// verify holds the findings on a model against runs of it, and starts no run after
// a limit of time.
func (c *call) verify(l *loaded, limit time.Duration) (*verify.Report, error) {
	begin := time.Now()
	bar := c.progress("verify")
	defer bar.clear()
	return verify.Model(l.graph, verify.Options{Scenario: l.traffic, Inputs: l.inputs,
		Progress: func(done, total int) { bar.show(float64(done) / float64(max(total, 1))) },
		Stop:     func() bool { return c.Err() != nil || time.Since(begin) > limit }})
}

// maxFixes bounds how many remedies one -fix applies.
const maxFixes = 500

// fix applies remedies to the file of a model, one after the other, each to what
// the ones before have left, and prints the difference.
func (c *call) fix(m *modelFlags, code string, dry bool) error {
	file := c.Arg(0)
	if file == "-" && !dry {
		return errors.New("-fix changes a file; for standard input use -dry-run")
	}
	if len(m.variants) > 0 || len(m.sets) > 0 {
		return errors.New("-fix changes the file itself; leave -variant and -set out")
	}
	if code != "all" && check.RuleByCode(code) == nil {
		return fmt.Errorf("-fix %s: not a rule; use a code such as IW401, or all", code)
	}
	before, err := c.read(file)
	if err != nil {
		return err
	}
	now := before
	applied := 0
	applications := map[string]int{}
	for range maxFixes {
		t, err := model.Parse(file, now, model.Options{Environment: *m.env, Load: c.partsBeside(file)})
		if err != nil {
			return err
		}
		g, err := graph.Compile(t)
		if err != nil {
			return err
		}
		next, say, err := fixOne(
			check.Run(g, nil, (&loaded{graph: g}).head("check"), time.Now()),
			now,
			file,
			code,
			applications,
		)
		if err != nil {
			return err
		}
		if next == nil {
			break
		}
		fmt.Fprintln(c.err, say)
		now = next
		applied++
	}
	diff, err := difflib.GetUnifiedDiffString(
		difflib.UnifiedDiff{
			A:        difflib.SplitLines(string(before)),
			B:        difflib.SplitLines(string(now)),
			FromFile: file,
			ToFile:   file + " (mended)",
			Context:  2,
		},
	)
	if err != nil {
		return err
	}
	fmt.Fprint(c.out, diff)
	switch {
	case applied == 0:
		fmt.Fprintf(c.err, "nothing to mend: no finding of %s offers a remedy that can be applied here\n", code)
		return nil
	case dry:
		fmt.Fprintf(c.err, "%s would be applied; without -dry-run they are\n", plural(applied, "remedy"))
		return nil
	}
	fmt.Fprintln(c.out)
	return c.files.Write(file, now)
}

// fixOne applies the first remedy that can be; nil: there is none left. A
// finding that comes back is mended again, but not for ever: what one remedy
// changes may concern another.
func fixOne(
	doc *check.Document,
	now []byte,
	file, code string,
	applications map[string]int,
) (next []byte, say string, err error) {
	for i := range doc.Findings {
		f := &doc.Findings[i]
		if f.Accepted != nil || len(f.Remedies) == 0 || code != "all" && !strings.EqualFold(f.Code, code) ||
			applications[f.ID] >= 3 ||
			f.Position.File != file {
			continue
		}
		applications[f.ID]++
		patch, err := f.Remedies[0].Document()
		if err != nil {
			return nil, "", err
		}
		after, err := model.Edit(now, patch)
		if err != nil || slices.Equal(after, now) {
			applications[f.ID] = 3 // it stays, and the check after this shows it
			continue
		}
		return after, fmt.Sprintf("%s %s: %s", f.Code, strings.Join(f.Nodes, ", "), f.Remedies[0].Say), nil
	}
	return nil, "", nil
}

var explainCommand = &command{name: "explain", args: "CODE", short: "Show the page of a rule",
	example: "ironweir explain IW101",
	run: func(c *call) (int, error) {
		format := c.String("format", "text", "`FORMAT`: text, json")
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		r := check.RuleByCode(c.Arg(0))
		if r == nil {
			return 0, fmt.Errorf("no rule %s; the codes are IW101 to IW606, as `ironweir check` prints them", c.Arg(0))
		}
		if *format == "json" {
			return exitFine, c.printJSON(
				map[string]any{"code": r.Code, "title": r.Title, "severity": r.Severity, "doc": r.Doc},
			)
		}
		fmt.Fprintf(c.out, "%s  %s (%s)\n\n%s\n", r.Code, r.Title, r.Severity, r.Doc)
		return exitFine, nil
	}}
