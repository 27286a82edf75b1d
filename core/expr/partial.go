package expr

import (
	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// Known says which attributes of an event are known where an expression is
// evaluated over an event that is only partly known.
type Known uint8

const (
	KnownSubject Known = 1 << iota
	KnownType
	KnownSource
	KnownSize
	KnownData
	KnownTry
)

var attributes = []struct {
	known Known
	name  string
}{{KnownSubject, "event.subject"}, {KnownType, "event.type"}, {KnownSource, "event.source"}, {KnownSize,
	"event.size"}, {KnownData, "event.data"}, {KnownTry, "event.try"},
	// These differ from message to message, or from try to try.
	{0, "event.id"}, {0, "event.time"}, {0, "event.hops"}, {0, "event.age"}, {0, "item"}, {0, "index"}, {0, "error"}}

// evalPartly evaluates over the known attributes of an event; known is false
// where the value depends on the others.
func (x *Expression) evalPartly(e *Event, has Known) (v ref.Val, known bool, err error) {
	if x.constant != nil {
		return x.constant, true, nil
	}
	program, err := x.partial()
	if err != nil {
		return nil, false, err
	}
	var unknown []*cel.AttributePatternType
	for _, a := range attributes {
		if a.known&has == 0 {
			unknown = append(unknown, cel.AttributePattern(a.name))
		}
	}
	vars, err := cel.PartialVars(e, unknown...)
	if err != nil {
		return nil, false, err
	}
	v, _, err = program.Eval(vars)
	if err != nil {
		return nil, true, err
	}
	if types.IsUnknown(v) {
		return nil, false, nil
	}
	return v, true, nil
}

// Judge reports whether a condition holds for an event of which only some
// attributes are known: Certain, Impossible, or Possible where the others decide.
// As in Truth, what cannot be evaluated does not hold.
func (x *Expression) Judge(e *Event, has Known) Verdict {
	v, known, err := x.evalPartly(e, has)
	switch {
	case !known:
		return Possible
	case err != nil:
		return Impossible
	}
	if b, ok := v.Value().(bool); ok && b {
		return Certain
	}
	return Impossible
}

// ListLength returns the length of the list that an expression gives for an event
// of which only some attributes are known; known is false where the others decide.
func (x *Expression) ListLength(e *Event, has Known) (length int, known bool) {
	_, known, err := x.evalPartly(e, has)
	if !known || err != nil {
		return 0, known
	}
	list, err := x.List(e)
	if err != nil {
		return 0, true
	}
	return len(list), true
}

// ValueOf returns the plain value that an expression gives for an event of which
// only some attributes are known, null where it cannot be evaluated; known is false
// where the others decide.
func (x *Expression) ValueOf(e *Event, has Known) (value any, known bool) {
	v, known, err := x.evalPartly(e, has)
	if !known || err != nil {
		return nil, known
	}
	return Plain(v), true
}

// NumberOf returns the number that an expression gives for an event of which only
// some attributes are known; known is false where the others decide.
func (x *Expression) NumberOf(e *Event, has Known) (number float64, known bool) {
	_, known, err := x.evalPartly(e, has)
	if !known || err != nil {
		return 0, known
	}
	number, err = x.Number(e)
	if err != nil {
		return 0, true
	}
	return number, true
}
