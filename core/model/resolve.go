package model

import (
	"slices"
	"strings"

	"ironweir/core/expr"
)

// resolve checks everything that needs the whole model: names that must exist,
// which kinds a link may join, expressions and templates.
func (d *decoder) resolve(t *Topology, together map[string]Position) {
	names := t.NodeNames()
	need := func(name string, pos Position, path string) *Node {
		if n := t.byName[name]; n != nil {
			return n
		}
		// A node that could not be read has been reported already.
		d.problem(pos, path, "no node %q%s", name, didYouMean(name, names))
		return nil
	}
	for _, n := range t.Nodes {
		path := "nodes." + n.Name
		for _, c := range n.Callers {
			need(c, n.place("callers"), path+".callers")
		}
		if n.DeadLetter != "" {
			at := n.place("dead-letter")
			d.deadLetter(need(n.DeadLetter, at, path+".dead-letter"), n, at, path+".dead-letter")
		}
		if n.Pool != "" {
			if _, ok := t.Pools[n.Pool]; !ok {
				near := didYouMean(n.Pool, sortedKeys(t.Pools))
				d.problem(n.place("pool"), path+".pool", "no pool %q%s", n.Pool, near)
			}
		}
		d.nodeExpressions(n, path)
		d.calls(t, n, path+".do")
		waiting := 0
		for _, l := range n.Links {
			lpath := path + ".links." + l.Name
			to := need(l.To, l.ToPos, lpath+".to")
			if to == nil {
				continue
			}
			if t.Node(n.Name) != nil && partOf(n.Name) != partOf(to.Name) && partOf(to.Name) != "" && !to.Public {
				d.problem(l.ToPos, lpath+".to", "%s is not `public`, so only its own part may link to it", to.Name)
			}
			var err error
			if l.Relation, err = relate(n.Kind, to.Kind, l.Mode, l.When); err != nil {
				at := l.ToPos
				if l.Mode != "" {
					at = l.place("mode")
				}
				d.problem(at, lpath, "%v", err)
				continue
			}
			if n.Kind == Endpoint && l.Relation == WaitingCall {
				if waiting++; waiting == 2 {
					d.problem(l.Pos, lpath, "an endpoint waits for one link at most; give the others `mode: accept`")
				}
			}
			d.linkFields(n, to, l, lpath)
			if l.DeadLetter != "" {
				d.deadLetter(need(l.DeadLetter, l.DLPos, lpath+".dead-letter"), n, l.DLPos, lpath+".dead-letter")
			}
		}
	}
	for name, members := range t.FailsTogether {
		for _, m := range members {
			need(m, together[name], "fails-together."+name)
		}
	}
	for i := range t.Alarms {
		a := &t.Alarms[i]
		if a.Of == "" {
			if a.Watch != "lost" && a.Watch != "parked" {
				d.problem(a.Pos, "alarms."+a.Name, "an alarm needs `of`, the node whose %s it watches", a.Watch)
			}
			continue
		}
		need(a.Of, a.Pos, "alarms."+a.Name+".of")
	}
	for _, a := range t.Accepted {
		if a.Node != "" {
			need(a.Node, a.Pos, "accepted")
		}
	}
}

func partOf(name string) string {
	if i := strings.LastIndexByte(name, '/'); i >= 0 {
		return name[:i]
	}
	return ""
}

func (d *decoder) deadLetter(to, from *Node, pos Position, path string) {
	if to != nil && (to.Kind == Schedule || to.Kind == Endpoint) {
		d.problem(
			pos,
			path,
			"%s cannot take dead letters; use a queue, bucket, topic, stream, table, function, workflow or outside system",
			to.Kind.Noun(),
		)
	}
	if to != nil && to == from {
		d.problem(pos, path, "%s is its own dead-letter; name another node", from.Name)
	}
}

func (d *decoder) nodeExpressions(n *Node, path string) {
	d.condition(n.place("group"), path+".group", n.Group, "any")
	d.condition(n.place("by"), path+".by", n.By, "any")
	d.condition(n.place("idempotent"), path+".idempotent", n.Idempotent, "any")
	if n.Dedupe != nil {
		if n.Dedupe.By == "" {
			d.problem(n.place("dedupe"), path+".dedupe", "`dedupe` needs `by`, an expression that gives the key")
		}
		d.condition(n.place("dedupe", "by"), path+".dedupe.by", n.Dedupe.By, "any")
	}
	for _, c := range n.Cases {
		d.condition(n.place("cases", c.Name, "if"), path+".cases."+c.Name+".if", c.If, "bool")
	}
	for _, c := range n.Ignore {
		d.condition(c.Pos, path+".ignore.if", c.If, "bool")
	}
	for _, k := range n.Keys {
		if _, err := expr.ParseTemplate(k, true); err != nil {
			d.problem(n.place("keys"), path+".keys", "%v", err)
		}
	}
	if n.Data != nil {
		d.payload(n.Data, path+".data")
	}
}

