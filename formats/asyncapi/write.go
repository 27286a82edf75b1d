// Package asyncapi writes a model as an AsyncAPI 3.0 document and reads such
// documents, its own and foreign ones. What AsyncAPI has no word for stands in
// x-ironweir extensions, so that a model goes out and in again unchanged.
package asyncapi

import (
	"fmt"
	"regexp"
	"strings"

	"ironweir/core/model"
	"ironweir/formats/drafting"
)

// Version of the AsyncAPI specification that is written.
const Version = "3.0.0"

const extension = "x-ironweir"

// isChannel reports whether a kind of node is a channel of AsyncAPI: something
// with an address that messages are sent to or received from.
func isChannel(kind string) bool {
	switch model.Kind(kind) {
	case model.Bucket, model.Queue, model.Topic, model.Stream, model.Table, model.Endpoint, model.Schedule:
		return true
	}
	return false
}

func kindOf(node *model.Value) string {
	if k := node.Get("kind"); k != nil {
		return k.Scalar
	}
	return ""
}

func text(s string) *model.Value { return model.TextValue(s) }

func ref(path ...string) *model.Value {
	for i, p := range path {
		path[i] = strings.NewReplacer("~", "~0", "/", "~1").Replace(p)
	}
	return model.MapValue().Add("$ref", text("#/"+strings.Join(path, "/")))
}

func fields(v *model.Value) []model.Field {
	if v == nil {
		return nil
	}
	return v.Fields
}

// Write makes the AsyncAPI document of a model as written. Buckets, queues,
// topics, streams, tables, schedules and endpoints become channels; a link that
// joins one of them to something that runs becomes an operation, seen from the
// side of what runs; everything else stands in extensions.
func Write(root *model.Value) *model.Value {
	name, about := "model", ""
	if v := root.Get("name"); v != nil {
		name = v.Scalar
	}
	info := model.MapValue().Add("title", text(name)).Add("version", text("1.0.0"))
	if v := root.Get("about"); v != nil {
		about = v.Scalar
	}
	if about != "" {
		info.Add("description", text(about))
	}
	nodes := fields(root.Get("nodes"))
	kinds := map[string]string{}
	for _, n := range nodes {
		kinds[n.Key] = kindOf(n.Value)
	}
	channels, operations := model.MapValue(), model.MapValue()
	others, links := model.MapValue(), model.MapValue() // what is no channel, no operation
	var nodeOrder, linkOrder []*model.Value
	messages := messageNames(nodes)
	for _, n := range nodes {
		nodeOrder = append(nodeOrder, text(n.Key))
		own := n.Value.Without("links")
		if isChannel(kinds[n.Key]) {
			channels.Add(n.Key, channel(n.Key, own, messages[n.Key]))
		} else {
			others.Add(n.Key, own)
		}
		for _, l := range fields(n.Value.Get("links")) {
			id := n.Key + "." + l.Key
			linkOrder = append(linkOrder, text(id))
			to := l.Key
			if v := l.Value.Get("to"); v != nil {
				to = v.Scalar
			}
			op := operation(n.Key, to, isChannel(kinds[n.Key]), isChannel(kinds[to]), l.Value)
			written := model.MapValue().Add("from", text(n.Key)).Add("name", text(l.Key)).Add("link", l.Value)
			if op == nil {
				links.Add(id, written)
				continue
			}
			operations.Add(id, op.Add(extension, written))
		}
	}
	x := model.MapValue().Add("model", root.Without("nodes")).Add("nodes", others).Add("links", links).
		Add("node-order", model.ListValue(nodeOrder...)).Add("link-order", model.ListValue(linkOrder...))
	return model.MapValue().
		Add("asyncapi", text(Version)).
		Add("info", info).
		Add("defaultContentType", text("application/json")).
		Add("channels", channels).
		Add("operations", operations).
		Add(extension, x)
}

// operation describes a link between a channel and what is none; nil: both are, or neither.
func operation(from, to string, fromChannel, toChannel bool, link *model.Value) *model.Value {
	switch {
	case fromChannel && !toChannel:
		return model.MapValue().
			Add("action", text("receive")).
			Add("channel", ref("channels", from)).
			Add("summary", text(to+" takes what comes to "+from))
	case !fromChannel && toChannel:
		op := model.MapValue().
			Add("action", text("send")).
			Add("channel", ref("channels", to)).
			Add("summary", text(from+" sends to "+to))
		if kind := link.Get("type"); kind != nil {
			op.Add("messages", model.ListValue(ref("channels", to, "messages", messageKey(kind.Scalar))))
		}
		return op
	}
	return nil
}

// messageNames lists the types of what is sent to each node; `message` stands
// for what has none.
func messageNames(nodes []model.Field) map[string][]string {
	out := map[string][]string{}
	for _, n := range nodes {
		for _, l := range fields(n.Value.Get("links")) {
			to, kind := l.Key, "message"
			if v := l.Value.Get("to"); v != nil {
				to = v.Scalar
			}
			if v := l.Value.Get("type"); v != nil {
				kind = v.Scalar
			}
			seen := false
			for _, k := range out[to] {
				seen = seen || k == kind
			}
			if !seen {
				out[to] = append(out[to], kind)
			}
		}
	}
	return out
}

