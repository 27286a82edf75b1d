// Package mapping makes a model of any JSON, YAML, JSON Lines or CSV document by rules that
// the user keeps: which lists of it are nodes and links, and how their fields are worked out.
package mapping

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"ironweir/core/expr"
	"ironweir/core/model"
	"ironweir/formats/drafting"
)

// Format is what a file of rules begins with.
const Format = "mapping/1"

// Result is what the rules came to.
type Result struct {
	Root  *model.Value // the model
	Rules []Matched    // in the order written
	Left  []Left       // what no rule took
}

// Matched is how many items a rule took.
type Matched struct {
	Rule  string // such as "nodes 2"
	Line  int
	Items int
}

// Left is a list of the document of which items were not taken.
type Left struct {
	Path  string // such as doc.queues
	Total int
	Names []string // of those that were not taken, or their places
}

// rule is one rule, compiled.
type rule struct {
	name     string
	line     int
	each     cel.Program
	id, kind cel.Program // id: the name
	from, to cel.Program
	fields   []field
	isLink   bool
}

// field is a field of what a rule makes; an optional one is left out where its expression
// asks for a key that is missing.
type field struct {
	path     string
	optional bool
	value    cel.Program
}

// costLimit bounds one expression.
const costLimit = 10_000_000

// slug makes a name of the model out of some text.
func slug(text string) string {
	s := drafting.Slug(text)
	if s != "" && s[0] >= '0' && s[0] <= '9' {
		s = "n" + s
	}
	return strings.TrimRight(s[:min(len(s), 63)], "-")
}

// part gives a part of a text between separators, counted from 0, or from the end by -1 on;
// empty: there is none.
func part(text, separator string, n int64) string {
	parts := strings.Split(text, separator)
	if n < 0 {
		n += int64(len(parts))
	}
	if n < 0 || n >= int64(len(parts)) {
		return ""
	}
	return parts[n]
}

var environment = sync.OnceValues(func() (*cel.Env, error) {
	return cel.NewEnv(
		cel.Variable("doc", cel.DynType), cel.Variable("item", cel.DynType), cel.Variable("index", cel.IntType),
		cel.CrossTypeNumericComparisons(true),
		cel.Function("slug", cel.Overload("slug_string", []*cel.Type{cel.StringType}, cel.StringType,
			cel.UnaryBinding(func(v ref.Val) ref.Val { return types.String(slug(string(v.(types.String)))) }))),
		cel.Function("part", cel.Overload("part_string_string_int",
			[]*cel.Type{cel.StringType, cel.StringType, cel.IntType}, cel.StringType,
			cel.FunctionBinding(func(v ...ref.Val) ref.Val {
				text, separator := string(v[0].(types.String)), string(v[1].(types.String))
				return types.String(part(text, separator, int64(v[2].(types.Int))))
			}))),
	)
})

// Read makes a model of a document by rules. Errors name the place in the rules, and the item.
func Read(rulesFile string, rules []byte, file string, source []byte) (*Result, error) {
	written, err := model.ReadDocument(rulesFile, rules)
	if err != nil {
		return nil, err
	}
	compiled, name, err := compile(rulesFile, written)
	if err != nil {
		return nil, err
	}
	doc, err := plain(file, source)
	if err != nil {
		return nil, err
	}
	if name == "" {
		name = slug(strings.TrimSuffix(filepath.Base(file), filepath.Ext(file)))
	}
	r := &reading{file: rulesFile, doc: doc, nodes: model.MapValue(), taken: map[string]bool{}}
	out := &Result{Root: model.MapValue().Add("ironweir", model.TextValue("topology/1"))}
	out.Root.Add("name", model.TextValue(name))
	for _, one := range compiled {
		n, err := r.apply(one)
		if err != nil {
			return nil, err
		}
		out.Rules = append(out.Rules, Matched{one.name, one.line, n})
	}
	out.Root.Add("nodes", r.nodes)
	r.left("doc", doc, 0, &out.Left)
	return out, nil
}

// compiler reads rules; its errors name the place.
type compiler struct {
	file string
	env  *cel.Env
}

func (c *compiler) at(v *model.Value, format string, args ...any) error {
	return fmt.Errorf("%s:%d: %s", c.file, max(v.Pos.Line, 1), fmt.Sprintf(format, args...))
}

// compile reads all rules, those of nodes first: links join them.
func compile(file string, doc *model.Value) (rules []*rule, name string, err error) {
	c := &compiler{file: file}
	if c.env, err = environment(); err != nil {
		return nil, "", err
	}
	if doc.Shape != model.Map || doc.Get("ironweir") == nil || doc.Get("ironweir").Scalar != Format {
		return nil, "", c.at(doc, "rules begin with `ironweir: %s`", Format)
	}
	for _, f := range doc.Fields {
		switch f.Key {
		case "ironweir", "nodes", "links":
		case "name":
			name = f.Value.Scalar
		default:
			return nil, "", c.at(f.Value, "rules have no `%s`%s", f.Key,
				model.DidYouMean(f.Key, []string{"name", "nodes", "links"}))
		}
	}
	for _, what := range []string{"nodes", "links"} {
		list := doc.Get(what)
		if list == nil {
			continue
		}
		if list.Shape != model.List {
			return nil, "", c.at(list, "`%s` is a list of rules", what)
		}
		for i, v := range list.Items {
			one := &rule{name: fmt.Sprintf("%s %d", what, i+1), line: v.Pos.Line, isLink: what == "links"}
			if err := c.rule(one, v); err != nil {
				return nil, "", err
			}
			rules = append(rules, one)
		}
	}
	return rules, name, nil
}

