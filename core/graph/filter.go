package graph

import (
	"fmt"
	"slices"
	"strings"

	"ironweir/core/expr"
	"ironweir/core/model"
)

// Filter is a compiled match.
type Filter struct {
	Everything bool
	Clauses    []Clause
}

// Clause is one alternative of a filter: all that it states must hold.
type Clause struct {
	Prefix, Suffix, Type, Source []string
	If                           *expr.Expression
}

func (g *Graph) filter(m model.Match) (Filter, error) {
	f := Filter{Everything: len(m) == 0}
	for _, c := range m {
		x, err := g.expression(c.If, "bool")
		if err != nil {
			return f, err
		}
		g.UsesSource = g.UsesSource || c.Source != nil
		g.UsesIdentity = g.UsesIdentity || g.UsesSource
		f.Clauses = append(f.Clauses, Clause{c.Prefix, c.Suffix, c.Type, c.Source, x})
	}
	return f, nil
}

// Takes reports whether the filter takes an event.
func (f *Filter) Takes(e *expr.Event) bool {
	if f.Everything {
		return true
	}
	for i := range f.Clauses {
		if f.Clauses[i].decline(e) == "" {
			return true
		}
	}
	return false
}

// Why says why the filter declines an event; empty where it takes it.
func (f *Filter) Why(e *expr.Event) string {
	var whys []string
	for i := range f.Clauses {
		why := f.Clauses[i].decline(e)
		if why == "" {
			return ""
		}
		whys = append(whys, f.Clauses[i].explain(why, e))
	}
	return strings.Join(whys, "; ")
}

// WantedChanges lists the changes of a bucket or table that a link takes: those that it
// states, or the default of its kind.
func (l *Link) WantedChanges(from model.Kind) []string {
	if len(l.Changes) > 0 {
		return l.Changes
	}
	return from.WantedChanges()
}

// Declined returns, for each link that leaves a node, why it does not accept an event
// there; empty: it accepts it. An event without a type has the node's default type. What
// happened to an object or row is one of its kind's Changes, or "written" for either change of a
// row by a write; other kinds take no notice of it.
func (g *Graph) Declined(node int, e expr.Event, change string) []string {
	kind := g.Nodes[node].Kind
	if kind == model.Table && change == "written" {
		change = "inserted"
	}
	if e.Type == "" {
		e.Type = kind.Event()
		if kind.Keeps() {
			e.Type = change
		}
	}
	whys := make([]string, len(g.Nodes[node].Out))
	for i, id := range g.Nodes[node].Out {
		l := &g.Links[id]
		wanted := l.WantedChanges(kind)
		switch {
		case l.Disabled:
			whys[i] = "the link is switched off (`enabled: false`)"
		case wanted != nil && !slices.Contains(wanted, change):
			whys[i] = fmt.Sprintf(
				"the link takes only what is %s; the object is %s",
				strings.Join(wanted, " or "),
				change,
			)
		default:
			whys[i] = l.Filter.Why(&e)
		}
	}
	return whys
}

// decline gives the field that does not hold, or nothing. It does not
// allocate.
func (c *Clause) decline(e *expr.Event) string {
	switch {
	case c.Prefix != nil && !anyOf(c.Prefix, e.Subject, strings.HasPrefix):
		return "prefix"
	case c.Suffix != nil && !anyOf(c.Suffix, e.Subject, strings.HasSuffix):
		return "suffix"
	case c.Type != nil && !anyOf(c.Type, e.Type, equal):
		return "type"
	case c.Source != nil && !anyOf(c.Source, e.Source, equal):
		return "source"
	}
	if c.If != nil {
		if ok, _ := c.If.Truth(e); !ok {
			return "if"
		}
	}
	return ""
}

func (c *Clause) explain(field string, e *expr.Event) string {
	subject := e.Subject
	if subject == "" {
		subject = "an empty subject"
	}
	switch field {
	case "prefix":
		return fmt.Sprintf("prefix %s does not match %s", strings.Join(c.Prefix, " or "), subject)
	case "suffix":
		return fmt.Sprintf("suffix %s does not match %s", strings.Join(c.Suffix, " or "), subject)
	case "type":
		return fmt.Sprintf("type %s does not match %q", strings.Join(c.Type, " or "), e.Type)
	case "source":
		return fmt.Sprintf("source %s does not match %q", strings.Join(c.Source, " or "), e.Source)
	}
	if _, err := c.If.Truth(e); err != nil {
		return fmt.Sprintf("the condition cannot be evaluated: %v", err)
	}
	return fmt.Sprintf("the condition %s does not hold", c.If.Source)
}

func equal(a, b string) bool { return a == b }

func anyOf(list []string, s string, holds func(s, want string) bool) bool {
	for _, want := range list {
		if holds(s, want) {
			return true
		}
	}
	return false
}
