// Package templates writes text files from a model by a template of the user's: definitions,
// alarms, documents.
package templates

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"text/template"

	"ironweir/core/model"
)

// Model is what a template sees.
type Model struct {
	Name  string
	About string
	Nodes []Node
	Links []Link // of all nodes
}

// Node is a node of a model. Fields are as written, with what `defaults` adds to its kind.
type Node struct {
	Name, Kind, About, Owner string
	Tags                     map[string]string
	Links                    []Link // that leave it
	fields                   map[string]any
}

// Link is a link of a model.
type Link struct {
	ID, Name, From, To string
	ToKind             string // the kind of the node that it leads to
	fields             map[string]any
}

// Field gives a field by its dotted path, such as "retry.tries"; nothing: it is not written.
func (n Node) Field(path string) any { return at(n.fields, path) }

// Has reports whether a field is written.
func (n Node) Has(path string) bool { return at(n.fields, path) != nil }

// Field gives a field by its dotted path, such as "match.prefix"; nothing: it is not written.
func (l Link) Field(path string) any { return at(l.fields, path) }

// Has reports whether a field is written.
func (l Link) Has(path string) bool { return at(l.fields, path) != nil }

func at(v any, path string) any {
	for _, step := range strings.Split(path, ".") {
		m, is := v.(map[string]any)
		if !is {
			return nil
		}
		v = m[step]
	}
	return v
}

// ErrNoFile says that a template writes outside of all files.
var ErrNoFile = errors.New("text before the first {{file}}")

// mark begins a file in what a template writes; no template can write it otherwise.
const mark = "\x00file:"

// Write runs a template over a model: the files that it starts, by their names, in the order
// in which they are started. A template that starts none writes one file without a name.
// Errors name the place in the template.
func Write(
	file string, source []byte, doc *model.Value, t *model.Topology,
) (names []string, texts map[string]string, err error) {
	compiled, err := template.New(file).Option("missingkey=error").Funcs(template.FuncMap{
		"file":    startFile,
		"json":    asJSON,
		"upper":   strings.ToUpper,
		"lower":   strings.ToLower,
		"join":    join,
		"replace": func(old, with, text string) string { return strings.ReplaceAll(text, old, with) },
		"indent":  indent,
		"keys":    func(m map[string]string) []string { return slices.Sorted(maps.Keys(m)) },
	}).Parse(string(source))
	if err != nil {
		return nil, nil, plainError(err)
	}
	var out bytes.Buffer
	if err := compiled.Execute(&out, view(doc, t)); err != nil {
		return nil, nil, plainError(err)
	}
	texts = map[string]string{}
	before, rest, started := strings.Cut(out.String(), mark)
	if !started {
		return []string{""}, map[string]string{"": before}, nil
	}
	if strings.TrimSpace(before) != "" {
		return nil, nil, fmt.Errorf("%s: %w: %.40q", file, ErrNoFile, strings.TrimSpace(before))
	}
	for _, one := range strings.Split(rest, mark) {
		name, text, _ := strings.Cut(one, "\x00")
		if _, twice := texts[name]; twice {
			return nil, nil, fmt.Errorf("%s: the file %s is started twice", file, name)
		}
		names = append(names, name)
		texts[name] = strings.TrimPrefix(text, "\n")
	}
	return names, texts, nil
}

// plainError leaves out the library's name.
func plainError(err error) error { return errors.New(strings.TrimPrefix(err.Error(), "template: ")) }

// startFile starts a file, which lies below the folder that is written to.
func startFile(name string) (string, error) {
	clean := path.Clean(name)
	if name == "" || path.IsAbs(clean) || clean == ".." || strings.HasPrefix(clean, "../") ||
		strings.ContainsAny(name, "\x00\\") {
		return "", fmt.Errorf("the file %q does not lie below -out", name)
	}
	return mark + clean + "\x00", nil
}

func asJSON(v any) (string, error) {
	text, err := json.Marshal(v)
	return string(text), err
}

func join(separator string, list any) string {
	var parts []string
	switch list := list.(type) {
	case []string:
		parts = list
	case []any:
		for _, item := range list {
			parts = append(parts, fmt.Sprint(item))
		}
	case nil:
	default:
		parts = append(parts, fmt.Sprint(list))
	}
	return strings.Join(parts, separator)
}

func indent(n int, text string) string {
	return strings.ReplaceAll(text, "\n", "\n"+strings.Repeat(" ", n))
}

// view gives a model as templates see it.
func view(doc *model.Value, t *model.Topology) Model {
	plain, _ := doc.Plain().(map[string]any)
	defaults, _ := plain["defaults"].(map[string]any)
	written, _ := plain["nodes"].(map[string]any)
	out := Model{Name: t.Name, About: t.About}
	for _, n := range t.Nodes {
		fields := map[string]any{}
		if d, is := defaults[string(n.Kind)].(map[string]any); is {
			maps.Copy(fields, d)
		}
		own, _ := written[n.Name].(map[string]any)
		maps.Copy(fields, own)
		links, _ := own["links"].(map[string]any)
		node := Node{Name: n.Name, Kind: string(n.Kind), About: n.About, Owner: n.Owner, Tags: n.Tags, fields: fields}
		for _, l := range n.Links {
			f, _ := links[l.Name].(map[string]any)
			link := Link{ID: l.ID(), Name: l.Name, From: l.From, To: l.To, fields: f}
			if to := t.Node(l.To); to != nil {
				link.ToKind = string(to.Kind)
			}
			node.Links = append(node.Links, link)
		}
		out.Nodes = append(out.Nodes, node)
		out.Links = append(out.Links, node.Links...)
	}
	return out
}
