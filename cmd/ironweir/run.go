package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/schollz/progressbar/v3"

	"ironweir/core/check"
	"ironweir/core/expr"
	"ironweir/core/learn"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
	"ironweir/formats/junit"
	"ironweir/formats/otlp"
	"ironweir/formats/report"
	"ironweir/formats/text"
)

var runCommand = &command{
	name:  "run",
	args:  "MODEL",
	short: "Simulate a model under load and faults, and account for every message",
	example: `ironweir run demo/kittiwake.yaml -scenario demo/friday-evening.yaml
ironweir run demo/kittiwake.yaml -traffic manifest-drop=200/h -down goods-registry=30m@2h
ironweir run demo/kittiwake-draft.yaml -scenario demo/friday-evening.yaml -expect "run.ledger.lost.total == 0" -format json
ironweir run demo/kittiwake.yaml -scenario demo/friday-evening.yaml -variant demo/variants/more-clearing.yaml -beside
ironweir run demo/kittiwake.yaml -scenario demo/friday-evening.yaml -sweep demo/sweeps/clearing.yaml
ironweir run demo/kittiwake.yaml -scenario demo/friday-evening.yaml -look consignments@3h10m
ironweir run demo/kittiwake.yaml -scenario demo/friday-evening.yaml -journey 12
ironweir run demo/kittiwake.yaml -scenario demo/friday-evening.yaml -format otlp > traces.json`,
	run: func(c *call) (int, error) {
		f := c.runFlags("text|json|markdown|junit|html|csv|otlp")
		var series, latency repeated
		c.Var(&series, "series", "put the series of `NODE` into the JSON, or all; may be repeated")
		c.Var(&latency, "latency", "show only the latency `FROM:TO` in the text; may be repeated")
		beside := c.Bool(
			"beside",
			false,
			"run the model beside its variant, or beside what -set changes, and show the differences",
		)
		sweep := c.String("sweep", "", "run every combination of the values in `FILE`, a map of paths to lists")
		look := c.String(
			"look",
			"",
			"show the messages stored in a node at an instant, `NODE@AT`, instead of the whole result",
		)
		journey := c.Uint64("journey", 0, "show journey number `N` step by step, instead of the whole result")
		payloads := c.Bool("v", false, "with -journey: show the payload of each event")
		where := c.String(
			"where",
			"",
			"list the journeys of which an event meets `EXPR`, such as 'event.data.line == \"gannet\"', instead of the whole result",
		)
		out := c.String("out", "", "write result.json and journeys.jsonl into folder `DIR` as well")
		export := c.String(
			"export",
			"",
			"send the traces of a sample of journeys to `ADDRESS` by OTLP/HTTP, such as http://127.0.0.1:4318",
		)
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		if err := f.check(c); err != nil {
			return 0, err
		}
		special := 0
		for _, is := range []bool{*beside || len(f.m.variants) > 1, *sweep != "", *look != "", *journey != 0, *where != ""} {
			if is {
				special++
			}
		}
		if special > 1 {
			return 0, errors.New(
				"variants side by side, -sweep, -look, -journey and -where exclude one another; give one of them",
			)
		}
		if err := c.makeFolder(*out); err != nil {
			return 0, err
		}
		switch {
		case *sweep != "":
			return c.sweep(f, *sweep, *out)
		case *beside || len(f.m.variants) > 1:
			return c.sideBySide(f, *out)
		}
		plan, l, err := f.plan(c, f.m.one())
		if err != nil {
			return 0, err
		}
		switch {
		case *look != "":
			return c.look(f, plan, *look)
		case *journey != 0:
			return c.journey(f, plan, *journey, *payloads)
		case *where != "":
			return c.find(f, plan, *where)
		}
		for _, name := range series {
			if name != "all" && l.graph.NodeID(name) < 0 {
				return 0, fmt.Errorf("-series: %w", l.graph.NoNode(name))
			}
		}
		doc, err := c.simulate(f, plan)
		if err != nil {
			return 0, err
		}
		if *f.m.format == "html" {
			checked := check.Run(l.graph, plan.Scenario, l.head("check"), time.Now())
			return c.verdict(holds(doc)), report.Write(
				c.out,
				l.graph,
				report.Contents{Check: checked, Runs: []report.Run{{Result: doc, Scenario: plan.Scenario}}},
			)
		}
		keepSeries(doc, series)
		if *out != "" {
			if err := c.writeJSON(filepath.Join(*out, "result.json"), doc); err != nil {
				return 0, err
			}
			if err := c.writeJourneys(filepath.Join(*out, "journeys.jsonl"), plan.Replication(0)); err != nil {
				return 0, err
			}
		}
		if *export != "" {
			spans, err := sampledSpans(plan)
			if err != nil {
				return 0, err
			}
			if err := otlp.Export(c, *export, spans); err != nil {
				return 0, unreachable{fmt.Errorf("-export: %w", err)}
			}
			fmt.Fprintf(c.err, "%s sent to %s\n", plural(len(spans), "span"), *export)
		}
		switch *f.m.format {
		case "json":
			err = c.printJSON(doc)
		case "otlp":
			var spans []learn.Span
			if spans, err = sampledSpans(plan); err == nil {
				err = c.printSpans(spans)
			}
		case "markdown":
			err = text.RunMarkdown(c.out, doc)
		case "junit":
			err = junit.Run(c.out, doc)
		case "csv":
			err = text.RunCSV(c.out, doc)
		default:
			err = text.Run(c.out, doc, c.style(), latency)
		}
		if err != nil {
			return 0, err
		}
		return c.verdict(holds(doc)), nil
	},
}

