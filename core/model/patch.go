package model

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
)

// Merge applies a JSON Merge Patch (RFC 7396) to target and gives the result;
// neither input is changed. Places of patched values are those of the patch.
func Merge(target, patch *Value) *Value {
	if patch.Shape != Map {
		return patch
	}
	out := &Value{Shape: Map, Pos: patch.Pos}
	if target != nil && target.Shape == Map {
		out.Pos = target.Pos
		out.Fields = append(out.Fields, target.Fields...)
	}
	for _, f := range patch.Fields {
		if f.Value.Shape == Null {
			out.remove(f.Key)
			continue
		}
		out.put(f.Key, f.Pos, Merge(out.Get(f.Key), f.Value))
	}
	return out
}

// Set returns root with the value at a dotted path replaced, as `-set` on the command
// line does. The value is read as YAML; null removes what is there. A path that leads
// through something that is not a map is an error.
func Set(root *Value, path, text string) (*Value, error) { return setFrom(root, "-set", path, text) }

// setFrom is Set for a setting that does not come from -set.
func setFrom(root *Value, origin, path, text string) (*Value, error) {
	value, err := ReadDocument(origin+" "+path, []byte(text))
	if err != nil {
		return nil, fmt.Errorf("%s %s=%s: %w", origin, path, text, err)
	}
	return replaceAt(root, value, origin, path, strings.Split(path, "."))
}

// replaceAt returns a value with what lies at some steps below it replaced.
func replaceAt(at, value *Value, origin, path string, steps []string) (*Value, error) {
	if len(steps) == 0 {
		return value, nil
	}
	if steps[0] == "" {
		return nil, fmt.Errorf("%s %s: an empty step in the path; write it as nodes.NAME.field", origin, path)
	}
	out := &Value{Shape: Map, Pos: value.Pos}
	if at != nil {
		if at.Shape != Map && at.Shape != Null {
			return nil, fmt.Errorf(
				"%s %s: the part before %q is %s, so nothing can be set in it",
				origin,
				path,
				steps[0],
				at.Shape,
			)
		}
		out.Pos = at.Pos
		out.Fields = append(out.Fields, at.Fields...)
	}
	inner, err := replaceAt(out.Get(steps[0]), value, origin, path, steps[1:])
	if err != nil {
		return nil, err
	}
	if inner.Shape == Null && len(steps) == 1 {
		out.remove(steps[0])
		return out, nil
	}
	out.put(steps[0], value.Pos, inner)
	return out, nil
}

var variable = regexp.MustCompile(`\$(?:\(([a-z][a-z0-9-]*)\)|([a-z][a-z0-9-]*))`)

// Quote keeps texts of a foreign document as they are that look like variables: it adds variables that stand for
// themselves. It reports whether there are any.
func Quote(root *Value) bool {
	names := map[string]string{}
	var walk func(v *Value)
	walk = func(v *Value) {
		if v == nil {
			return
		}
		for _, m := range variable.FindAllStringSubmatch(v.Scalar, -1) {
			names[m[1]+m[2]] = m[0]
		}
		for _, f := range v.Fields {
			if f.Key != "accepts" {
				walk(f.Value)
			}
		}
		for _, item := range v.Items {
			walk(item)
		}
	}
	walk(root)
	given, own := root.Get("variables"), MapValue()
	for _, name := range sortedKeys(names) {
		if given.Get(name) == nil {
			own.Add(name, TextValue(names[name]))
		}
	}
	switch {
	case len(own.Fields) == 0:
		return false
	case given != nil:
		given.Fields = append(given.Fields, own.Fields...)
	default:
		root.Add("variables", own)
	}
	return true
}

// expand replaces $name and $(name) in all scalars below v, except in JSON
// Schemas, which have a `$` of their own.
func expand(v *Value, vars *Value, ps *Problems) *Value {
	if v == nil {
		return nil
	}
	switch v.Shape {
	case Map:
		out := *v
		out.Fields = make([]Field, len(v.Fields))
		for i, f := range v.Fields {
			if f.Key != "accepts" {
				f.Value = expand(f.Value, vars, ps)
			}
			out.Fields[i] = f
		}
		return &out
	case List:
		out := *v
		out.Items = make([]*Value, len(v.Items))
		for i, item := range v.Items {
			out.Items[i] = expand(item, vars, ps)
		}
		return &out
	case Text:
		if !strings.Contains(v.Scalar, "$") {
			return v
		}
		lookup := func(name string) *Value {
			if found := vars.Get(name); found != nil {
				return found
			}
			var names []string
			if vars != nil {
				for _, f := range vars.Fields {
					names = append(names, f.Key)
				}
			}
			*ps = append(
				*ps,
				Problem{Position: v.Pos, Message: fmt.Sprintf("no variable %q%s", name, didYouMean(name, names))},
			)
			return nil
		}
		if m := variable.FindStringSubmatch(v.Scalar); m != nil && m[0] == v.Scalar {
			found := lookup(m[1] + m[2])
			if found == nil {
				return v
			}
			out := *found
			out.Pos = v.Pos
			return &out
		}
		out := *v
		out.Scalar = variable.ReplaceAllStringFunc(v.Scalar, func(s string) string {
			m := variable.FindStringSubmatch(s)
			if found := lookup(m[1] + m[2]); found != nil {
				return found.Scalar
			}
			return s
		})
		return &out
	}
	return v
}

// Plain gives the value as encoding/json would decode it, for payloads and
// schemas.
func (v *Value) Plain() any {
	switch v.Shape {
	case Map:
		out := make(map[string]any, len(v.Fields))
		for _, f := range v.Fields {
			out[f.Key] = f.Value.Plain()
		}
		return out
	case List:
		out := make([]any, len(v.Items))
		for i, item := range v.Items {
			out[i] = item.Plain()
		}
		return out
	case Number:
		var n float64
		if json.Unmarshal([]byte(v.Scalar), &n) == nil {
			return n
		}
		if f, err := parseNumber(v.Scalar); err == nil {
			return f
		}
		return v.Scalar
	case Bool:
		return strings.EqualFold(v.Scalar, "true")
	case Null:
		return nil
	}
	return v.Scalar
}

// nearest gives the candidate that is closest to word, if any is close enough
// to be what was meant.
func nearest(word string, candidates []string) string {
	best, bestDistance := "", len(word)/3+2
	for _, c := range candidates {
		most := min(bestDistance, max(len(word), len(c))) // some letter is in both
		if d := editDistance(word, c, most); d < most {
			best, bestDistance = c, d
		}
	}
	return best
}

func didYouMean(word string, candidates []string) string {
	if n := nearest(word, candidates); n != "" {
		return fmt.Sprintf("; did you mean %q?", n)
	}
	return ""
}

// DidYouMean ends an error message with the candidate nearest to word, or with
// nothing when none is near.
func DidYouMean(word string, candidates []string) string { return didYouMean(word, candidates) }

// editDistance is the Damerau-Levenshtein distance (optimal string alignment),
// or limit when it is at least that.
func editDistance(a, b string, limit int) int {
	if len(a)-len(b) >= limit || len(b)-len(a) >= limit {
		return limit
	}
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return min(last[len(b)], limit)
}
