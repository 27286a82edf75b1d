package main

import (
	"fmt"
	"time"

	"ironweir/core/cadence"
	"ironweir/core/model"
	"ironweir/formats/text"
)

var firesCommand = &command{name: "fires", args: "[MODEL]", short: "Say when schedules fire: in words, in their zone and in UTC",
	example: `ironweir fires demo/kittiwake.yaml -node close-sailing
ironweir fires -cron "30 1 * * *" -zone Europe/London -from 2026-03-27T00:00:00Z
ironweir fires -cron "0 0 9 ? * MON-FRI" -cron-fields with-seconds -count 3`,
	run: func(c *call) (int, error) {
		m := c.modelFlags("text|json")
		node := c.String("node", "", "only schedule `NODE`")
		cron := c.String("cron", "", "a cron expression `EXPR` instead of a model")
		fields := c.String("cron-fields", "standard", "its field `LAYOUT`: standard, with-seconds, with-year, with-both")
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
		if (c.NArg() == 1) == (*cron != "") {
			return 0, fmt.Errorf("name a MODEL or give -cron, one of the two (`ironweir fires -h` has examples)")
		}
		var list []text.Schedule
		if *cron != "" {
			n := &model.Node{Name: "cron", Kind: model.Schedule, Cron: *cron, CronFields: *fields, Sunday: *sunday, Zone: *zone, Enabled: true}
			if n.Zone == "" {
				n.Zone = "UTC"
			}
			s, err := nextFires(n, start, *count)
			if err != nil {
				return 0, err
			}
			list = append(list, *s)
		} else {
			l, err := c.loadModel(c.Arg(0), m)
			if err != nil {
				return 0, err
			}
			for _, n := range l.graph.Topology.Nodes {
				if n.Kind != model.Schedule || *node != "" && n.Name != *node {
					continue
				}
				if *zone != "" {
					n.Zone = *zone
				}
				s, err := nextFires(n, start, *count)
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
	}}

func nextFires(n *model.Node, start time.Time, count int) (*text.Schedule, error) {
	zone, err := time.LoadLocation(n.Zone)
	if err != nil || n.Zone == "Local" {
		return nil, fmt.Errorf("unknown zone %q; use an IANA name such as Europe/London", n.Zone)
	}
	s := &text.Schedule{Name: n.Name, Zone: n.Zone, Enabled: n.Enabled, Layouts: map[string]string{}}
	if n.Every > 0 {
		s.Text, s.Words = model.FormatDuration(n.Every), "every "+model.FormatDuration(n.Every)+", from the start of a run"
		t := start
		if n.From != nil {
			t = *n.From
			s.Words = "every " + model.FormatDuration(n.Every) + ", from " + n.From.Format(time.RFC3339)
			for t.Before(start) {
				t = t.Add(start.Sub(t).Truncate(n.Every))
				if t.Before(start) {
					t = t.Add(n.Every)
				}
			}
			t = t.Add(-n.Every)
		}
		for range count {
			t = t.Add(n.Every)
			s.Next = append(s.Next, text.Fire{UTC: t.UTC(), Local: t.In(zone)})
		}
		return s, nil
	}
	c, err := cadence.Parse(n.Cron, n.CronFields, n.Sunday)
	if err != nil {
		return nil, err
	}
	s.Text, s.Words = n.Cron, c.Words()
	for _, layout := range cadence.Layouts {
		if other, ok := c.In(layout, n.Sunday); ok && layout != c.Layout {
			s.Layouts[layout] = other
		}
	}
	t := start.Add(-time.Nanosecond)
	for range count {
		next, ok := c.Next(t, zone)
		if !ok || n.Until != nil && !next.Before(*n.Until) {
			break
		}
		t = next
		s.Next = append(s.Next, text.Fire{UTC: t.UTC(), Local: t.In(zone), Change: string(c.ChangeAt(t, zone))})
	}
	return s, nil
}
