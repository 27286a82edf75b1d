package graph

import (
	"fmt"
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
		f.Clauses = append(f.Clauses, Clause{c.Prefix, c.Suffix, c.Type, c.Source, x})
	}
	return f, nil
}

// Takes tells whether the filter takes an event.
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

// Declined tells, for each link that leaves a node, why it does not take an event
// that comes there; empty: it takes it. An event without a type has the node's
// usual one.
func (g *Graph) Declined(node int, e expr.Event) []string {
	if e.Type == "" {
		e.Type = DefaultType(g.Nodes[node].Kind)
	}
	whys := make([]string, len(g.Nodes[node].Out))
	for i, id := range g.Nodes[node].Out {
		whys[i] = g.Links[id].Filter.Why(&e)
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