// rule reads one rule.
func (c *compiler) rule(one *rule, v *model.Value) (err error) {
	known := map[string]*cel.Program{"each": &one.each, "name": &one.id}
	needed := []string{"each", "name", "kind"}
	if one.isLink {
		known["from"], known["to"] = &one.from, &one.to
		needed = []string{"each", "from", "to"}
	} else {
		known["kind"] = &one.kind
	}
	for _, p := range v.Fields {
		if p.Key == "fields" {
			for _, own := range p.Value.Fields {
				value, err := c.program(own.Value)
				if err != nil {
					return err
				}
				path, optional := strings.CutSuffix(own.Key, "?")
				one.fields = append(one.fields, field{path, optional, value})
			}
			continue
		}
		slot := known[p.Key]
		if slot == nil {
			names := append(slices.Sorted(maps.Keys(known)), "fields")
			return c.at(p.Value, "a rule has no `%s`%s", p.Key, model.DidYouMean(p.Key, names))
		}
		if *slot, err = c.program(p.Value); err != nil {
			return err
		}
	}
	for _, n := range needed {
		if *known[n] == nil {
			return c.at(v, "the rule %s has no `%s`", one.name, n)
		}
	}
	return nil
}

// program compiles one expression.
func (c *compiler) program(v *model.Value) (cel.Program, error) {
	ast, issues := c.env.Compile(v.Scalar)
	if issues.Err() != nil {
		wrong := expr.Wrong(v.Scalar, "a rule sees doc, item and index", issues)
		return nil, c.at(v, "the expression %s: %s", v.Scalar, wrong)
	}
	return c.env.Program(ast, cel.CostLimit(costLimit))
}

