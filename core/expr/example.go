package expr

import (
	"math"
	"sort"
	"strings"
)

// Example makes a payload that fits a JSON Schema document, as far as its
// simple keywords say: const, enum, examples, default, type, properties,
// required, items, bounds, formats. What it gives is the same each time.
//
// Lists within lists are cut short, so that an example has some thousand values at most.
func Example(schema any) any {
	left := 5_000
	return example(schema, "", 0, &left)
}

func example(schema any, name string, depth int, left *int) any {
	s, ok := schema.(map[string]any)
	if *left--; !ok || depth > 20 || *left < 0 {
		return map[string]any{}
	}
	if v, ok := s["const"]; ok {
		return v
	}
	for _, key := range []string{"examples", "enum"} {
		if list, ok := s[key].([]any); ok && len(list) > 0 {
			return list[0]
		}
	}
	if v, ok := s["default"]; ok {
		return v
	}
	for _, key := range []string{"allOf", "anyOf", "oneOf"} {
		if list, ok := s[key].([]any); ok && len(list) > 0 && s["type"] == nil && s["properties"] == nil {
			return example(list[0], name, depth+1, left)
		}
	}
	switch kindOf(s) {
	case "string":
		return exampleText(s, name)
	case "integer", "number":
		return exampleNumber(s)
	case "boolean":
		return true
	case "null":
		return nil
	case "array":
		least := 1.0
		if n, ok := number(s["minItems"]); ok {
			least = n
		}
		list := []any{}
		for range int(min(max(least, 1), 100)) {
			if *left <= 0 {
				break
			}
			list = append(list, example(s["items"], name, depth+1, left))
		}
		return list
	}
	out := map[string]any{}
	properties, _ := s["properties"].(map[string]any)
	names := make([]string, 0, len(properties))
	for p := range properties {
		names = append(names, p)
	}
	if required, ok := s["required"].([]any); ok {
		for _, r := range required {
			if p, ok := r.(string); ok && properties[p] == nil {
				names = append(names, p)
			}
		}
	}
	sort.Strings(names)
	for _, p := range names {
		if properties[p] == nil {
			out[p] = "example"
			continue
		}
		out[p] = example(properties[p], p, depth+1, left)
	}
	return out
}

func kindOf(s map[string]any) string {
	switch t := s["type"].(type) {
	case string:
		return t
	case []any:
		if len(t) > 0 {
			if first, ok := t[0].(string); ok {
				return first
			}
		}
	}
	switch {
	case s["items"] != nil:
		return "array"
	case s["minimum"] != nil || s["maximum"] != nil:
		return "number"
	case s["minLength"] != nil || s["maxLength"] != nil || s["format"] != nil || s["pattern"] != nil:
		return "string"
	}
	return "object"
}

func number(v any) (float64, bool) {
	switch n := v.(type) {
	case float64:
		return n, true
	case int:
		return float64(n), true
	case int64:
		return float64(n), true
	}
	return 0, false
}

func exampleText(s map[string]any, name string) string {
	switch s["format"] {
	case "date-time":
		return "2026-03-27T12:00:00Z"
	case "date":
		return "2026-03-27"
	case "time":
		return "12:00:00Z"
	case "email":
		return "someone@example.org"
	case "uri", "url":
		return "https://example.org/"
	case "uuid":
		return "5f0c4f5e-0d7b-4c36-9a51-0a6c6d5a1c11"
	}
	text := "example"
	if name != "" {
		text = name
	}
	if n, ok := number(s["minLength"]); ok && float64(len(text)) < n {
		text += strings.Repeat("x", int(min(n, 1000))-len(text))
	}
	if n, ok := number(s["maxLength"]); ok && float64(len(text)) > n {
		text = text[:int(n)]
	}
	return text
}

func exampleNumber(s map[string]any) any {
	low, hasLow := number(s["minimum"])
	high, hasHigh := number(s["maximum"])
	if x, ok := number(s["exclusiveMinimum"]); ok {
		low, hasLow = x+1, true
	}
	v := 1.0
	switch {
	case hasLow && hasHigh:
		v = (low + high) / 2
	case hasLow:
		v = max(low, v)
	case hasHigh:
		v = min(high, v)
	}
	if s["type"] == "integer" {
		v = math.Ceil(v)
	}
	if step, ok := number(s["multipleOf"]); ok && step > 0 {
		v = math.Ceil(v/step) * step
	}
	return v
}
