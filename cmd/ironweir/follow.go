package main

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironweir/core/expr"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
	"ironweir/formats/cloudevents"
	"ironweir/formats/otlp"
	"ironweir/formats/text"
)

var followCommand = &command{
	name:  "follow",
	args:  "MODEL",
	short: "Send one message through and see each decision, try and fate",
	example: `ironweir follow demo/kittiwake.yaml -node manifest-drop -key inbound/gannet/8812.csv
ironweir follow demo/kittiwake.yaml -node consignments -fail goods-registry
ironweir follow demo/kittiwake.yaml -node consignments -fail clear-consignment=2
ironweir sample demo/kittiwake.yaml manifest-drop | ironweir follow demo/kittiwake.yaml -node manifest-drop -event -
ironweir follow demo/kittiwake.yaml -node manifest-drop -watch
ironweir follow demo/kittiwake.yaml -node manifest-drop -match inbound/a/1.csv stamped/1.pdf`,
	run: func(c *call) (int, error) {
		f := &follow{m: c.modelFlags("text|json|otlp")}
		f.node = c.String("node", "", "where the message enters: `NODE`")
		f.event = c.String(
			"event",
			"",
			"take the message from `FILE` (CloudEvents JSON: one, a batch, or one a line, which are sent one by one); - is standard input",
		)
		f.data = c.String("data", "", "its payload, `JSON` or @FILE")
		f.key = c.String("key", "", "its subject: the object's `KEY` for a bucket")
		f.kind = c.String("type", "", "its event type `T`")
		f.source = c.String("source", "", "its event source `S`")
		f.change = c.String(
			"change",
			"written",
			"what happened to the object or row: written, deleted, inserted or updated",
		)
		match := c.Bool("match", false, "show which links of the node take which of the KEYs given as arguments")
		f.payloads = c.Bool("v", false, "show the payload of each event")
		watch := c.Bool(
			"watch",
			false,
			"send it again at each save of the model or of the files named, until interrupted",
		)
		c.Var(
			&f.fail,
			"fail",
			"fail every run of `NODE`, or every write to it, or only the first N with NODE=N; may be repeated",
		)
		if err := c.parse(1, 1000); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *f.m.format, "text|json|otlp"); err != nil {
			return 0, err
		}
		if err := c.oneOf("change", *f.change, "written|deleted|inserted|updated"); err != nil {
			return 0, err
		}
		if *match {
			l, err := c.loadModel(c.Arg(0), f.m)
			if err != nil {
				return 0, err
			}
			return f.matchKeys(c, l)
		}
		if c.NArg() > 1 {
			return 0, fmt.Errorf("only MODEL is an argument, unless -match is given; %q is one too many", c.Arg(1))
		}
		if !*watch {
			return exitFine, f.send(c)
		}
		files := []string{c.Arg(0), *f.event, strings.TrimPrefix(*f.data, "@")}
		if slices.Contains(files, "-") {
			return 0, errors.New("-watch reads files again; standard input can be read only once")
		}
		return exitInterrupted, c.watch(files, func() error { return f.send(c) })
	},
}

// follow is one use of the command.
type follow struct {
	m                                            *modelFlags
	node, event, data, key, kind, source, change *string
	payloads                                     *bool
	fail                                         repeated
}

// send sends the message once and prints what happens to it.
func (f *follow) send(c *call) error {
	l, err := c.loadModel(c.Arg(0), f.m)
	if err != nil {
		return err
	}
	if *f.node == "" {
		return fmt.Errorf(
			"-node is missing: name the node at which the message enters, such as -node %s",
			l.graph.Nodes[0].Name,
		)
	}
	plan := sim.FollowPlan{
		Node:    *f.node,
		Subject: *f.key,
		Type:    *f.kind,
		Deleted: *f.change == "deleted",
		Updated: *f.change == "updated",
	}
	events := []cloudevents.Event{{Type: plan.Type, Subject: plan.Subject}}
	if *f.event != "" {
		if events, err = c.readEvents(*f.event); err != nil {
			return err
		}
	}
	for i, e := range events {
		if len(events) > 1 && *f.m.format == "text" {
			fmt.Fprintf(c.out, "%sevent %d of %d, %s\n", strings.Repeat("\n", min(i, 1)), i+1, len(events), e.Subject)
		}
		plan.Type, plan.Subject, plan.Size, plan.Data, plan.Attributes = e.Type, e.Subject, e.Size, e.Data,
			&events[i].Attributes
		if err := f.sendOne(c, l, plan); err != nil {
			return err
		}
	}
	return nil
}