func holds(doc *study.Document) bool {
	for _, x := range doc.Expect {
		if !x.Holds {
			return false
		}
	}
	return true
}

// verdict is the exit code of what has run.
func (c *call) verdict(holds bool) int {
	switch {
	case c.Err() != nil:
		return exitInterrupted
	case !holds:
		return exitShort
	}
	return exitFine
}

// show prints a document as JSON, or by its own words.
func (c *call) show(f *runFlags, doc any, words func() error) error {
	switch *f.m.format {
	case "json":
		return c.printJSON(doc)
	case "text":
		return words()
	}
	return fmt.Errorf("-format %s is for the result of one run; here it is text or json", *f.m.format)
}

// sideBySide runs the model as it is and each of its variants.
func (c *call) sideBySide(f *runFlags, out string) (int, error) {
	var variants []study.Variant
	add := func(f *runFlags, name, file string) error {
		plan, _, err := f.plan(c, file)
		variants = append(variants, study.Variant{Name: name, Plan: plan})
		return err
	}
	switch {
	case len(f.m.variants) == 0 && len(f.m.sets) == 0:
		return 0, errors.New(
			"-beside compares the model with a changed one: give the change with -variant FILE or -set PATH=VALUE",
		)
	case len(f.m.variants) == 0: // the settings are the change
		plain, m := *f, *f.m
		plain.m, m.sets = &m, nil
		if err := add(&plain, variantName(""), ""); err != nil {
			return 0, err
		}
		if err := add(f, "set", ""); err != nil {
			return 0, err
		}
	default:
		for _, file := range append([]string{""}, f.m.variants...) {
			if err := add(f, variantName(file), file); err != nil {
				return 0, err
			}
		}
	}
	bar := c.progress(fmt.Sprintf("%d variants", len(variants)))
	doc, err := study.RunVariants(variants, bar.show)
	bar.clear()
	if err != nil {
		return 0, err
	}
	all := true
	for _, v := range doc.Variants {
		v.Series = nil
		all = all && holds(v)
	}
	if out != "" {
		if err := c.writeJSON(filepath.Join(out, "result.json"), doc); err != nil {
			return 0, err
		}
	}
	err = c.show(f, doc, func() error { return text.Variants(c.out, doc, c.style()) })
	return c.verdict(all), err
}

// sweep runs every combination of the values in a file.
func (c *call) sweep(f *runFlags, file, out string) (int, error) {
	source, err := c.read(file)
	if err != nil {
		return 0, err
	}
	root, err := model.ReadDocument(file, source)
	if err != nil {
		return 0, err
	}
	axes, err := axesOf(file, root)
	if err != nil {
		return 0, err
	}
	bar := c.progress("sweep")
	doc, err := study.RunSweep(axes, f.build(c, "-sweep "+file), *f.workers, bar.show, f.stop(c))
	bar.clear()
	if err != nil {
		return 0, err
	}
	if out != "" {
		if err := c.writeJSON(filepath.Join(out, "result.json"), doc); err != nil {
			return 0, err
		}
	}
	all := true
	for i := range doc.Points {
		all = all && doc.Points[i].Holds()
	}
	err = c.show(f, doc, func() error { return text.Sweep(c.out, doc, c.style()) })
	return c.verdict(all), err
}

// axesOf reads a sweep: a map of paths to lists of values.
func axesOf(file string, root *model.Value) ([]study.Axis, error) {
	if root.Shape != model.Map {
		return nil, fmt.Errorf(
			"%s: a sweep is a map of paths to lists, such as {nodes.consignments.lease: [30s, 90s]}",
			file,
		)
	}
	var axes []study.Axis
	for _, field := range root.Fields {
		a := study.Axis{Path: field.Key}
		if field.Value.Shape != model.List {
			return nil, fmt.Errorf("%s:%d: %s needs a list of values", file, field.Pos.Line, field.Key)
		}
		for _, item := range field.Value.Items {
			if item.Shape == model.Map || item.Shape == model.List {
				flow, err := json.Marshal(item.Plain())
				if err != nil {
					return nil, err
				}
				a.Values = append(a.Values, string(flow))
				continue
			}
			a.Values = append(a.Values, item.Scalar)
		}
		axes = append(axes, a)
	}
	return axes, nil
}