// payload checks the CEL in a payload: strings that start with `=`.
func (d *decoder) payload(v *Value, path string) {
	for _, f := range v.Fields {
		d.payload(f.Value, path+"."+f.Key)
	}
	for _, item := range v.Items {
		d.payload(item, path)
	}
	if source, ok := expr.Embedded(v.Scalar); ok && v.Shape == Text {
		d.condition(v.Pos, path, source, "any")
	}
}

// linkFields checks that each field stands on a link that it has a meaning on.
func (d *decoder) linkFields(from, to *Node, l *Link, path string) {
	misplaced := func(is bool, field, where string) {
		if is {
			d.problem(
				l.place(field),
				path+"."+field,
				"`%s` has no meaning on a link from %s to %s%s; it belongs on %s",
				field,
				from.Kind.Noun(),
				to.Kind.Noun(),
				whenText(l),
				where,
			)
		}
	}
	r := l.Relation
	result := l.When != OfRun
	ofRun := from.Kind.Runs() && !result
	misplaced(
		len(l.Changes) > 0 && from.Kind != Bucket && from.Kind != Table,
		"changes",
		"links from a bucket or table",
	)
	d.changes(from, l, path)
	misplaced(l.Match != nil && ofRun, "match", "links from a channel, schedule or endpoint; on a send use `if`")
	misplaced(l.Read.Written && !from.Kind.Polled(), "read", "links from a queue, stream or table")
	misplaced(
		l.DeadLetter != "" && !r.Delivering() && !r.Asynchronous(),
		"dead-letter",
		"delivering and asynchronous links",
	)
	misplaced(l.Wrap != "none" && ofRun, "wrap", "delivering links")
	misplaced(result && from.Kind != Function && from.Kind != Workflow, "when", "links from a function or workflow")
	misplaced(l.AtStart && (!ofRun || from.Kind == Outside), "at", "what a function's run sends")
	misplaced(l.PerRun && !ofRun, "per", "what a function's run sends")
	count := l.Count.Expr != "" || l.Count.Dist.Dist != "constant" || l.Count.Dist.Mean != 1
	const senders = "links from a function, workflow or outside system"
	misplaced(count && !ofRun, "count", senders)
	misplaced(l.ForEach != "" && !ofRun, "for-each", senders)
	misplaced(l.Chance != 1 && !ofRun, "chance", senders)
	misplaced(l.If != "" && !ofRun, "if", senders)
	sends := from.Kind.Runs()
	misplaced(l.Key != "" && !sends, "key", senders)
	misplaced(l.Type != "" && !sends, "type", senders)
	misplaced(l.Data != nil && !sends, "data", senders)
	misplaced(l.Size >= 0 && !sends, "size", senders)
	misplaced(l.Op != "" && !sends, "op", senders)
	misplaced(l.Ignore && (!ofRun || r == RunIntake || r == RunPush), "on-error", "waiting calls and writes of a run")
	d.operation(to, l, path)
	d.expressions(l, path)
}

// changes checks the kinds of change that a link from a bucket or table takes.
func (d *decoder) changes(from *Node, l *Link, path string) {
	for _, c := range l.Changes {
		allowed := []string{"written", "deleted"}
		if from.Kind == Table {
			allowed = []string{"inserted", "updated", "deleted"}
		}
		if !slices.Contains(allowed, c) && (from.Kind == Bucket || from.Kind == Table) {
			d.problem(l.place("changes"), path+".changes", "%q is not one of %s", c, strings.Join(allowed, ", "))
		}
	}
}

// operation checks what a link does to the bucket or table that it leads to.
func (d *decoder) operation(to *Node, l *Link, path string) {
	switch l.Op {
	case "":
	case "read":
		if to.Kind != Bucket && to.Kind != Table {
			d.problem(
				l.place("op"),
				path+".op",
				"only a bucket or table can be read; %s hands out its messages itself",
				to.Kind.Noun(),
			)
		}
	case "write", "delete":
		if to.Kind != Bucket && !(to.Kind == Table && l.Op == "delete") {
			d.problem(
				l.place("op"),
				path+".op",
				"op: %s goes to a bucket%s",
				l.Op,
				map[bool]string{true: " or table", false: ""}[l.Op == "delete"],
			)
		}
	default:
		if to.Kind != Table {
			d.problem(l.place("op"), path+".op", "op: %s goes to a table", l.Op)
		}
	}
}

// expressions checks the expressions of a link.
func (d *decoder) expressions(l *Link, path string) {
	for _, c := range l.Match {
		d.condition(c.Pos, path+".match.if", c.If, "bool")
	}
	d.condition(l.place("if"), path+".if", l.If, "bool")
	d.condition(l.place("for-each"), path+".for-each", l.ForEach, "list")
	d.condition(l.place("count"), path+".count", l.Count.Expr, "number")
	if l.Key != "" {
		if _, err := expr.ParseTemplate(l.Key, false); err != nil {
			d.problem(l.place("key"), path+".key", "%v", err)
		}
	}
	if l.Data != nil {
		d.payload(l.Data, path+".data")
	}
}

func whenText(l *Link) string {
	if l.When == OfRun {
		return ""
	}
	return " with `when: " + string(l.When) + "`"
}