// plain reads a document as plain values.
func plain(file string, source []byte) (any, error) {
	switch strings.ToLower(filepath.Ext(file)) {
	case ".csv":
		rows, err := csv.NewReader(bytes.NewReader(source)).ReadAll()
		if err != nil || len(rows) == 0 {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		out := []any{}
		for _, row := range rows[1:] {
			item := map[string]any{}
			for i, name := range rows[0] {
				item[name] = row[i]
			}
			out = append(out, item)
		}
		return out, nil
	case ".jsonl", ".ndjson":
		out := []any{}
		for i, line := range bytes.Split(source, []byte("\n")) {
			if len(bytes.TrimSpace(line)) == 0 {
				continue
			}
			var item any
			if err := json.Unmarshal(line, &item); err != nil {
				return nil, fmt.Errorf("%s:%d: %w", file, i+1, err)
			}
			out = append(out, item)
		}
		return out, nil
	}
	doc, err := model.ReadDocument(file, source)
	if err != nil {
		return nil, err
	}
	return doc.Plain(), nil
}

// reading is a model in the making.
type reading struct {
	file  string
	doc   any
	nodes *model.Value
	taken map[string]bool // items, as JSON
}

// apply applies a rule to all its items, and gives their number.
func (r *reading) apply(one *rule) (int, error) {
	listed, _, err := one.each.Eval(map[string]any{"doc": r.doc, "item": nil, "index": 0})
	if err != nil {
		return 0, r.fault(one, "", "`each`: %s", err)
	}
	items, is := native(listed).([]any)
	if !is {
		return 0, r.fault(one, "", "`each` is not a list but %v", native(listed))
	}
	for i, item := range items {
		where := fmt.Sprintf(", item %d", i+1)
		if err := r.take(one, map[string]any{"doc": r.doc, "item": item, "index": i}, where); err != nil {
			return 0, err
		}
		r.taken[canonical(item)] = true
	}
	return len(items), nil
}

func (r *reading) fault(one *rule, where, format string, args ...any) error {
	return fmt.Errorf("%s:%d: %s%s: %s", r.file, one.line, one.name, where, fmt.Sprintf(format, args...))
}

// take makes the node or link of one item.
func (r *reading) take(one *rule, values map[string]any, where string) error {
	words := map[string]string{}
	for _, p := range []struct {
		what  string
		value cel.Program
	}{{"name", one.id}, {"kind", one.kind}, {"from", one.from}, {"to", one.to}} {
		if p.value == nil {
			continue
		}
		v, _, err := p.value.Eval(values)
		if err != nil {
			return r.fault(one, where, "`%s`: %s", p.what, err)
		}
		s, ok := v.Value().(string)
		if !ok || s == "" {
			return r.fault(one, where, "`%s` is not a text: %v", p.what, v.Value())
		}
		words[p.what] = s
	}
	thing := model.MapValue()
	if one.isLink {
		if why := r.addLink(words, thing); why != "" {
			return r.fault(one, where, "%s", why)
		}
	} else {
		if r.nodes.Get(words["name"]) != nil {
			return r.fault(one, where, "there is a node %s already", words["name"])
		}
		r.nodes.Add(words["name"], thing.Add("kind", model.TextValue(words["kind"])))
	}
	for _, f := range one.fields {
		v, _, err := f.value.Eval(values)
		if err != nil && f.optional && strings.Contains(err.Error(), "no such key") {
			continue
		}
		if err != nil {
			return r.fault(one, where, "%s: %s; `%s?` leaves it out where something is missing", f.path, err, f.path)
		}
		if value := written(native(v)); value != nil {
			put(thing, strings.Split(f.path, "."), value)
		}
	}
	return nil
}

// addLink adds a link to the node that it leaves; why: it cannot.
func (r *reading) addLink(words map[string]string, link *model.Value) (why string) {
	from, to, name := words["from"], words["to"], words["name"]
	node := r.nodes.Get(from)
	if node == nil {
		return fmt.Sprintf("the link leaves %s, which no rule has made%s", from, model.DidYouMean(from, r.names()))
	}
	if name == "" {
		name = to
	}
	if name != to {
		link.Add("to", model.TextValue(to))
	}
	if node.Get("links") == nil {
		node.Add("links", model.MapValue())
	}
	if node.Get("links").Get(name) != nil {
		return fmt.Sprintf("%s has a link %s already; give it another `name`", from, name)
	}
	node.Get("links").Add(name, link)
	return ""
}

func (r *reading) names() []string {
	var out []string
	for _, f := range r.nodes.Fields {
		out = append(out, f.Key)
	}
	return out
}

// put sets a field by its path.
func put(at *model.Value, path []string, value *model.Value) {
	for ; len(path) > 1; path = path[1:] {
		inner := at.Get(path[0])
		if inner == nil {
			inner = model.MapValue()
			at.Add(path[0], inner)
		}
		at = inner
	}
	at.Add(path[0], value)
}

// native gives what an expression came to as plain values.
func native(v ref.Val) any {
	switch v := v.(type) {
	case types.Null:
		return nil
	case traits.Lister:
		out := []any{}
		for it := v.Iterator(); it.HasNext() == types.True; {
			out = append(out, native(it.Next()))
		}
		return out
	case traits.Mapper:
		out := map[string]any{}
		for it := v.Iterator(); it.HasNext() == types.True; {
			key := it.Next()
			out[fmt.Sprint(key.Value())] = native(v.Get(key))
		}
		return out
	}
	return v.Value()
}

// written gives plain values as a value of a model; nil: nothing.
func written(v any) *model.Value {
	switch v := v.(type) {
	case nil:
		return nil
	case bool:
		return &model.Value{Shape: model.Bool, Scalar: strconv.FormatBool(v)}
	case int64:
		return model.NumberValue(strconv.FormatInt(v, 10))
	case uint64:
		return model.NumberValue(strconv.FormatUint(v, 10))
	case float64:
		if v == math.Trunc(v) && math.Abs(v) < 1e15 {
			return model.NumberValue(strconv.FormatInt(int64(v), 10))
		}
		return model.NumberValue(strconv.FormatFloat(v, 'g', -1, 64))
	case string:
		return model.TextValue(v)
	case []any:
		out := model.ListValue()
		for _, item := range v {
			if w := written(item); w != nil {
				out.Items = append(out.Items, w)
			}
		}
		return out
	case map[string]any:
		out := model.MapValue()
		for _, key := range slices.Sorted(maps.Keys(v)) {
			if w := written(v[key]); w != nil {
				out.Add(key, w)
			}
		}
		return out
	}
	return model.TextValue(fmt.Sprint(v))
}

func canonical(v any) string {
	text, err := json.Marshal(v) // keys of maps in order
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(text)
}

// deepest bounds how far into a document lists are looked for.
const deepest = 4

// left finds the lists of maps of which items were not taken.
func (r *reading) left(path string, v any, depth int, out *[]Left) {
	switch v := v.(type) {
	case map[string]any:
		if depth < deepest {
			for _, key := range slices.Sorted(maps.Keys(v)) {
				r.left(path+"."+key, v[key], depth+1, out)
			}
		}
	case []any:
		l := Left{Path: path}
		for i, item := range v {
			m, is := item.(map[string]any)
			if !is {
				continue
			}
			l.Total++
			if !r.taken[canonical(item)] {
				l.Names = append(l.Names, nameOf(m, i))
			} else {
				r.left(fmt.Sprintf("%s[%d]", path, i), item, depth+1, out)
			}
		}
		if len(l.Names) > 0 {
			*out = append(*out, l)
		}
	}
}

// nameOf gives what an item calls itself, or its place.
func nameOf(m map[string]any, i int) string {
	for _, key := range []string{"name", "id", "title", "Name", "Id", "ID"} {
		if s, is := m[key].(string); is {
			return s
		}
	}
	return fmt.Sprintf("[%d]", i)
}
