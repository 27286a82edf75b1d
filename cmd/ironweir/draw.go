package main

import (
	"fmt"
	"strings"
	"time"

	"ironweir/core/check"
	"ironweir/formats/picture"
)

var drawCommand = &command{name: "draw", args: "MODEL", short: "Draw a model, with its loops and losses marked",
	example: `ironweir draw demo/kittiwake-draft.yaml -findings -format png -out draft.png
ironweir draw demo/kittiwake.yaml -rates -scenario demo/friday-evening.yaml -out friday.svg
ironweir draw demo/kittiwake.yaml -around consignments -format mermaid`,
	run: func(c *call) (int, error) {
		m := c.modelFlags("svg|png|dot|mermaid")
		scenario := c.String("scenario", "", "take the traffic from scenario `FILE`")
		around := c.String("around", "", "only `NODE` and what is one link away")
		findings := c.Bool("findings", false, "mark what `check` finds")
		rates := c.Bool("rates", false, "write the mean rate on each link")
		out := c.String("out", "", "write to `FILE` instead of standard output")
		var tags repeated
		c.Var(&tags, "tag", "only nodes with tag `K=V`; may be repeated")
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *m.format, "svg|png|dot|mermaid"); err != nil {
			return 0, err
		}
		l, err := c.loadModel(c.Arg(0), m)
		if err != nil {
			return 0, err
		}
		s, _, err := c.loadTraffic(*scenario, l)
		if err != nil {
			return 0, err
		}
		if *around != "" && l.graph.NodeID(*around) < 0 {
			return 0, fmt.Errorf("-around: %w", l.graph.NoNode(*around))
		}
		o := picture.Options{Around: *around, Tags: map[string]string{}}
		for _, t := range tags {
			k, v, ok := strings.Cut(t, "=")
			if !ok {
				return 0, fmt.Errorf("-tag %s: write it as KEY=VALUE", t)
			}
			o.Tags[k] = v
		}
		if o.Rates, o.Plain = *rates, !*findings; *findings || *rates {
			o.Check = check.Run(l.graph, s, l.head("check"), time.Now())
		}
		var drawn []byte
		switch *m.format {
		case "mermaid":
			drawn = []byte(picture.Mermaid(l.graph, o))
		case "dot":
			drawn = []byte(picture.DOT(l.graph, o))
		default:
			if drawn, err = picture.Render(picture.DOT(l.graph, o), *m.format); err != nil {
				return 0, err
			}
		}
		if *out != "" {
			if err := c.files.Write(*out, drawn); err != nil {
				return 0, fmt.Errorf("-out: %w", err)
			}
			return exitFine, nil
		}
		if *m.format == "png" && isTerminal(c.out) {
			return 0, fmt.Errorf("a PNG is not for a terminal; write it to a file with -out")
		}
		_, err = c.out.Write(drawn)
		return exitFine, err
	}}