var parameter = regexp.MustCompile(`\{([A-Za-z0-9_\-]+)\}`)

func channel(name string, own *model.Value, types []string) *model.Value {
	address := name
	if path := own.Get("path"); path != nil {
		address = path.Scalar
	}
	c := model.MapValue().Add("address", text(address))
	if about := own.Get("about"); about != nil {
		c.Add("description", text(about.Scalar))
	}
	if found := parameter.FindAllStringSubmatch(address, -1); found != nil {
		parameters := model.MapValue()
		for _, p := range found {
			if parameters.Get(p[1]) == nil {
				parameters.Add(p[1], model.MapValue())
			}
		}
		c.Add("parameters", parameters)
	}
	if len(types) == 0 {
		types = []string{"message"}
	}
	messages := model.MapValue()
	for _, t := range types {
		m := model.MapValue().Add("name", text(t))
		if schema := own.Get("accepts"); schema != nil && schema.Shape == model.Map {
			m.Add("payload", schema)
		}
		messages.Add(messageKey(t), m)
	}
	return c.Add(
		"messages",
		messages,
	).Add(
		"tags",
		model.ListValue(model.MapValue().Add("name", text(kindOf(own)))),
	).Add(
		extension,
		own,
	)
}

var unsafeKey = regexp.MustCompile(`[^A-Za-z0-9._-]`)

// messageKey makes a key for a message out of its type.
func messageKey(kind string) string {
	if key := unsafeKey.ReplaceAllString(kind, "-"); key != "" {
		return key
	}
	return "message"
}

// Read reads an AsyncAPI document of version 2 or 3. Its own come back as they were. Of a foreign
// one it drafts a model: comments say, by path, what was guessed, and missing
// lists what the document does not say.
func Read(file string, source []byte) (root *model.Value, comments map[string]string, missing []string, err error) {
	doc, err := model.ReadDocument(file, source)
	if err != nil {
		return nil, nil, nil, err
	}
	version := doc.Get("asyncapi")
	switch {
	case version == nil:
		return nil, nil, nil, fmt.Errorf("%s: no `asyncapi` field: this is not an AsyncAPI document", file)
	case strings.HasPrefix(version.Scalar, "2."):
		doc = fromVersion2(doc)
	case !strings.HasPrefix(version.Scalar, "3."):
		return nil, nil, nil, fmt.Errorf(
			"%s:%d: AsyncAPI %s; versions 2 and 3 are read",
			file,
			version.Pos.Line,
			version.Scalar,
		)
	}
	if x := doc.Get(extension); x != nil && x.Get("node-order") != nil {
		root, err := own(file, doc, x)
		return root, nil, nil, err
	}
	d := &draft{Draft: drafting.New(doc)}
	root, err = d.model(file)
	return root, d.Comments, d.Missing, err
}

// own puts a model together that Write has taken apart.
func own(file string, doc, x *model.Value) (*model.Value, error) {
	parts := map[string]*model.Value{}
	for _, c := range fields(doc.Get("channels")) {
		parts[c.Key] = c.Value.Get(extension)
	}
	for _, n := range fields(x.Get("nodes")) {
		parts[n.Key] = n.Value
	}
	links := map[string]*model.Value{}
	for _, from := range []*model.Value{doc.Get("operations"), x.Get("links")} {
		for _, o := range fields(from) {
			links[o.Key] = o.Value
			if inner := o.Value.Get(extension); inner != nil {
				links[o.Key] = inner
			}
		}
	}
	nodes := model.MapValue()
	for _, name := range x.Get("node-order").Items {
		n := parts[name.Scalar]
		if n == nil || n.Shape != model.Map {
			return nil, fmt.Errorf(
				"%s:%d: the node %s is named in %s, and nowhere described",
				file,
				name.Pos.Line,
				name.Scalar,
				extension,
			)
		}
		nodes.Add(name.Scalar, n.Without())
	}
	if order := x.Get("link-order"); order != nil {
		for _, id := range order.Items {
			l := links[id.Scalar]
			if l == nil || l.Get("from") == nil || l.Get("name") == nil || l.Get("link") == nil ||
				nodes.Get(l.Get("from").Scalar) == nil {
				return nil, fmt.Errorf(
					"%s:%d: the link %s is named in %s, and not described with from, name and link",
					file,
					id.Pos.Line,
					id.Scalar,
					extension,
				)
			}
			n := nodes.Get(l.Get("from").Scalar)
			if n.Get("links") == nil {
				n.Add("links", model.MapValue())
			}
			n.Get("links").Add(l.Get("name").Scalar, l.Get("link"))
		}
	}
	root := model.MapValue()
	for _, f := range fields(x.Get("model")) {
		root.Add(f.Key, f.Value)
	}
	return root.Add("nodes", nodes), nil
}