// look shows what rests in a node at an instant of the first replication.
func (c *call) look(f *runFlags, plan study.Plan, where string) (int, error) {
	node, at, ok := strings.Cut(where, "@")
	instant, err := model.ParseDuration(at)
	if !ok || err != nil {
		return 0, fmt.Errorf("-look %s: write it as NODE@AT, such as consignments@3h10m", where)
	}
	rests, total, err := sim.Rest(plan.Replication(0), node, instant)
	if err != nil {
		return 0, err
	}
	if rests == nil {
		rests = []sim.Resting{}
	}
	doc := map[string]any{
		"schema":   "ironweir/rest/1",
		"node":     node,
		"at_s":     instant.Seconds(),
		"count":    total,
		"messages": rests,
	}
	return exitFine, c.show(f, doc, func() error { return text.Rest(c.out, node, instant, rests, total, c.style()) })
}

// journey prints one journey of the first replication.
func (c *call) journey(f *runFlags, plan study.Plan, id uint64, payloads bool) (int, error) {
	j, err := sim.OneJourney(plan.Replication(0), id, sim.JourneyLimits{})
	if err != nil {
		return 0, err
	}
	if j == nil {
		return 0, fmt.Errorf("-journey %d: the first replication has no journey of that number", id)
	}
	return exitFine, c.show(f, j, func() error { return text.Journey(c.out, j, payloads, c.style()) })
}

// mostFound bounds how many journeys -where lists; it counts all.
const mostFound = 50

// find lists the journeys of the first replication of which an event meets a condition.
func (c *call) find(f *runFlags, plan study.Plan, where string) (int, error) {
	condition, err := expr.Compile(where, "bool")
	if err != nil {
		return 0, fmt.Errorf("-where: %w", err)
	}
	found, err := sim.Find(plan.Replication(0), condition, mostFound)
	if err != nil {
		return 0, err
	}
	doc := struct {
		Schema string `json:"schema"`
		Where  string `json:"where"`
		*sim.Found
	}{"ironweir/journeys/1", where, found}
	return exitFine, c.show(f, doc, func() error { return text.Found(c.out, where, found, c.style()) })
}

// journeyLimits bound what -out keeps.
var journeyLimits = sim.JourneyLimits{Bad: 200, Others: 100}

// tracedJourneys bound the traces that are exported: a uniform sample, so that shares and
// times that somebody learns from them are those of the run.
var tracedJourneys = sim.JourneyLimits{Others: 1000}

// sampledSpans makes the traces of a sample of the first replication's journeys.
func sampledSpans(plan study.Plan) ([]learn.Span, error) {
	recorded, err := sim.Journeys(plan.Replication(0), tracedJourneys)
	if err != nil {
		return nil, err
	}
	return otlp.Spans(plan.Graph, plan.Scenario.Start, plan.Scenario.Seed, recorded), nil
}

// printSpans prints spans as OTLP JSON.
func (c *call) printSpans(spans []learn.Span) error {
	out, err := otlp.JSON(spans)
	if err != nil {
		return err
	}
	_, err = c.out.Write(out)
	return err
}

// writeJourneys writes a sample of the journeys of a replication, one a line.
func (c *call) writeJourneys(file string, plan sim.Plan) error {
	recorded, err := sim.Journeys(plan, journeyLimits)
	if err != nil {
		return err
	}
	return c.toFile(file, func(w io.Writer) error {
		encoder := json.NewEncoder(w)
		encoder.SetEscapeHTML(false)
		for i := range recorded {
			if err := encoder.Encode(&recorded[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

func (c *call) writeJSON(file string, doc any) error {
	return c.toFile(file, func(w io.Writer) error {
		inner := *c
		inner.out = w
		return inner.printJSON(doc)
	})
}

// makeFolder makes the folder for results, before the work and not after it.
func (c *call) makeFolder(dir string) error {
	if dir == "" {
		return nil
	}
	if err := c.files.MakeFolder(dir); err != nil {
		return fmt.Errorf("-out: %w", err)
	}
	return nil
}

func keepSeries(doc *study.Document, names repeated) {
	if len(names) == 0 {
		doc.Series = nil
		return
	}
	keep := map[string]bool{}
	for _, n := range names {
		keep[n] = true
	}
	for n := range doc.Series.Nodes {
		if !keep[n] && !keep["all"] {
			delete(doc.Series.Nodes, n)
		}
	}
	for id := range doc.Series.Links {
		if from, _, _ := strings.Cut(id, ":"); !keep[from] && !keep["all"] {
			delete(doc.Series.Links, id)
		}
	}
}

// bar shows progress on a terminal, and nothing elsewhere.
type bar struct {
	inner *progressbar.ProgressBar
	last  atomic.Int64
}

func (c *call) progress(what string) *bar {
	b := &bar{}
	if isTerminal(c.err) {
		b.inner = progressbar.NewOptions(
			1000,
			progressbar.OptionSetWriter(c.err),
			progressbar.OptionSetDescription(what),
			progressbar.OptionSetPredictTime(true),
			progressbar.OptionThrottle(100*time.Millisecond),
			progressbar.OptionClearOnFinish(),
			progressbar.OptionSetElapsedTime(true),
		)
	}
	return b
}

func (b *bar) show(share float64) {
	if b.inner == nil {
		return
	}
	if n := int64(share * 1000); b.last.Swap(n) != n {
		b.inner.Set64(n)
	}
}

func (b *bar) clear() {
	if b.inner != nil {
		b.inner.Clear()
	}
}
