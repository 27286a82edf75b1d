// Package workflow reads documents of the Serverless Workflow DSL 1.0 (CNCF): a workflow with what it calls, what
// starts it, and what it emits.
package workflow

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"ironweir/core/model"
	"ironweir/formats/drafting"
)

// draft is a model in the making.
type draft struct {
	*drafting.Draft
	name  string                  // of the workflow's node
	nodes *model.Value            // beside it
	named map[string]string       // nodes, by what the document calls them
	links *model.Value            // of the workflow
	use   map[string]*model.Value // what the document names for use in several places
}

// Read drafts a model: comments say, by path, what was guessed, and missing lists what the document does not say.
func Read(file string, source []byte) (root *model.Value, comments map[string]string, missing []string, err error) {
	doc, err := model.ReadDocument(file, source)
	if err != nil {
		return nil, nil, nil, err
	}
	version := doc.Get("document").Get("dsl")
	switch {
	case version == nil && doc.Get("specVersion") != nil:
		return nil, nil, nil, fmt.Errorf("%s:%d: a workflow of version %s of the DSL; versions 1.x are read",
			file, doc.Get("specVersion").Pos.Line, doc.Get("specVersion").Scalar)
	case version == nil:
		return nil, nil, nil, fmt.Errorf("%s: no `document.dsl` field: this is not a workflow document", file)
	case !strings.HasPrefix(version.Scalar, "1."):
		return nil, nil, nil, fmt.Errorf("%s:%d: a workflow of version %s of the DSL; versions 1.x are read",
			file, version.Pos.Line, version.Scalar)
	}
	tasks := doc.Get("do")
	if tasks == nil || tasks.Shape != model.List || len(tasks.Items) == 0 {
		return nil, nil, nil, fmt.Errorf("%s: the workflow has no tasks (`do`), so there is nothing to draw", file)
	}
	d := &draft{
		Draft: drafting.New(doc),
		nodes: model.MapValue(),
		named: map[string]string{},
		links: model.MapValue(),
		use:   map[string]*model.Value{},
	}
	root, err = d.model(tasks)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("%s: %w", file, err)
	}
	return root, d.Comments, d.Missing, nil
}

func text(s string) *model.Value { return model.TextValue(s) }

func (d *draft) model(tasks *model.Value) (*model.Value, error) {
	about := d.Doc.Get("document")
	title := drafting.Scalar(about, "name")
	root := model.MapValue().Add("ironweir", text("topology/1")).Add("name", text(d.Name(title, "model")))
	d.Free(drafting.Scalar(root, "name"))
	d.name = d.Name(title, "workflow")
	node := model.MapValue().Add("kind", text("workflow"))
	for _, key := range []string{"summary", "title"} {
		if s := strings.TrimSpace(drafting.Scalar(about, key)); s != "" {
			node.Add("about", text(s))
			break
		}
	}
	if t := d.used("timeouts", d.Doc.Get("timeout")).Get("after"); t != nil {
		node.Add("timeout", text(spanOf(t)))
	}
	list, err := d.tasks(tasks, "nodes."+d.name+".do", 0)
	if err != nil {
		return nil, err
	}
	node.Add("do", list)
	if len(d.links.Fields) > 0 {
		node.Add("links", d.links)
	}
	nodes := model.MapValue()
	d.starts(nodes)
	nodes.Add(d.name, node)
	nodes.Fields = append(nodes.Fields, d.nodes.Fields...)
	d.Comments["ironweir"] = "Drafted from a workflow document; what was guessed is marked."
	return root.Add("nodes", nodes), nil
}

// starts adds what starts the workflow.
func (d *draft) starts(nodes *model.Value) {
	plan := d.Doc.Get("schedule")
	link := func() *model.Value { return model.MapValue().Add(d.name, model.MapValue()) }
	timer := func(field, value string) {
		name := d.Name(d.name+"-schedule", "schedule")
		nodes.Add(name, model.MapValue().Add("kind", text("schedule")).Add(field, text(value)).Add("links", link()))
		if field == "cron" {
			d.Comments["nodes."+name+".cron"] = "The zone is not in the document: UTC is assumed."
		}
	}
	switch {
	case plan.Get("cron") != nil:
		timer("cron", plan.Get("cron").Scalar)
	case plan.Get("every") != nil:
		timer("every", spanOf(plan.Get("every")))
	case plan.Get("after") != nil:
		timer("every", spanOf(plan.Get("after")))
		d.Lacks("how long an execution takes: %s starts again %s after the end of the last one", d.name,
			spanOf(plan.Get("after")))
	case plan.Get("on") != nil:
		for _, kind := range eventTypes(plan.Get("on")) {
			name := d.Name(kind, "events")
			nodes.Add(name, model.MapValue().Add("kind", text("topic")).Add("links", link()))
			d.Comments["nodes."+name] = "Guessed: what carries the events that start the workflow is not in the document."
			d.Lacks("how many events of type %s come (rate)", kind)
		}
	default:
		d.Lacks("what starts %s, and how often", d.name)
	}
}

// eventTypes lists the types of the events that a filter names.
func eventTypes(filter *model.Value) (types []string) {
	for _, key := range []string{"one", "any", "all"} {
		v := filter.Get(key)
		if v == nil {
			continue
		}
		list := []*model.Value{v}
		if v.Shape == model.List {
			list = v.Items
		}
		for _, f := range list {
			if kind := drafting.Scalar(f, "with", "type"); kind != "" && !slices.Contains(types, kind) {
				types = append(types, kind)
			}
		}
	}
	if len(types) == 0 {
		types = []string{"events"}
	}
	return types
}

// spanOf writes a time of the DSL, as ISO 8601 or by its units, as models do.
func spanOf(v *model.Value) string {
	if v.Shape != model.Map {
		if seconds, ok := model.ISOSeconds(v.Scalar); ok {
			return model.FormatDuration(time.Duration(seconds * 1e9))
		}
		return v.Scalar
	}
	out := ""
	for _, unit := range [][2]string{
		{"days", "d"}, {"hours", "h"}, {"minutes", "m"}, {"seconds", "s"}, {"milliseconds", "ms"},
	} {
		if n := v.Get(unit[0]); n != nil {
			out += n.Scalar + unit[1]
		}
	}
	return out
}

// used gives what a name stands for that the document defines once (`use`), or the value itself.
func (d *draft) used(what string, v *model.Value) *model.Value {
	if v != nil && v.Shape == model.Text {
		if found := d.Doc.Get("use").Get(what).Get(v.Scalar); found != nil {
			return found
		}
	}
	return v
}

// node gives the node that stands for something that the document calls, made when it is first called.
func (d *draft) node(kind, called, about string) string {
	if name := d.named[kind+" "+called]; name != "" {
		return name
	}
	name := d.Name(called, kind)
	d.named[kind+" "+called] = name
	n := model.MapValue().Add("kind", text(kind))
	if about != "" {
		n.Add("about", text(about))
	}
	d.nodes.Add(name, n)
	d.Lacks("how long %s takes, and how often it fails", name)
	return name
}

// host gives the host of an address; empty: it is made up at run time.
func host(address string) string {
	u, err := url.Parse(address)
	if err != nil || strings.Contains(u.Host, "{") || strings.HasPrefix(address, "${") {
		return ""
	}
	return u.Hostname()
}
