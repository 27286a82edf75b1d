// Package picture draws a topology: DOT and Mermaid text, and by Graphviz SVG
// and PNG. Shapes tell what a node does (holds, moves, works, starts, ends),
// never its kind; colour shows state alone.
package picture

import (
	"bytes"
	"fmt"
	"os/exec"
	"slices"
	"strings"

	"ironweir/core/check"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Options choose what is drawn.
type Options struct {
	Check  *check.Document // its findings are marked; nil: none
	Around string          // only this node and those one link away
	Tags   map[string]string
	Plain  bool // do not mark the findings
	Rates  bool // write on each link how much it carries, as Check has it
}

var dotShapes = map[model.Role]string{
	model.Holds:  `shape=box style="rounded,filled"`,
	model.Moves:  `shape=hexagon style=filled`,
	model.Works:  `shape=box style=filled`,
	model.Starts: `shape=cds style=filled`,
	model.Ends:   `shape=box style="filled,dashed"`,
}

// drawing is what is drawn, the same for all formats.
type drawing struct {
	nodes []drawnNode
	edges []drawnEdge
}

type drawnNode struct {
	id         int
	name, kind string
	role       model.Role
	state      State
	codes      []string
}

type drawnEdge struct {
	from, to int
	label    string
	stroke   string // delivery send call success failure dead-letter
	loops    bool
}

func plan(g *graph.Graph, o Options) *drawing {
	d := &drawing{}
	state, looping, codes := map[string]State{}, map[string]bool{}, map[string][]string{}
	if o.Check != nil && !o.Plain {
		state, looping = States(o.Check.Findings)
		for _, f := range o.Check.Findings {
			if f.Accepted != nil || f.Severity == check.Note || len(f.Nodes) == 0 {
				continue
			}
			if n := f.Nodes[0]; !slices.Contains(codes[n], f.Code) {
				codes[n] = append(codes[n], f.Code)
			}
		}
	}
	shown := map[int]bool{}
	for i := range g.Nodes {
		n := &g.Nodes[i]
		wanted := true
		for k, v := range o.Tags {
			wanted = wanted && n.Tags[k] == v
		}
		if wanted && (o.Around == "" || near(g, i, o.Around)) {
			shown[i] = true
			d.nodes = append(
				d.nodes,
				drawnNode{i, n.Name, string(n.Kind), n.Kind.Role(), state[n.Name], codes[n.Name]},
			)
		}
	}
	for i := range g.Links {
		l := &g.Links[i]
		if shown[l.From] && shown[l.To] {
			d.edges = append(
				d.edges,
				drawnEdge{
					l.From,
					l.To,
					strings.TrimSpace(Label(l) + "\n" + rateOf(l, o)),
					Stroke(l),
					looping[l.Link.ID()],
				},
			)
		}
	}
	for _, e := range g.Edges(false) {
		if e.Dead && shown[e.From] && shown[e.To] {
			d.edges = append(d.edges, drawnEdge{from: e.From, to: e.To, stroke: "dead-letter"})
		}
	}
	return d
}

// rateOf says how much a link carries in the mean, where that is asked for.
func rateOf(l *graph.Link, o Options) string {
	if !o.Rates || o.Check == nil {
		return ""
	}
	switch r := o.Check.Links[l.Link.ID()].Rate; {
	case r == nil:
		return "no bound"
	case *r == 0:
		return ""
	default:
		return model.FormatRate(*r)
	}
}

func near(g *graph.Graph, i int, name string) bool {
	if g.Nodes[i].Name == name {
		return true
	}
	for _, e := range g.Edges(true) {
		if e.From == i && g.Nodes[e.To].Name == name || e.To == i && g.Nodes[e.From].Name == name {
			return true
		}
	}
	return false
}

// Stroke names how a link is drawn: by what it carries.
func Stroke(l *graph.Link) string {
	switch {
	case l.When == model.Success:
		return "success"
	case l.When == model.Failure:
		return "failure"
	case l.Relation == model.WaitingCall:
		return "call"
	case l.Relation.OfRun():
		return "send"
	}
	return "delivery"
}

// Label says a filter, key, type or count in a few words, a line each.
func Label(l *graph.Link) string {
	var parts []string
	if w := check.FilterWords(l.Link.Match); w != "" {
		parts = append(parts, w)
	}
	if l.Link.Key != "" {
		parts = append(parts, l.Link.Key)
	}
	if l.Link.Type != "" {
		parts = append(parts, l.Link.Type)
	}
	if n := l.Count.Dist.Expected(); n != 1 {
		parts = append(parts, fmt.Sprintf("×%g", n))
	}
	if l.Link.ForEach != "" {
		parts = append(parts, "for each "+l.Link.ForEach)
	}
	return strings.Join(parts, "\n")
}

var dotStrokes = map[string]string{
	"delivery":    "",
	"send":        "",
	"call":        ` style=dashed arrowhead=normalnormal`,
	"success":     ` arrowtail=dot dir=both`,
	"failure":     ` style=dotted penwidth=1.6`,
	"dead-letter": ` style=dotted arrowhead=tee`,
}

// DOT writes the picture as Graphviz text.
func DOT(g *graph.Graph, o Options) string {
	d := plan(g, o)
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"digraph %q {\n  rankdir=LR; nodesep=0.25; ranksep=0.55; bgcolor=white; pad=0.3;\n",
		g.Topology.Name,
	)
	b.WriteString(
		"  node [fontname=\"DejaVu Sans\" fontsize=11 fillcolor=\"#f6f6f2\" color=\"#4a4a48\" margin=\"0.14,0.07\"];\n  edge [fontname=\"DejaVu Sans\" fontsize=9 color=\"#4a4a48\" fontcolor=\"#4a4a48\" arrowsize=0.7];\n",
	)
	for _, n := range d.nodes {
		extra := ""
		switch n.state {
		case Loops:
			extra = ` fillcolor="#f6d5ea" color="#9a1f6a" penwidth=2.2`
		case Loses:
			extra = ` fillcolor="#fbe3cf" color="#b0500a" penwidth=2.2`
		case Full:
			extra = ` fillcolor="#e8daff" color="#6929c4" penwidth=2.2`
		}
		label := fmt.Sprintf("%s\n%s", n.name, n.kind)
		if len(n.codes) > 0 {
			label += "\n" + strings.Join(n.codes, " ")
		}
		fmt.Fprintf(&b, "  n%d [label=%s %s%s];\n", n.id, quote(label), dotShapes[n.role], extra)
	}
	for _, e := range d.edges {
		colour := ""
		if e.loops {
			colour = ` color="#9a1f6a" penwidth=2.2`
		}
		fmt.Fprintf(&b, "  n%d -> n%d [label=%s%s%s];\n", e.from, e.to, quote(e.label), dotStrokes[e.stroke], colour)
	}
	b.WriteString("}\n")
	return b.String()
}

