// Package openapi reads OpenAPI 3.0 and 3.1 documents: each operation becomes an endpoint,
// which accepts what its schema does.
package openapi

import (
	"fmt"
	"slices"
	"strings"

	"ironweir/core/model"
	"ironweir/formats/drafting"
)

// methods are those of operations, in the order in which they are drawn.
var methods = []string{"get", "put", "post", "delete", "patch", "head", "options"}

// draft is a model in the making.
type draft struct{ *drafting.Draft }

// Read drafts a model: comments say, by path, what was guessed, and missing lists what the
// document does not say.
func Read(file string, source []byte) (root *model.Value, comments map[string]string, missing []string, err error) {
	doc, err := model.ReadDocument(file, source)
	if err != nil {
		return nil, nil, nil, err
	}
	version := doc.Get("openapi")
	switch {
	case version == nil && doc.Get("swagger") != nil:
		return nil, nil, nil, fmt.Errorf("%s:%d: a document of version 2; versions 3.0 and 3.1 are read",
			file, doc.Get("swagger").Pos.Line)
	case version == nil:
		return nil, nil, nil, fmt.Errorf("%s: no `openapi` field: this is not an OpenAPI document", file)
	case !strings.HasPrefix(version.Scalar, "3."):
		return nil, nil, nil, fmt.Errorf("%s:%d: OpenAPI %s; versions 3.0 and 3.1 are read",
			file, version.Pos.Line, version.Scalar)
	}
	d := &draft{drafting.New(doc)}
	root, err = d.model(file)
	return root, d.Comments, d.Missing, err
}

func text(s string) *model.Value { return model.TextValue(s) }

// model drafts: one function stands for the application, and waits for nothing.
func (d *draft) model(file string) (*model.Value, error) {
	title := drafting.Scalar(d.Doc, "info", "title")
	root := model.MapValue().Add("ironweir", text("topology/1")).Add("name", text(d.Name(title, "model")))
	d.Free(drafting.Scalar(root, "name"))
	if about := strings.TrimSpace(drafting.Scalar(d.Doc, "info", "description")); about != "" {
		root.Add("about", text(about))
	}
	app := d.Name(title, "application")
	nodes := model.MapValue()
	if paths := d.Doc.Get("paths"); paths != nil {
		for _, p := range paths.Fields {
			item := d.at(p.Value)
			for _, method := range methods {
				if op := item.Get(method); op != nil {
					d.endpoint(nodes, app, p.Key, method, op)
				}
			}
		}
	}
	if len(nodes.Fields) == 0 {
		return nil, fmt.Errorf("%s: the document has no operations, so there is nothing to draw", file)
	}
	function := model.MapValue().Add("kind", text("function"))
	if title != "" {
		function.Add("about", text(title))
	}
	nodes.Add(app, function)
	d.Comments["ironweir"] = "Drafted from an OpenAPI document; what was guessed is marked."
	d.Comments["nodes."+app] = "Guessed: one function stands for the whole application. How long it takes, how often it fails, its concurrency and memory are not in the document, nor what it writes and calls."
	d.Lacks("how long %s takes, how often it fails, and what it writes and calls", app)
	if hooks := d.Doc.Get("webhooks"); hooks != nil && len(hooks.Fields) > 0 {
		d.Lacks("where its %d web hooks go", len(hooks.Fields))
	}
	return root.Add("nodes", nodes), nil
}

func (d *draft) endpoint(nodes *model.Value, app, path, method string, op *model.Value) {
	id := drafting.Scalar(op, "operationId")
	if id == "" {
		id = method + " " + path
	}
	name := d.Name(id, "endpoint")
	n := model.MapValue().Add("kind", text("endpoint")).
		Add("method", text(strings.ToUpper(method))).Add("path", text(path))
	for _, key := range []string{"summary", "description"} {
		if about := strings.TrimSpace(drafting.Scalar(op, key)); about != "" {
			n.Add("about", text(about))
			break
		}
	}
	if schema := d.accepts(op); schema != nil {
		n.Add("accepts", schema)
	}
	n.Add("links", model.MapValue().Add(app, model.MapValue()))
	nodes.Add(name, n)
	d.Lacks("how much comes to %s (rate)", name)
}

