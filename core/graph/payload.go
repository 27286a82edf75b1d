package graph

import (
	"strings"

	"ironweir/core/expr"
	"ironweir/core/model"
)

// Payload is a payload literal whose strings that start with `=` are CEL.
type Payload struct {
	expression *expr.Expression
	fields     map[string]*Payload
	items      []*Payload
	literal    any
	constant   bool
}

func (g *Graph) payload(v *model.Value) (*Payload, error) {
	if v == nil {
		return nil, nil
	}
	p := &Payload{constant: true}
	switch v.Shape {
	case model.Map:
		p.fields = map[string]*Payload{}
		for _, f := range v.Fields {
			child, err := g.payload(f.Value)
			if err != nil {
				return nil, err
			}
			if child == nil {
				child = &Payload{constant: true}
			}
			p.fields[f.Key] = child
			p.constant = p.constant && child.constant
		}
	case model.List:
		for _, item := range v.Items {
			child, err := g.payload(item)
			if err != nil {
				return nil, err
			}
			p.items = append(p.items, child)
			p.constant = p.constant && child.constant
		}
	default:
		if source, ok := expr.Embedded(v.Scalar); ok && v.Shape == model.Text {
			x, err := g.expression(source, "any")
			if err != nil {
				return nil, err
			}
			p.expression, p.constant = x, false
			return p, nil
		}
	}
	if p.constant {
		p.literal = v.Plain()
	}
	return p, nil
}

// Constant gives the payload where it is the same for every event.
func (p *Payload) Constant() (any, bool) { return p.literal, p.constant }

// Value makes the payload for an event. Constant parts are shared, so the
// result must not be changed.
func (p *Payload) Value(e *expr.Event) (any, error) {
	switch {
	case p.constant:
		return p.literal, nil
	case p.expression != nil:
		v, err := p.expression.Value(e)
		if err == nil && strings.Contains(p.expression.Source, "subject") {
			v = own(v) // the subject lies in memory that is used again
		}
		return v, err
	case p.fields != nil:
		out := make(map[string]any, len(p.fields))
		for k, f := range p.fields {
			v, err := f.Value(e)
			if err != nil {
				return nil, err
			}
			out[k] = v
		}
		return out, nil
	}
	out := make([]any, len(p.items))
	for i, item := range p.items {
		v, err := item.Value(e)
		if err != nil {
			return nil, err
		}
		out[i] = v
	}
	return out, nil
}

// KnownValue returns the payload for an event of which only some attributes are
// known; ok is false where it depends on the others.
func (p *Payload) KnownValue(e *expr.Event, has expr.Known) (value any, ok bool) {
	switch {
	case p.constant:
		return p.literal, true
	case p.expression != nil:
		return p.expression.ValueOf(e, has)
	case p.fields != nil:
		out := make(map[string]any, len(p.fields))
		for k, f := range p.fields {
			if out[k], ok = f.KnownValue(e, has); !ok {
				return nil, false
			}
		}
		return out, true
	}
	out := make([]any, len(p.items))
	for i, item := range p.items {
		if out[i], ok = item.KnownValue(e, has); !ok {
			return nil, false
		}
	}
	return out, true
}

// own copies the texts of a value.
func own(v any) any {
	switch t := v.(type) {
	case string:
		return strings.Clone(t)
	case []any:
		out := make([]any, len(t))
		for i := range t {
			out[i] = own(t[i])
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(t))
		for k, x := range t {
			out[strings.Clone(k)] = own(x)
		}
		return out
	}
	return v
}