// quote writes a DOT string.
func quote(s string) string {
	s = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s)
	return `"` + s + `"`
}

var mermaidShapes = map[model.Role][2]string{
	model.Holds:  {"(", ")"},
	model.Moves:  {"{{", "}}"},
	model.Works:  {"[", "]"},
	model.Starts: {">", "]"},
	model.Ends:   {"[/", "/]"},
}

var mermaidStrokes = map[string]string{
	"delivery":    "-->",
	"send":        "-->",
	"call":        "-.->",
	"success":     "--o",
	"failure":     "-.->",
	"dead-letter": "--x",
}

// Mermaid writes the picture as a Mermaid flowchart.
func Mermaid(g *graph.Graph, o Options) string {
	d := plan(g, o)
	var b strings.Builder
	b.WriteString("flowchart LR\n")
	text := strings.NewReplacer(`"`, "#quot;", "\n", "<br/>", "<", "#lt;", ">", "#gt;", "|", "#124;").Replace
	for _, n := range d.nodes {
		s := mermaidShapes[n.role]
		fmt.Fprintf(&b, "  n%d%s\"%s<br/>%s\"%s\n", n.id, s[0], text(n.name), n.kind, s[1])
	}
	for _, e := range d.edges {
		label := e.label
		if e.stroke == "dead-letter" || e.stroke == "failure" || e.stroke == "success" {
			label = strings.TrimSpace(e.stroke + "\n" + label)
		}
		if label != "" {
			fmt.Fprintf(&b, "  n%d %s|\"%s\"| n%d\n", e.from, mermaidStrokes[e.stroke], text(label), e.to)
		} else {
			fmt.Fprintf(&b, "  n%d %s n%d\n", e.from, mermaidStrokes[e.stroke], e.to)
		}
	}
	b.WriteString(
		"  classDef loops stroke:#9a1f6a,stroke-width:3px\n  classDef loses stroke:#b0500a,stroke-width:3px\n  classDef full stroke:#6929c4,stroke-width:3px\n",
	)
	for _, n := range d.nodes {
		if n.state != "" {
			fmt.Fprintf(&b, "  class n%d %s\n", n.id, n.state)
		}
	}
	return b.String()
}

// Render has Graphviz draw DOT text as "svg" or "png".
func Render(dot, format string) ([]byte, error) {
	path, err := exec.LookPath("dot")
	if err != nil {
		return nil, fmt.Errorf("%s needs Graphviz, Debian's package graphviz; dot and mermaid do without it", format)
	}
	args := []string{"-T" + format}
	if format == "png" { // in SVG it would cut the drawing off
		args = append(args, "-Gdpi=96")
	}
	cmd := exec.Command(path, args...)
	cmd.Stdin = strings.NewReader(dot)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); err != nil {
		return nil, fmt.Errorf("graphviz: %w: %s", err, strings.TrimSpace(errs.String()))
	}
	return out.Bytes(), nil
}
