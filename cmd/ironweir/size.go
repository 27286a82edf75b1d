package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"

	"ironweir/core/document"
	"ironweir/core/study"
	"ironweir/formats/text"
)

var sizeCommand = &command{
	name:  "size",
	args:  "MODEL",
	short: "Find the least values of some fields that meet a scenario's expectations",
	example: `ironweir size demo/kittiwake.yaml -scenario demo/friday-evening.yaml -vary nodes.clear-consignment.concurrency=1..40
ironweir size demo/kittiwake.yaml -scenario demo/registry-down.yaml -vary nodes.consignments.links.clear-consignment.retry.tries=1..10`,
	run: func(c *call) (int, error) {
		f := c.runFlags("text|json")
		var vary repeated
		c.Var(
			&vary,
			"vary",
			"look for the least value of `PATH=LO..HI`; may be repeated, the first is made small first",
		)
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		if err := f.check(c); err != nil {
			return 0, err
		}
		if len(vary) == 0 {
			return 0, errors.New(
				"-vary is missing: name a field and its bounds, such as -vary nodes.clear-consignment.concurrency=1..40",
			)
		}
		var ranges []study.Range
		for _, v := range vary {
			r, err := study.ParseRange(v)
			if err != nil {
				return 0, fmt.Errorf("-vary %w", err)
			}
			ranges = append(ranges, r)
		}
		bar := c.progress("sizing")
		doc, err := study.FindSize(
			ranges,
			f.build(c, "-vary"),
			*f.workers,
			func(done, most int) { bar.show(float64(done) / float64(most)) },
			f.stop(c),
		)
		bar.clear()
		if err != nil {
			return 0, err
		}
		doc.Head.Schema = "ironweir/size/1"
		err = c.show(f, doc, func() error { return text.Size(c.out, doc, c.style()) })
		return c.verdict(doc.Met), err
	},
}

var compareCommand = &command{
	name:  "compare",
	args:  "RESULT RESULT…",
	short: "Compare saved results, differences first",
	example: `ironweir run demo/kittiwake-draft.yaml -scenario demo/friday-evening.yaml -out before
ironweir run demo/kittiwake.yaml -scenario demo/friday-evening.yaml -out after
ironweir compare before/result.json after/result.json`,
	run: func(c *call) (int, error) {
		format := c.String("format", "text", "`FORMAT`: text, json")
		if err := c.parse(2, 20); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *format, "text|json"); err != nil {
			return 0, err
		}
		var docs []any
		var names []string
		for _, file := range c.Args() {
			source, err := c.read(file)
			if err != nil {
				return 0, err
			}
			var doc map[string]any
			if err := json.Unmarshal(source, &doc); err != nil {
				return 0, fmt.Errorf("%s: not JSON: %w", file, err)
			}
			if doc["schema"] != "ironweir/run/1" || doc["ledger"] == nil {
				return 0, fmt.Errorf("%s: not the result of a run; `ironweir run -out DIR` writes one", file)
			}
			docs = append(docs, doc)
			names = append(names, filepath.ToSlash(file))
		}
		out := study.Compare(document.NewHead("compare", "", "", ""), names, docs)
		if *format == "json" {
			if err := c.printJSON(out); err != nil {
				return 0, err
			}
		} else if err := text.Compare(c.out, out, c.style()); err != nil {
			return 0, err
		}
		return c.verdict(out.Same), nil
	},
}
