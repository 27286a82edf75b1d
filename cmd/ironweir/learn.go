package main

import (
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/pmezard/go-difflib/difflib"

	"ironweir/core/graph"
	"ironweir/core/learn"
	"ironweir/core/model"
	"ironweir/core/verify"
	"ironweir/formats/otlp"
	"ironweir/formats/text"
)

var learnCommand = &command{
	name:  "learn",
	args:  "TRACES…",
	short: "Draft a model and a scenario from OpenTelemetry traces, or compare them with a model",
	example: `ironweir learn demo/import/quay-traces.jsonl
ironweir learn demo/import/quay-traces.jsonl -out drafted
ironweir learn demo/import/quay-traces.jsonl -drift demo/kittiwake.yaml
ironweir learn demo/import/quay-traces.jsonl -into demo/kittiwake.yaml -dry-run`,
	run: func(c *call) (int, error) {
		out := c.String("out", "", "write model.yaml and scenario.yaml into folder `DIR` instead of printing the model")
		into := c.String("into", "", "add what is missing to `MODEL`, keeping what is there, and show the difference")
		dry := c.Bool("dry-run", false, "with -into: show the difference and leave the file alone")
		drift := c.String("drift", "", "show where `MODEL` and what was observed differ; ends with 1 if they do")
		verified := c.Bool(
			"verify",
			false,
			"simulate the draft on the observed arrivals, and show what was measured beside what it predicts; ends with 1 if they differ",
		)
		within := c.Float64(
			"within",
			0.1,
			"with -verify: the `SHARE` by which a number may differ, the 99th percentile by twice as much",
		)
		name := c.String("name", "", "`NAME` of the drafted model; without it, that of the first file")
		format := c.String("format", "text", "of -drift and -verify: `FORMAT` text, json")
		if err := c.parse(1, 10_000); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *format, "text|json"); err != nil {
			return 0, err
		}
		if *into != "" && *drift != "" {
			return 0, errors.New("-into and -drift are two different things; give one of them")
		}
		if *dry && *into == "" {
			return 0, errors.New("-dry-run goes with -into")
		}
		var spans []learn.Span
		for _, file := range c.Args() {
			source, err := c.readLarge(file)
			if err != nil {
				return 0, err
			}
			more, err := otlp.Read(source)
			if err != nil {
				return 0, fmt.Errorf("%s: %w", file, err)
			}
			spans = append(spans, more...)
		}
		seen := learn.Observe(spans)
		if len(seen.Nodes) == 0 {
			return 0, learn.ErrNothing
		}
		switch {
		case *drift != "":
			return c.drift(seen, *drift, *format)
		case *into != "":
			return c.learnInto(seen, *into, *dry)
		}
		for _, why := range slices.Sorted(maps.Keys(seen.Skipped)) {
			fmt.Fprintf(c.err, "%s not used: %s\n", plural(seen.Skipped[why], "span"), why)
		}
		if *name == "" {
			*name = otlp.Name(c.Arg(0))
		}
		draft := seen.Draft(*name)
		made := model.WriteDocument(draft.Model, draft.Comments)
		t, err := model.Parse("the draft", made, model.Options{})
		if err != nil {
			return 0, fmt.Errorf("what was observed does not make a model: %w", err)
		}
		for _, problem := range verify.Sound(nil, t, time.Now()) {
			fmt.Fprintf(c.err, "review this in the draft: %s\n", problem)
		}
		if *verified {
			return c.learnVerified(seen, t, *within, *format)
		}
		if *out == "" {
			_, err := c.out.Write(made)
			return exitFine, err
		}
		if err := c.makeFolder(*out); err != nil {
			return 0, err
		}
		for file, text := range map[string][]byte{"model.yaml": made,
			"scenario.yaml": model.WriteDocument(draft.Scenario, draft.ScenarioComments)} {
			if err := c.files.Write(filepath.Join(*out, file), text); err != nil {
				return 0, fmt.Errorf("-out: %w", err)
			}
		}
		fmt.Fprintf(
			c.err,
			"%s of %s: %s, %s; written to %s\n",
			plural(len(spans), "span"),
			plural(seen.Traces, "trace"),
			plural(len(seen.Nodes), "node"),
			plural(len(seen.Links), "link"),
			*out,
		)
		return exitFine, nil
	},
}

// learnReplications is how often a draft is simulated on what was observed.
const learnReplications = 20

// learnVerified holds a draft against what it was made from.
func (c *call) learnVerified(seen *learn.Observed, t *model.Topology, within float64, format string) (int, error) {
	g, err := graph.Compile(t)
	if err != nil {
		return 0, err
	}
	doc, err := verify.Learned(seen, g, learnReplications, within)
	if err != nil {
		return 0, err
	}
	code := exitFine
	if !doc.Within {
		code = exitShort
	}
	if format == "json" {
		return code, c.printJSON(doc)
	}
	return code, text.Learned(c.out, doc, learnReplications, c.style())
}

// maxTraces bounds the bytes of one file of traces.
const maxTraces = 1 << 30

// readLarge reads a file that may be larger than a model.
func (c *call) readLarge(file string) ([]byte, error) {
	return c.files.Read(file, maxTraces)
}

func (c *call) drift(seen *learn.Observed, file, format string) (int, error) {
	t, _, err := c.topology(file)
	if err != nil {
		return 0, err
	}
	d := seen.Drift(t)
	code := exitShort
	if d.None() {
		code = exitFine
	}
	if format == "json" {
		return code, c.printJSON(d)
	}
	return code, text.Drift(c.out, t.Name, d, c.style())
}

func (c *call) topology(file string) (*model.Topology, []byte, error) {
	source, err := c.read(file)
	if err != nil {
		return nil, nil, err
	}
	t, err := model.Parse(file, source, model.Options{Load: c.partsBeside(file)})
	return t, source, err
}

func (c *call) learnInto(seen *learn.Observed, file string, dry bool) (int, error) {
	t, before, err := c.topology(file)
	if err != nil {
		return 0, err
	}
	patch, comments := seen.Into(t)
	if len(patch.Get("nodes").Fields) == 0 {
		fmt.Fprintln(c.out, "nothing was observed that the model does not have")
		return exitFine, nil
	}
	now, err := model.Edit(before, patch)
	if err != nil {
		return 0, err
	}
	g, err := graph.Compile(t)
	if err != nil {
		return 0, err
	}
	changed, err := model.Parse(file, now, model.Options{Load: c.partsBeside(file)})
	if err != nil {
		return 0, fmt.Errorf("what was observed does not fit the model, which was left alone: %w", err)
	}
	if problems := verify.Sound(g, changed, time.Now()); len(problems) > 0 {
		return 0, fmt.Errorf(
			"what was observed does not fit the model, which was left alone:\n%s",
			strings.Join(problems, "\n"),
		)
	}
	diff, err := difflib.GetUnifiedDiffString(
		difflib.UnifiedDiff{
			A:        difflib.SplitLines(string(before)),
			B:        difflib.SplitLines(string(now)),
			FromFile: file,
			ToFile:   file + " (with what was observed)",
			Context:  2,
		},
	)
	if err != nil {
		return 0, err
	}
	fmt.Fprint(c.out, diff)
	for _, line := range comments {
		fmt.Fprintf(c.out, "# %s\n", line)
	}
	if dry {
		return exitFine, nil
	}
	return exitFine, c.files.Write(file, now)
}
