package main

import (
	"cmp"
	"fmt"
	"time"

	"ironweir/core/model"
	"ironweir/core/study"
	"ironweir/formats/text"
)

var firesCommand = &command{
	name:  "fires",
	args:  "[MODEL]",
	short: "Say when schedules fire: in words, in their zone and in UTC",
	example: `ironweir fires demo/kittiwake.yaml -node close-sailing
ironweir fires -words "every weekday at 6:30" -zone Europe/London
ironweir fires -cron "30 1 * * *" -zone Europe/London -from 2026-03-27T00:00:00Z
ironweir fires -cron "0 0 9 ? * MON-FRI" -cron-fields with-seconds -count 3`,
	run: func(c *call) (int, error) {
		m := c.modelFlags("text|json")
		node := c.String("node", "", "only schedule `NODE`")
		cron := c.String("cron", "", "a cron expression `EXPR` instead of a model")
		words := c.String("words", "", "a schedule in `WORDS` instead of a model, as \"every weekday at 6\"; its cron expression is shown")
		fields := c.String(
			"cron-fields",
			"standard",
			"its field `LAYOUT`: standard, with-seconds, with-year, with-both",
		)
		sunday := c.Int("sunday", 0, "the number that Sunday has: 0 or 1")
		zone := c.String("zone", "", "the `ZONE`, an IANA name such as Europe/London")
		from := c.String("from", "", "start at `TIME` (RFC 3339); by default now")
		count := c.Int("count", 6, "show the next `N` instants")
		if err := c.parse(0, 1); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *m.format, "text|json"); err != nil {
			return 0, err
		}
		start := time.Now()
		if *from != "" {
			t, err := time.Parse(time.RFC3339, *from)
			if err != nil {
				return 0, fmt.Errorf("-from %s: write it as 2026-03-27T12:00:00Z (RFC 3339)", *from)
			}
			start = t
		}
		if *count < 1 || *count > 1000 {
			return 0, fmt.Errorf("-count %d: from 1 to 1000", *count)
		}
		given := 0
		for _, is := range []bool{c.NArg() == 1, *cron != "", *words != ""} {
			if is {
				given++
			}
		}
		if given != 1 {
			return 0, fmt.Errorf("name a MODEL, or give -cron or -words, one of them (`ironweir fires -h` has examples)")
		}
		var list []study.Schedule
		switch {
		case *words != "":
			s, _, err := study.ReadFires(*words, cmp.Or(*zone, "UTC"), start, *count)
			if err != nil {
				return 0, fmt.Errorf("-words: %w", err)
			}
			list = append(list, *s)
		case *cron != "":
			n := &model.Node{
				Name:       "cron",
				Kind:       model.Schedule,
				Cron:       *cron,
				CronFields: *fields,
				Sunday:     *sunday,
				Zone:       cmp.Or(*zone, "UTC"),
				Enabled:    true,
			}
			s, err := study.NextFires(n, start, *count)
			if err != nil {
				return 0, err
			}
			list = append(list, *s)
		default:
			l, err := c.loadModel(c.Arg(0), m)
			if err != nil {
				return 0, err
			}
			for _, n := range l.graph.Topology.Nodes {
				if !n.Kind.Fires() || *node != "" && n.Name != *node {
					continue
				}
				if *zone != "" {
					n.Zone = *zone
				}
				s, err := study.NextFires(n, start, *count)
				if err != nil {
					return 0, err
				}
				list = append(list, *s)
			}
			if len(list) == 0 && *node != "" {
				return 0, fmt.Errorf("no schedule %q%s", *node, model.DidYouMean(*node, l.graph.Topology.NodeNames()))
			}
		}
		if *m.format == "json" {
			return exitFine, c.printJSON(map[string]any{"schema": "ironweir/fires/1", "schedules": list})
		}
		return exitFine, text.Fires(c.out, list, c.style())
	},
}