// sendOne sends one message and prints what happens to it; flags say more than
// the event.
func (f *follow) sendOne(c *call, l *loaded, plan sim.FollowPlan) (err error) {
	plan.Fail = map[string]int{}
	if *f.key != "" {
		plan.Subject = *f.key
	}
	if *f.kind != "" {
		plan.Type = *f.kind
	}
	if *f.source != "" {
		own := expr.Attributes{}
		if plan.Attributes != nil {
			own = *plan.Attributes
		}
		own.Source = *f.source
		plan.Attributes = &own
	}
	if *f.data != "" {
		source := []byte(*f.data)
		if file, ok := strings.CutPrefix(*f.data, "@"); ok {
			if source, err = c.read(file); err != nil {
				return err
			}
		}
		if err := json.Unmarshal(source, &plan.Data); err != nil {
			return fmt.Errorf("-data is not JSON: %w", err)
		}
		if plan.Attributes != nil { // the payload is another
			own := *plan.Attributes
			own.Bytes, own.Binary = nil, false
			plan.Attributes = &own
		}
	}
	if plan.Subject == "" {
		if id := l.graph.NodeID(*f.node); id >= 0 {
			plan.Subject = l.graph.SampleKey(id)
		}
	}
	for _, text := range f.fail {
		name, count, some := strings.Cut(text, "=")
		plan.Fail[name] = -1
		if some {
			n, err := strconv.Atoi(count)
			if err != nil || n < 1 {
				return fmt.Errorf(
					"-fail %s: write it as NODE or NODE=N, N being how many runs or writes fail first",
					text,
				)
			}
			plan.Fail[name] = n
		}
	}
	trace, err := sim.Follow(l.graph, plan)
	if err != nil {
		return err
	}
	for _, name := range trace.Unforced {
		why := "the message did not reach it"
		if n := l.graph.Topology.Node(name); n.Kind.Fires() {
			why = "a schedule has neither runs nor writes that could fail"
		}
		fmt.Fprintf(c.err, "-fail %s had no effect: %s\n", name, why)
	}
	doc := study.Follow(l.head("follow"), l.graph, trace)
	switch *f.m.format {
	case "json":
		return c.printJSON(doc)
	case "otlp":
		return c.printSpans(
			otlp.Spans(l.graph, model.DefaultStart, 0, []sim.Journey{{ID: 1, Entry: *f.node, Steps: trace.Steps}}),
		)
	}
	return text.Follow(c.out, &doc, *f.payloads, c.style())
}

// watchInterval is how often files are looked at.
const watchInterval = 150 * time.Millisecond

// watch does something now, and again whenever one of the files has been saved,
// until it is interrupted. What goes wrong is told and does not end it.
func (c *call) watch(files []string, do func() error) error {
	stamp := func() string {
		var b strings.Builder
		for _, f := range files {
			if info, err := os.Stat(f); err == nil {
				fmt.Fprintf(&b, "%d %d;", info.ModTime().UnixNano(), info.Size())
			} else {
				b.WriteString("-;")
			}
		}
		return b.String()
	}
	for {
		seen := stamp()
		if err := do(); err != nil {
			fmt.Fprintln(c.err, err)
		}
		fmt.Fprintf(c.err, "— %s; waiting for the next save (Ctrl-C ends)\n", time.Now().Format("15:04:05"))
		for stamp() == seen {
			select {
			case <-c.Done():
				return nil
			case <-time.After(watchInterval):
			}
		}
	}
}

// mostEvents bounds how many events of a file are followed one by one.
const mostEvents = 100

// readEvents takes messages from CloudEvents: one, a batch, or one a line.
func (c *call) readEvents(file string) ([]cloudevents.Event, error) {
	source, err := c.read(file)
	if err != nil {
		return nil, err
	}
	events, err := cloudevents.Read(source)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if len(events) > mostEvents {
		return nil, fmt.Errorf(
			"%s holds %d events; follow sends at most %d, one by one: a scenario replays more",
			file,
			len(events),
			mostEvents,
		)
	}
	return events, nil
}

// matchKeys shows which links of a node take which keys.
func (f *follow) matchKeys(c *call, l *loaded) (int, error) {
	id := l.graph.NodeID(*f.node)
	if id < 0 {
		return 0, fmt.Errorf("-node: %w", l.graph.NoNode(*f.node))
	}
	if c.NArg() < 2 {
		return 0, fmt.Errorf("-match needs keys as arguments, such as inbound/a/1.csv")
	}
	table := text.MatchTable{}
	for _, out := range l.graph.Nodes[id].Out {
		table.Links = append(table.Links, l.graph.Links[out].Link.Name)
	}
	for _, key := range c.Args()[1:] {
		event := expr.Event{Subject: key, Type: *f.kind, Source: cmp.Or(*f.source, "outside")}
		table.Rows = append(table.Rows, text.MatchRow{Key: key, Why: l.graph.Declined(id, event, *f.change)})
	}
	return exitFine, text.Match(c.out, &table, c.style())
}
