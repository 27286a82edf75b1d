package main

import (
	"fmt"
	"time"

	"ironweir/core/check"
	"ironweir/formats/text"
)

var checkCommand = &command{name: "check", args: "MODEL", short: "Find loops, losses and mistakes in a model, without running it",
	example: `ironweir check demo/kittiwake-draft.yaml
ironweir check demo/kittiwake.yaml -scenario demo/friday-evening.yaml -fail-on warning
ironweir check demo/kittiwake.yaml -set nodes.consignments.lease=20s -format json`,
	run: func(c *call) (int, error) {
		m := c.modelFlags("text|json|markdown")
		scenario := c.String("scenario", "", "take the traffic from scenario `FILE`")
		failOn := c.String("fail-on", "error", "exit with 1 for a finding of this `SEVERITY` or worse: error, warning, note, never")
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *m.format, "text|json|markdown"); err != nil {
			return 0, err
		}
		if err := c.oneOf("fail-on", *failOn, "error|warning|note|never"); err != nil {
			return 0, err
		}
		l, err := c.loadModel(c.Arg(0), m)
		if err != nil {
			return 0, err
		}
		s, err := c.loadTraffic(*scenario, l)
		if err != nil {
			return 0, err
		}
		doc := check.Run(l.graph, s, l.head("check"), time.Now())
		switch *m.format {
		case "json":
			err = c.printJSON(doc)
		case "markdown":
			err = text.CheckMarkdown(c.out, doc)
		default:
			err = text.Check(c.out, doc, c.style())
		}
		if err != nil {
			return 0, err
		}
		for _, f := range doc.Findings {
			if f.Accepted == nil && *failOn != "never" && f.Severity.AtLeast(check.Severity(*failOn)) {
				return exitShort, nil
			}
		}
		return exitFine, nil
	}}

var explainCommand = &command{name: "explain", args: "CODE", short: "Show the page of a rule",
	example: "ironweir explain IW101",
	run: func(c *call) (int, error) {
		format := c.String("format", "text", "`FORMAT`: text, json")
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		r := check.RuleByCode(c.Arg(0))
		if r == nil {
			return 0, fmt.Errorf("no rule %s; the codes are IW101 to IW605, as `ironweir check` prints them", c.Arg(0))
		}
		if *format == "json" {
			return exitFine, c.printJSON(map[string]any{"code": r.Code, "title": r.Title, "severity": r.Severity, "doc": r.Doc})
		}
		fmt.Fprintf(c.out, "%s  %s (%s)\n\n%s\n", r.Code, r.Title, r.Severity, r.Doc)
		return exitFine, nil
	}}
