package expr

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"golang.org/x/text/language"
	"golang.org/x/text/message"
)

// Schema is a JSON Schema (2020-12 unless it says otherwise) that a payload
// must fit.
type Schema struct {
	Document any
	compiled *jsonschema.Schema
}

// CompileSchema reads a JSON Schema from plain values. References that lead out
// of it are refused: nothing is loaded.
func CompileSchema(document any) (*Schema, error) {
	c := jsonschema.NewCompiler()
	c.UseLoader(noLoader{})
	const name = "mem:schema"
	if err := c.AddResource(name, document); err != nil {
		return nil, err
	}
	s, err := c.Compile(name)
	if err != nil {
		var invalid *jsonschema.SchemaValidationError
		if errors.As(err, &invalid) {
			return nil, fmt.Errorf("not a JSON Schema: %s", plainReason(invalid.Err))
		}
		return nil, fmt.Errorf("not a JSON Schema: %w", err)
	}
	return &Schema{document, s}, nil
}

// noLoader loads nothing.
type noLoader struct{}

func (noLoader) Load(url string) (any, error) {
	return nil, fmt.Errorf("%s lies outside of the model; write what it holds into the schema itself", url)
}

// Fits reports why a payload does not fit, or nil.
func (s *Schema) Fits(payload any) error {
	if err := s.compiled.Validate(payload); err != nil {
		return errors.New(plainReason(err))
	}
	return nil
}

// FitsApart reports why a payload does not fit, whatever some of its parts are: unknown names the properties of which
// only an example is in it. It returns nil where it may fit.
func (s *Schema) FitsApart(payload any, unknown []string) error {
	err := s.compiled.Validate(payload)
	var v *jsonschema.ValidationError
	if !errors.As(err, &v) || !certain(v, unknown) {
		return nil
	}
	return errors.New(plainReason(err))
}

// certain reports whether a payload fails a validation whatever its unknown parts are.
func certain(v *jsonschema.ValidationError, unknown []string) bool {
	holds := func(c *jsonschema.ValidationError) bool { return certain(c, unknown) }
	switch v.ErrorKind.(type) {
	case *kind.AnyOf, *kind.OneOf: // each of them fails
		mayHold := slices.ContainsFunc(v.Causes, func(c *jsonschema.ValidationError) bool { return !holds(c) })
		return len(v.Causes) > 0 && !mayHold
	case *kind.Not, *kind.Const, *kind.Enum:
		return len(v.InstanceLocation) > 0 && !slices.Contains(unknown, v.InstanceLocation[0])
	}
	if len(v.Causes) > 0 {
		return slices.ContainsFunc(v.Causes, holds)
	}
	return len(v.InstanceLocation) == 0 || !slices.Contains(unknown, v.InstanceLocation[0])
}

var english = message.NewPrinter(language.English)

// plainReason gives the first reasons of a validation in one line.
func plainReason(err error) string {
	var v *jsonschema.ValidationError
	if !errors.As(err, &v) {
		return err.Error()
	}
	var reasons []string
	var walk func(v *jsonschema.ValidationError)
	walk = func(v *jsonschema.ValidationError) {
		if len(v.Causes) == 0 && len(reasons) < 3 {
			at := strings.Join(v.InstanceLocation, ".")
			if at != "" {
				at += ": "
			}
			reasons = append(reasons, at+v.ErrorKind.LocalizedString(english))
		}
		for _, c := range v.Causes {
			walk(c)
		}
	}
	walk(v)
	return strings.Join(reasons, "; ")
}
