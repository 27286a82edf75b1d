package service

import (
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/check/flow"
	"ironweir/core/study"
)

// schemaName names a type in the description of the API; those of the core bear
// their package, since a check and a run both have a document.
func schemaName(t reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(t, hint)
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
		t = t.Elem()
	}
	switch t.PkgPath() {
	case "ironweir/core/check", "ironweir/core/check/flow", "ironweir/core/check/remedy":
		return "Check" + name
	case "ironweir/core/check/guarantees":
		if name == "Document" || name == "Change" {
			name = "Guarantee" + name
		}
		return "Check" + name
	case "ironweir/core/study":
		return "Run" + name
	case "ironweir/core/sensitivity":
		return "Sensitivity" + name
	case "ironweir/core/mend":
		return "Mend" + name
	case "ironweir/core/learn":
		return "Observed" + name
	case "ironweir/core/verify":
		return "Observed" + name
	case "ironweir/observation":
		return "Observation" + name
	case "ironweir/formats/picture":
		return "Picture" + name
	case "ironweir/rehearsal":
		return "Rehearsal" + name
	}
	return name
}

// describeNulls says of each field that points to a struct and is always written,
// and of intervals, that they may be null; the library describes only what they
// are else.
func describeNulls(registry huma.Registry) {
	for name, schema := range registry.Map() {
		t := registry.TypeFromRef("#/components/schemas/" + name)
		if t == nil {
			continue
		}
		for t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct {
			continue
		}
		for _, f := range reflect.VisibleFields(t) {
			if f.Anonymous && f.Type.Kind() == reflect.Pointer { // what it holds is there or not, all of it
				for _, inner := range reflect.VisibleFields(f.Type.Elem()) {
					key, _, _ := strings.Cut(inner.Tag.Get("json"), ",")
					schema.Required = slices.DeleteFunc(schema.Required, func(r string) bool { return r == key })
				}
			}
			key, options, _ := strings.Cut(f.Tag.Get("json"), ",")
			property := schema.Properties[key]
			if property != nil && f.Type == reflect.TypeFor[study.Interval]() {
				property.Nullable = true // no interval of a single replication
			}
			if property != nil &&
				f.Type == reflect.TypeFor[[]flow.Fault]() { // a name, or names of which any one will do
				property.Items = &huma.Schema{
					OneOf: []*huma.Schema{{Type: "string"}, {Type: "array", Items: &huma.Schema{Type: "string"}}},
				}
			}
			if property != nil && f.Type == reflect.TypeFor[*[2]*float64]() { // null: without bound
				property.Items = &huma.Schema{OneOf: []*huma.Schema{{Type: "number"}, {Type: "null"}}}
			}
			if property == nil || f.Type.Kind() != reflect.Pointer || f.Type.Elem().Kind() != reflect.Struct ||
				f.Type.Elem() == reflect.TypeFor[time.Time]() ||
				strings.Contains(options, "omitempty") {
				continue
			}
			schema.Properties[key] = &huma.Schema{
				OneOf:       []*huma.Schema{property, {Type: "null"}},
				Description: property.Description,
			}
		}
	}
}
