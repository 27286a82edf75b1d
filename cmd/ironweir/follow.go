package main

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
	"ironweir/formats/cloudevents"
	"ironweir/formats/text"
)

var followCommand = &command{name: "follow", args: "MODEL", short: "Send one message through and see each decision, try and fate",
	example: `ironweir follow demo/kittiwake.yaml -node manifest-drop -key inbound/gannet/8812.csv
ironweir follow demo/kittiwake.yaml -node consignments -fail goods-registry
ironweir follow demo/kittiwake.yaml -node consignments -fail clear-consignment=2
ironweir sample demo/kittiwake.yaml manifest-drop | ironweir follow demo/kittiwake.yaml -node manifest-drop -event -
ironweir follow demo/kittiwake.yaml -node manifest-drop -match inbound/a/1.csv stamped/1.pdf`,
	run: func(c *call) (int, error) {
		m := c.modelFlags("text|json")
		node := c.String("node", "", "where the message enters: `NODE`")
		event := c.String("event", "", "take the message from `FILE` (CloudEvents JSON); - is standard input")
		data := c.String("data", "", "its payload, `JSON` or @FILE")
		key := c.String("key", "", "its subject: the object's `KEY` for a bucket")
		kind := c.String("type", "", "its event type `T`")
		change := c.String("change", "written", "what happened to the object: written or deleted")
		match := c.Bool("match", false, "show which links of the node take which of the KEYs given as arguments")
		var fail repeated
		c.Var(&fail, "fail", "let every run of `NODE` fail, or the first N with NODE=N; may be repeated")
		if err := c.parse(1, 1000); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *m.format, "text|json"); err != nil {
			return 0, err
		}
		if err := c.oneOf("change", *change, "written|deleted"); err != nil {
			return 0, err
		}
		l, err := c.loadModel(c.Arg(0), m)
		if err != nil {
			return 0, err
		}
		if *node == "" {
			return 0, fmt.Errorf("-node is missing: name the node at which the message enters, such as -node %s", l.graph.Nodes[0].Name)
		}
		if *match {
			return c.matchKeys(l, *node, *kind)
		}
		if c.NArg() > 1 {
			return 0, fmt.Errorf("only MODEL is an argument, unless -match is given; %q is one too many", c.Arg(1))
		}
		plan := sim.FollowPlan{Node: *node, Subject: *key, Type: *kind, Deleted: *change == "deleted", Fail: map[string]int{}}
		if *event != "" {
			if err := c.readEvent(*event, &plan); err != nil {
				return 0, err
			}
		}
		if *key != "" {
			plan.Subject = *key
		}
		if *data != "" {
			source := []byte(*data)
			if file, ok := strings.CutPrefix(*data, "@"); ok {
				if source, err = c.read(file); err != nil {
					return 0, err
				}
			}
			if err := json.Unmarshal(source, &plan.Data); err != nil {
				return 0, fmt.Errorf("-data is not JSON: %w", err)
			}
		}
		if plan.Subject == "" {
			if id := l.graph.NodeID(*node); id >= 0 {
				plan.Subject = l.graph.SampleKey(id)
			}
		}
		for _, f := range fail {
			name, count, some := strings.Cut(f, "=")
			plan.Fail[name] = -1
			if some {
				n, err := strconv.Atoi(count)
				if err != nil || n < 1 {
					return 0, fmt.Errorf("-fail %s: write it as NODE or NODE=N, N being how many runs fail first", f)
				}
				plan.Fail[name] = n
			}
		}
		trace, err := sim.Follow(l.graph, plan)
		if err != nil {
			return 0, err
		}
		if *m.format == "json" {
			return exitFine, c.printJSON(study.Follow(l.head("follow"), trace))
		}
		return exitFine, text.Follow(c.out, trace, c.style())
	}}

// readEvent takes a message from a CloudEvent.
func (c *call) readEvent(file string, plan *sim.FollowPlan) error {
	source, err := c.read(file)
	if err != nil {
		return err
	}
	events, err := cloudevents.Read(source)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	if len(events) != 1 {
		return fmt.Errorf("%s holds %d events; follow sends one", file, len(events))
	}
	e := events[0]
	plan.Type, plan.Subject, plan.Size, plan.Data = e.Type, e.Subject, e.Size, e.Data
	return nil
}

// matchKeys shows which links of a node take which keys.
func (c *call) matchKeys(l *loaded, node, kind string) (int, error) {
	id := l.graph.NodeID(node)
	if id < 0 {
		return 0, fmt.Errorf("no node %q%s", node, model.DidYouMean(node, l.graph.Topology.NodeNames()))
	}
	if c.NArg() < 2 {
		return 0, fmt.Errorf("-match needs keys as arguments, such as inbound/a/1.csv")
	}
	table := text.MatchTable{}
	for _, out := range l.graph.Nodes[id].Out {
		table.Links = append(table.Links, l.graph.Links[out].Link.Name)
	}
	for _, key := range c.Args()[1:] {
		row := text.MatchRow{Key: key}
		for _, out := range l.graph.Nodes[id].Out {
			e := expr.Event{Subject: key, Type: kind, Source: "outside"}
			if kind == "" {
				e.Type = graph.DefaultType(l.graph.Nodes[id].Kind)
			}
			row.Why = append(row.Why, l.graph.Links[out].Filter.Why(&e))
		}
		table.Rows = append(table.Rows, row)
	}
	return exitFine, text.Match(c.out, &table, c.style())
}
