package asyncapi

import (
	"fmt"
	"strings"

	"ironweir/core/model"
	"ironweir/formats/drafting"
)

// draft makes a model of a document that somebody else wrote.
type draft struct {
	*drafting.Draft
	nodes    *model.Value
	channels map[string]string // names by key
}

// model drafts: the document describes one application, which becomes a
// function; its channels become topics, or endpoints where they are bound to
// HTTP; what it receives and sends become links.
func (d *draft) model(file string) (*model.Value, error) {
	d.channels, d.nodes = map[string]string{}, model.MapValue()
	title := drafting.Scalar(d.Doc, "info", "title")
	root := model.MapValue().Add("ironweir", text("topology/1")).Add("name", text(d.Name(title, "model")))
	d.Free(drafting.Scalar(root, "name"))
	if about := drafting.Scalar(d.Doc, "info", "description"); about != "" {
		root.Add("about", text(strings.TrimSpace(about)))
	}
	d.Comments["ironweir"] = "Drafted from an AsyncAPI document; what was guessed is marked."
	received, sent := d.used("receive"), d.used("send")
	for _, c := range fields(d.Doc.Get("channels")) {
		d.channel(c, sent[c.Key] && !received[c.Key])
	}
	app := d.Name(title, "application")
	function := model.MapValue().Add("kind", text("function"))
	if title != "" {
		function.Add("about", text(title))
	}
	links := model.MapValue()
	receives := 0
	var sends []func() // after what is received, which says who takes what is sent
	for _, o := range fields(d.Doc.Get("operations")) {
		op, _ := d.At(o.Value)
		if op == nil || op.Get("channel") == nil {
			d.Lacks("the operation %s names no channel", o.Key)
			continue
		}
		_, key := d.At(op.Get("channel"))
		channel := d.channels[key]
		if channel == "" {
			d.Lacks("the operation %s is on a channel that was not read", o.Key)
			continue
		}
		switch action := drafting.Scalar(op, "action"); action {
		case "receive":
			receives++
			d.receive(channel, app, op)
		case "send":
			sends = append(sends, func() { d.send(channel, links, op) })
		default:
			d.Lacks("the operation %s neither sends nor receives but says %q", o.Key, action)
		}
		if op.Get("reply") != nil {
			d.Lacks("the operation %s has a reply; draw who waits for it as a waiting call or an endpoint", o.Key)
		}
	}
	for _, send := range sends {
		send()
	}
	if receives+len(sends) > 0 {
		if len(links.Fields) > 0 {
			function.Add("links", links)
		}
		d.nodes.Add(app, function)
		d.Comments["nodes."+app] = "Guessed: one function stands for the whole application. How long it takes, how often it fails, its concurrency and memory are not in the document."
		d.Lacks("how long %s takes and how often it fails", app)
	}
	if len(d.nodes.Fields) == 0 {
		return nil, fmt.Errorf("%s: the document has no channels, so there is nothing to draw", file)
	}
	return root.Add("nodes", d.nodes), nil
}

// used gives the keys of the channels on which the application does an action: "receive" or "send".
func (d *draft) used(action string) map[string]bool {
	out := map[string]bool{}
	for _, o := range fields(d.Doc.Get("operations")) {
		if op, _ := d.At(o.Value); op != nil && drafting.Scalar(op, "action") == action {
			_, key := d.At(op.Get("channel"))
			out[key] = true
		}
	}
	return out
}