// accepts gives the schema of an operation's JSON body, with all that it refers to; nil: it
// has none.
func (d *draft) accepts(op *model.Value) *model.Value {
	content := d.at(op.Get("requestBody")).Get("content")
	if content == nil {
		return nil
	}
	for _, c := range content.Fields {
		kind, _, _ := strings.Cut(c.Key, ";")
		if kind != "application/json" && !strings.HasSuffix(kind, "+json") {
			continue
		}
		schema := c.Value.Get("schema")
		if schema == nil {
			return nil
		}
		needed := []string{}
		out := d.schema(schema, &needed)
		defs := model.MapValue()
		for i := 0; i < len(needed); i++ { // which grows while it is gone through
			defs.Add(needed[i], d.schema(d.Doc.Get("components").Get("schemas").Get(needed[i]), &needed))
		}
		if len(defs.Fields) > 0 {
			out.Add("$defs", defs)
		}
		return out
	}
	return nil
}

const components = "#/components/schemas/"

// schema copies a schema: references lead to its own $defs, and what version 3.0 writes as
// `nullable` is a type. The names that it refers to are added to needed.
func (d *draft) schema(v *model.Value, needed *[]string) *model.Value {
	if v == nil {
		return model.MapValue()
	}
	switch v.Shape {
	case model.List:
		out := model.ListValue()
		for _, item := range v.Items {
			out.Items = append(out.Items, d.schema(item, needed))
		}
		return out
	case model.Map:
	default:
		return v
	}
	out := model.MapValue()
	nullable := drafting.Scalar(v, "nullable") == "true"
	for _, f := range v.Fields {
		switch f.Key {
		case "nullable", "example", "examples", "discriminator", "xml", "externalDocs", "readOnly", "writeOnly",
			"deprecated":
			continue // words of the document, not of the payload
		case "$ref":
			name, ours := strings.CutPrefix(f.Value.Scalar, components)
			name = drafting.Unescaped(name)
			if !ours || d.Doc.Get("components").Get("schemas").Get(name) == nil {
				d.Lacks("%s is in another document, or nowhere, and was not read", f.Value.Scalar)
				return model.MapValue()
			}
			if !slices.Contains(*needed, name) {
				*needed = append(*needed, name)
			}
			out.Add("$ref", text("#/$defs/"+drafting.Escaped(name)))
		case "exclusiveMinimum", "exclusiveMaximum":
			if f.Value.Shape != model.Bool { // in version 3.0 it says how the bound beside it is meant
				out.Add(f.Key, f.Value)
			}
		case "minimum", "maximum":
			key := f.Key
			if drafting.Scalar(v, "exclusive"+strings.ToUpper(key[:1])+key[1:]) == "true" {
				key = "exclusive" + strings.ToUpper(key[:1]) + key[1:]
			}
			out.Add(key, f.Value)
		case "type":
			if nullable && f.Value.Shape == model.Text {
				out.Add("type", model.ListValue(f.Value, text("null")))
				continue
			}
			out.Add("type", f.Value)
		case "properties", "patternProperties": // names, of which one may be called as a word above
			inner := model.MapValue()
			for _, p := range f.Value.Fields {
				inner.Add(p.Key, d.schema(p.Value, needed))
			}
			out.Add(f.Key, inner)
		case "enum", "const", "default", "required":
			out.Add(f.Key, f.Value)
		default:
			out.Add(f.Key, d.schema(f.Value, needed))
		}
	}
	return out
}

// at follows a reference within the document; nil: it leads nowhere.
func (d *draft) at(v *model.Value) *model.Value {
	target, _ := d.At(v)
	return target
}