// channel draws a channel. One to which the application only sends is no endpoint of it.
func (d *draft) channel(c model.Field, onlySent bool) {
	v, _ := d.At(c.Value)
	if v == nil {
		return
	}
	name := d.Name(c.Key, "channel")
	d.channels[c.Key] = name
	n := model.MapValue()
	address := drafting.Scalar(v, "address")
	if a := v.Get("address"); a != nil && a.Shape == model.Null {
		address = "" // it is known only when the application runs
		d.Lacks("where %s is reached: its address is not known before the application runs", name)
	}
	guess := "Guessed: a topic; the document does not say whether messages are kept. Make it a queue or a stream where they are."
	switch by := d.kindOfChannel(v); {
	case by != nil && by.kind == "endpoint" && onlySent:
		n.Add("kind", text("outside"))
		guess = "Read: somebody outside, whom the application calls, since " + by.why + "."
	case by != nil:
		n.Add("kind", text(by.kind))
		n.Fields = append(n.Fields, by.fields...)
		guess = "Read: a " + by.kind + ", since " + by.why + "."
		if by.kind == "endpoint" {
			guess = "Read: an endpoint, since " + by.why + "."
		}
	case strings.HasPrefix(address, "/") && !onlySent:
		n.Add("kind", text("endpoint")).Add("method", text("POST"))
		guess = "Guessed: an endpoint, since its address is a path."
	default:
		n.Add("kind", text("topic"))
	}
	if drafting.Scalar(n, "kind") == "endpoint" && strings.HasPrefix(address, "/") {
		n.Add("path", text(address))
	}
	if about := drafting.Scalar(v, "description"); about != "" {
		n.Add("about", text(strings.TrimSpace(about)))
	} else if title := drafting.Scalar(v, "title"); title != "" {
		n.Add("about", text(title))
	}
	if address != "" && address != name {
		n.Add("observed-as", model.ListValue(text(address)))
	}
	d.nodes.Add(name, n)
	d.Comments["nodes."+name] = guess
	switch kind := drafting.Scalar(n, "kind"); {
	case kind == "outside":
		d.Lacks("how long %s takes and how often it fails", name)
	case kind == "queue" || kind == "stream" && n.Get("retention") == nil:
		d.Lacks("how much comes to %s (rate), and how long it is kept", name)
	default:
		d.Lacks("how much comes to %s (rate)", name)
	}
}

// types lists the names of an operation's messages; none: all.
func (d *draft) types(op *model.Value) []string {
	var out []string
	list := op.Get("messages")
	if list == nil {
		return nil
	}
	for _, m := range list.Items {
		v, key := d.At(m)
		if v == nil {
			continue
		}
		if name := drafting.Scalar(v, "name"); name != "" {
			key = name
		}
		out = append(out, key)
	}
	return out
}

func (d *draft) receive(channel, app string, op *model.Value) {
	n := d.nodes.Get(channel)
	if n.Get("links") == nil {
		n.Add("links", model.MapValue())
	}
	link := model.MapValue()
	if types := d.types(op); len(types) > 0 && drafting.Scalar(n, "kind") != "endpoint" {
		var list []*model.Value
		for _, t := range types {
			list = append(list, text(t))
		}
		link.Add("match", model.MapValue().Add("type", model.ListValue(list...)))
	}
	name := app
	for k := 2; n.Get("links").Get(name) != nil; k++ {
		name = fmt.Sprintf("%s-%d", app, k)
	}
	if name != app {
		link.Fields = append([]model.Field{{Key: "to", Value: text(app)}}, link.Fields...)
	}
	n.Get("links").Add(name, link)
}

// send links the application to a channel; what goes over a channel that is an endpoint of the application's own goes
// to somebody outside.
func (d *draft) send(channel string, links, op *model.Value) {
	n, to := d.nodes.Get(channel), channel
	switch kind := drafting.Scalar(n, "kind"); {
	case kind == "endpoint":
		to = d.takers(channel)
	case kind != "outside" && n.Get("links") == nil:
		n.Add("links", model.MapValue().Add(d.takers(channel), model.MapValue()))
	}
	types := d.types(op)
	if len(types) == 0 {
		types = []string{""}
	}
	for _, t := range types {
		link := model.MapValue()
		name := to
		for k := 2; links.Get(name) != nil; k++ {
			name = fmt.Sprintf("%s-%d", to, k)
		}
		if name != to {
			link.Add("to", text(to))
		}
		if t != "" {
			link.Add("type", text(t))
		}
		links.Add(name, link)
	}
}

// takers draws who takes what is sent to a channel, and gives their name.
func (d *draft) takers(channel string) string {
	others := d.Name("takers-of-"+channel, "takers")
	d.nodes.Add(others, model.MapValue().Add("kind", text("outside")))
	d.Comments["nodes."+others] = "Guessed: somebody takes what is sent to " + channel + "; the document does not say who."
	d.Lacks("who takes what is sent to %s", channel)
	return others
}
