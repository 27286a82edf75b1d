package check

import (
	"cmp"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// reach is whether a message takes a way: certain, possible or impossible.
type reach = expr.Verdict

// message is an abstract message: all messages of which the same is known. What
// the model does not read is left unknown, so it separates no messages.
type message struct {
	key    expr.KeyShape
	kind   string // its type; "": the default of the sender; anyText: unknown
	source string // a node, "outside", or anyText; "" where the model reads no sources
	event  string // at a node that runs: the type that it has by default
	size   int64  // bytes, or unknownSize
	data   int32  // a known payload, or unknownData
	hops   int16  // functions that it has passed through, where a hop limit counts them
	row    int32  // the bucket or table whose object or row the key names for certain, or None
	gone   bool   // it has been deleted there
	change change // what became of the object or row that it is about
}

// change is what a write or deletion was for an object or row.
type change uint8

const (
	noChange change = iota
	written
	inserted
	updated
	insertedOrUpdated
	deleted
)

const (
	anyText     = "*"
	unknownSize = -1
	unknownData = -1
)

// flow is what can come to a node: shapes of keys by all else that is known.
type flow map[message]expr.Shapes

func (m message) keyless() message {
	m.key = expr.KeyShape{}
	return m
}

func (f flow) add(m message) bool {
	shapes, changed := f[m.keyless()].Add(m.key)
	f[m.keyless()] = shapes
	return changed
}

// cover returns the member of a flow that stands for a message.
func (f flow) cover(m message) (message, bool) {
	key, ok := f[m.keyless()].Cover(m.key)
	m.key = key
	return m, ok
}

// all lists what can come to a node, in an order that depends on nothing else.
func (f flow) all() []message {
	rests := make([]message, 0, len(f))
	for m := range f {
		rests = append(rests, m)
	}
	sort.Slice(rests, func(i, j int) bool { return rests[i].less(rests[j]) })
	var out []message
	for _, m := range rests {
		for _, key := range f[m] {
			m.key = key
			out = append(out, m)
		}
	}
	return out
}

func (m message) less(o message) bool {
	switch {
	case m.kind != o.kind:
		return m.kind < o.kind
	case m.source != o.source:
		return m.source < o.source
	case m.event != o.event:
		return m.event < o.event
	case m.size != o.size:
		return m.size < o.size
	case m.data != o.data:
		return m.data < o.data
	case m.hops != o.hops:
		return m.hops < o.hops
	case m.row != o.row:
		return m.row < o.row
	case m.gone != o.gone:
		return o.gone
	}
	return m.change < o.change
}

// maxPayloads bounds the known payloads that are followed.
const maxPayloads = 256

// payloads numbers the payloads that are known.
type payloads struct {
	values []any
	number map[string]int32
}

// intern returns the number of a payload, or unknownData where there are too many.
func (p *payloads) intern(v any) int32 {
	text, err := json.Marshal(v)
	if err != nil {
		return unknownData
	}
	if n, ok := p.number[string(text)]; ok {
		return n
	}
	if len(p.values) >= maxPayloads {
		return unknownData
	}
	if p.number == nil {
		p.number = map[string]int32{}
	}
	n := int32(len(p.values))
	p.values, p.number[string(text)] = append(p.values, v), n
	return n
}

// seen returns the event that an expression sees of a message at a node, and which
// of its attributes are known. defaultType is its type where it states none.
func (a *Analysis) seen(m message, defaultType string) (*expr.Event, expr.Known) {
	e, has := &expr.Event{Subject: m.key.Prefix, Type: m.kind, Source: m.source}, expr.Known(0)
	if m.key.Exact {
		has |= expr.KnownSubject
	}
	if m.kind == "" {
		e.Type = defaultType
	}
	if e.Type != anyText {
		has |= expr.KnownType
	}
	if m.source != anyText && m.source != "" {
		has |= expr.KnownSource
	}
	if m.size != unknownSize {
		e.Size = m.size
		has |= expr.KnownSize
	}
	if m.data != unknownData {
		e.Data = a.payloads.values[m.data]
		has |= expr.KnownData
	}
	return e, has
}

// typeAt returns the type that a message without one has where a node hands it on.
func typeAt(k model.Kind, c change) string {
	switch {
	case c == deleted && k.Keeps():
		return "deleted"
	case c == updated && k == model.Table:
		return "updated"
	case c == insertedOrUpdated && k == model.Table:
		return anyText
	}
	return graph.DefaultType(k)
}

// defaultType returns the type that a message has by default at its node.
func (a *Analysis) defaultType(n *graph.Node, m message) string {
	if n.Kind.Runs() {
		return m.event
	}
	return typeAt(n.Kind, m.change)
}

// inflow is how much of something comes in as a message.
type inflow struct {
	message
	share float64
}

// brings lists what outsiders send to an entry, with its shares, and says what had
// to be assumed.
func (a *Analysis) brings(i int) []inflow {
	n := a.node(i)
	base := message{size: unknownSize, data: unknownData, row: graph.None}
	if a.Graph.UsesSource {
		base.source = "outside"
	}
	if n.Kind == model.Schedule {
		m := base
		m.key = expr.ExactKey(n.Name)
		if a.Graph.UsesSource {
			m.source = n.Name
		}
		if n.Payload != nil && a.Graph.UsesData {
			if v, ok := n.Payload.Constant(); ok {
				m.data = a.payloads.intern(v)
			}
		}
		return []inflow{{a.arriving(n, nil, m), 1}}
	}
	var out []inflow
	add := func(m message, share float64) {
		m = a.arriving(n, nil, m)
		for k := range out {
			if out[k].message == m {
				out[k].share += share
				return
			}
		}
		out = append(out, inflow{m, share})
	}
	total := 0.0
	for _, t := range a.traffic(i) {
		total += max(t.rate, 1e-12)
	}
	for _, t := range a.traffic(i) {
		share := max(t.rate, 1e-12) / total
		key := t.spec.Key
		if key == "" && len(n.Node.Keys) > 0 {
			key = n.Node.Keys[0]
		}
		m := base
		m.key, m.kind = templateShape(key), t.spec.Type
		if key == "" {
			m.key = expr.ExactKey("") // a run sends an empty subject
		}
		if a.Graph.UsesSize {
			m.size = t.spec.Size
		}
		if t.spec.Arrivals == "replay" {
			m.key, m.kind, m.size, m.source = expr.AnyKey, anyText, unknownSize, anyTextWhere(a.Graph.UsesSource)
			add(m, share)
			continue
		}
		weights := 0.0
		for _, e := range t.spec.Events {
			weights += e.Weight
		}
		for _, e := range t.spec.Events {
			file, known := a.inputs[e.File]
			sent := e.Over(file)
			each := m
			each.data = unknownData
			if a.Graph.UsesData && (known || e.File == "") {
				each.data = a.payloads.intern(sent.Data)
			}
			each.kind = cmp.Or(sent.Type, m.kind)
			if e.File != "" && !known {
				each.kind, each.source = anyText, anyTextWhere(a.Graph.UsesSource)
			} else if sent.Attributes != nil && a.Graph.UsesSource {
				each.source = cmp.Or(sent.Attributes.Source, m.source)
			}
			if sent.Subject != "" {
				each.key = expr.ExactKey(sent.Subject)
			}
			add(each, share*e.Weight/weights)
		}
		if len(t.spec.Events) == 0 {
			if n.Accepts != nil && a.Graph.UsesData {
				m.data = a.payloads.intern(expr.Example(n.Accepts.Document))
			}
			add(m, share)
		}
	}
	if len(out) > 0 {
		return out
	}
	keys, kinds, sources := n.Node.Keys, n.Node.Types, n.Node.Sources
	if len(keys) == 0 {
		keys = []string{""}
	}
	if len(kinds) == 0 {
		kinds = []string{anyText}
		if n.Kind == model.Bucket || n.Kind == model.Table {
			kinds = []string{""} // it makes the event itself
		}
	}
	if len(sources) == 0 || !a.Graph.UsesSource {
		sources = []string{base.source}
		if a.Graph.UsesSource {
			sources = []string{anyText}
		}
	}
	each := 1 / float64(len(keys)*len(kinds)*len(sources))
	for _, key := range keys {
		for _, kind := range kinds {
			for _, source := range sources {
				m := base
				m.key, m.kind, m.source = templateShape(key), literal(kind), literal(source)
				add(m, each)
			}
		}
	}
	return out
}

// anyTextWhere returns what is known of a source that may be any: nothing, where the
// model reads no sources.
func anyTextWhere(read bool) string {
	if read {
		return anyText
	}
	return ""
}

// literal returns a template that has no variables as it is, else anyText.
func literal(template string) string {
	if strings.ContainsAny(template, "{}") {
		return anyText
	}
	return template
}

// templateShape returns what is known of the keys that a template makes; of an
// empty one, nothing.
func templateShape(template string) expr.KeyShape {
	if t, err := expr.ParseTemplate(template, true); err == nil && template != "" {
		return t.Shape(expr.AnyKey)
	}
	return expr.AnyKey
}

// arriving returns a message as it stands at a node that it has come to over a
// link (nil: from outside, or as a dead letter).
func (a *Analysis) arriving(n *graph.Node, l *graph.Link, m message) message {
	switch {
	case n.Kind.Keeps():
		m.event = ""
		if n.Kind == model.Bucket && len(n.Out) > 0 { // its notices are its own events
			m.kind = ""
			if a.Graph.UsesSource {
				m.source = n.Name
			}
		}
		switch {
		case l != nil && l.Op == "delete":
			m.change = deleted
		case n.Kind == model.Bucket:
			m.change = written
		case m.key == expr.ExactKey(""): // a row without a key is always new
			m.change = inserted
		case m.row == int32(n.ID) && !m.gone:
			m.change = updated
		case m.row == int32(n.ID):
			m.change = inserted
		default:
			m.change = insertedOrUpdated
		}
		m.row, m.gone = int32(n.ID), m.change == deleted
		if !a.keepsRows[n.ID] {
			m.row, m.gone = graph.None, false
		}
		if len(n.Out) == 0 {
			m.change = noChange
		}
	case n.Kind.Channel():
		m.event, m.change = "", noChange
	default:
		m.change = noChange
		if l == nil {
			m.event = "message"
		}
	}
	return m
}

// transferred is what a link makes of a message, and how surely.
type transferred struct {
	message
	verdict reach
}

// transfer sends a message over a link, as it arrives at the link's target.
func (a *Analysis) transfer(l *graph.Link, from message) []transferred {
	source, target := a.node(l.From), a.node(l.To)
	verdict := a.sendVerdict(l, from)
	if verdict == expr.Impossible || l.Op == "read" {
		return nil
	}
	if l.Op == "delete" && from.row == int32(l.To) && from.gone && l.Key == nil {
		return nil // deleting what does not exist makes no event
	}
	if verdict = min(verdict, changeVerdict(source, l, from)); verdict == expr.Impossible {
		return nil
	}
	to := a.transformed(l, source, target, from)
	if l.Filter.Everything {
		return []transferred{{a.arriving(target, l, to(from.key)), verdict}}
	}
	var out []transferred
	for i := range l.Filter.Clauses {
		c := &l.Filter.Clauses[i]
		v := min(verdict, a.clauseVerdict(l, c, a.resultOf(l, from)))
		if v == expr.Impossible {
			continue
		}
		if from.key.Exact || v >= verdict && narrowsNothing(c, from.key) { // the others take no more than this
			return []transferred{{a.arriving(target, l, to(from.key)), a.best(l, from, verdict)}}
		}
		for _, p := range orEmpty(c.Prefix) {
			for _, suffix := range orEmpty(c.Suffix) {
				if from.key.HasPrefix(p) != expr.Impossible && from.key.HasSuffix(suffix) != expr.Impossible {
					out = addTransferred(out, transferred{a.arriving(target, l, to(from.key.Narrow(p, suffix))), v})
				}
			}
		}
	}
	return out
}

// best returns how surely a link's filter takes a message, at most as surely as the
// link is used.
func (a *Analysis) best(l *graph.Link, from message, most reach) reach {
	return min(most, a.filterVerdict(l, a.resultOf(l, from)))
}

// narrowsNothing reports whether a clause takes every key of a shape.
func narrowsNothing(c *graph.Clause, key expr.KeyShape) bool {
	any := func(list []string, has func(string) reach) bool {
		return list == nil || slices.ContainsFunc(list, func(s string) bool { return has(s) == expr.Certain })
	}
	return any(c.Prefix, key.HasPrefix) && any(c.Suffix, key.HasSuffix)
}

// addTransferred adds to a list, once for each message.
func addTransferred(list []transferred, p transferred) []transferred {
	for k := range list {
		if list[k].message == p.message {
			list[k].verdict = max(list[k].verdict, p.verdict)
			return list
		}
	}
	return append(list, p)
}

// transformed returns what a link makes of a message, given the key that it has
// where the link takes it.
func (a *Analysis) transformed(l *graph.Link, source, target *graph.Node, from message) func(expr.KeyShape) message {
	m := a.resultOf(l, from)
	m.event = typeAt(source.Kind, from.change)
	runs := source.Kind.Runs()
	if runs {
		m.event = "message"
		if l.When != model.OfRun {
			m.event = string(l.When)
		}
	}
	if l.Relation == model.WaitingCall {
		m.event = "message"
	}
	if target.Kind.Channel() {
		m.event = ""
	}
	if l.Type != "" {
		m.kind = l.Type
	}
	if runs && l.When == model.OfRun && a.Graph.UsesSource {
		m.source = source.Name // what a run sends is its own event
	}
	if l.Size >= 0 && a.Graph.UsesSize {
		m.size = l.Size
	}
	if l.Payload != nil && a.Graph.UsesData {
		e, has := a.seen(from, a.defaultType(source, from))
		m.data = unknownData
		if v, ok := l.Payload.KnownValue(e, has); ok {
			m.data = a.payloads.intern(v)
		}
	}
	a.wrapped(l, from, &m)
	if a.hopLimit >= 0 && (source.Kind == model.Function || source.Kind == model.Workflow) {
		m.hops = min(m.hops+1, a.hopLimit+1)
	}
	return func(key expr.KeyShape) message {
		out := m
		out.key = key
		if l.Key != nil {
			out.key = l.Key.Shape(key)
			if l.Link.Key != "{key}" {
				out.row, out.gone = graph.None, false
			}
		}
		out.key.Wide = false
		return out
	}
}

// resultOf returns the message that a link is about: for a result link, the result
// message of the run.
func (a *Analysis) resultOf(l *graph.Link, from message) message {
	if l.When == model.OfRun {
		return from
	}
	m := from
	m.kind, m.data = string(l.When), unknownData
	if l.Type != "" {
		m.kind = l.Type
	}
	if a.Graph.UsesSource {
		m.source = l.Link.From
	}
	return m
}

// wrapped applies a link's `wrap` to what it passes on.
func (a *Analysis) wrapped(l *graph.Link, from message, m *message) {
	if l.Wrap == "" || l.Wrap == "none" {
		return
	}
	m.size = unknownSize
	known := m.data
	m.data = unknownData
	if !a.Graph.UsesData {
		return
	}
	switch l.Wrap {
	case "base64":
		text := []byte("{}") // of an unknown payload, that it is a text is known
		if known != unknownData {
			text, _ = json.Marshal(a.payloads.values[known])
		}
		m.data = a.payloads.intern(base64.StdEncoding.EncodeToString(text))
	case "event":
		if known != unknownData {
			m.data = a.payloads.intern(map[string]any{"specversion": "1.0", "id": "1", "source": l.Link.From,
				"type": a.defaultType(a.node(l.From), from), "data": a.payloads.values[known]})
		}
	}
}

func orEmpty(list []string) []string {
	if len(list) == 0 {
		return []string{""}
	}
	return list
}

// sendVerdict judges a link's own condition for a message in hand.
func (a *Analysis) sendVerdict(l *graph.Link, from message) reach {
	switch {
	case l.Chance == 0 || l.Count.Expr == "" && l.Count.Dist.Largest() == 0:
		return expr.Impossible
	case l.If == nil:
		return expr.Certain
	}
	return a.judge(l.If, from, a.defaultType(a.node(l.From), from))
}

// clauseVerdict judges one clause of a filter for one message.
func (a *Analysis) clauseVerdict(l *graph.Link, c *graph.Clause, m message) reach {
	verdict := expr.Certain
	judge := func(list []string, one func(string) reach) {
		if list == nil {
			return
		}
		best := expr.Impossible
		for _, want := range list {
			best = max(best, one(want))
		}
		verdict = min(verdict, best)
	}
	defaultType := typeAt(a.node(l.From).Kind, m.change)
	judge(c.Prefix, m.key.HasPrefix)
	judge(c.Suffix, m.key.HasSuffix)
	judge(c.Type, func(want string) reach {
		have := m.kind
		if have == "" {
			have = defaultType
		}
		return textVerdict(have, want)
	})
	judge(c.Source, func(want string) reach { return textVerdict(m.source, want) })
	if c.If != nil && verdict != expr.Impossible {
		verdict = min(verdict, a.judge(c.If, m, defaultType))
	}
	return verdict
}

func textVerdict(have, want string) reach {
	switch have {
	case want:
		return expr.Certain
	case anyText:
		return expr.Possible
	}
	return expr.Impossible
}

// filterVerdict judges a link's filter for one message.
func (a *Analysis) filterVerdict(l *graph.Link, m message) reach {
	most := changeVerdict(a.node(l.From), l, m)
	if l.Filter.Everything {
		return most
	}
	best := expr.Impossible
	for i := range l.Filter.Clauses {
		best = max(best, a.clauseVerdict(l, &l.Filter.Clauses[i], m))
	}
	return min(best, most)
}

// changeVerdict judges whether what became of an object or row is among the changes
// that a link takes.
func changeVerdict(from *graph.Node, l *graph.Link, m message) reach {
	if !from.Kind.Keeps() {
		return expr.Certain
	}
	wanted := func(c string) bool {
		if len(l.Changes) == 0 {
			return c != "deleted"
		}
		return slices.Contains(l.Changes, c)
	}
	truth := func(b bool) reach {
		if b {
			return expr.Certain
		}
		return expr.Impossible
	}
	switch m.change {
	case deleted:
		return truth(wanted("deleted"))
	case written:
		return truth(wanted("written"))
	case inserted:
		return truth(wanted("inserted"))
	case updated:
		return truth(wanted("updated"))
	case insertedOrUpdated:
		switch {
		case wanted("inserted") && wanted("updated"):
			return expr.Certain
		case wanted("inserted") || wanted("updated"):
			return expr.Possible
		}
	}
	return expr.Impossible
}

// flowMessages follows what outsiders send round the links until nothing changes.
func (a *Analysis) flowMessages() {
	a.At = make([]flow, len(a.Graph.Nodes))
	for i := range a.At {
		a.At[i] = flow{}
	}
	var work []int
	queued := make([]bool, len(a.Graph.Nodes))
	touch := func(i int, changed bool) {
		if changed && !queued[i] {
			queued[i] = true
			work = append(work, i)
		}
	}
	for _, i := range a.entries {
		for _, in := range a.brings(i) {
			touch(i, a.At[i].add(in.message))
		}
	}
	done := map[int]map[message]bool{} // by node: what has been passed on
	for len(work) > 0 {
		i := work[0]
		work = work[1:]
		queued[i] = false
		if done[i] == nil {
			done[i] = map[message]bool{}
		}
		n := a.node(i)
		for _, m := range a.At[i].all() {
			if done[i][m] {
				continue
			}
			done[i][m] = true
			for _, id := range n.Out {
				l := a.link(id)
				for _, next := range a.transfer(l, m) {
					touch(l.To, a.At[l.To].add(next.message))
				}
			}
			for _, to := range a.deadLettersOf[i] {
				given := a.arriving(a.node(to), nil, m)
				if a.node(to).Kind.Runs() {
					given.event = "message"
				}
				touch(to, a.At[to].add(given))
			}
			if n.ObjectLife > 0 && m.change == written {
				m.change, m.gone = deleted, m.row != graph.None
				touch(i, a.At[i].add(m))
			}
		}
	}
	a.Reach = make([]reach, len(a.Graph.Links))
	for i := range a.Graph.Links {
		a.Reach[i] = a.linkReach(a.link(i))
	}
}

// linkReach judges a link over everything that can come to its source.
func (a *Analysis) linkReach(l *graph.Link) reach {
	all := a.At[l.From].all()
	if len(all) == 0 { // nothing is known to come here
		all = []message{
			{key: expr.AnyKey, kind: anyText, source: anyText, size: unknownSize, data: unknownData, row: graph.None,
				change: map[model.Kind]change{model.Bucket: written,
					model.Table: insertedOrUpdated}[a.node(l.From).Kind]},
		}
	}
	least, most := expr.Certain, expr.Impossible
	for _, m := range all {
		v := min(a.filterVerdict(l, a.resultOf(l, m)), a.sendVerdict(l, m))
		least, most = min(least, v), max(most, v)
	}
	if most != expr.Impossible && least != expr.Certain {
		most = expr.Possible
	}
	if l.When == model.Failure {
		most = min(most, expr.Possible)
	}
	return most
}

// String says what is known of a message, for people.
func (m message) String() string {
	words := m.key.String()
	if m.kind != "" && m.kind != anyText {
		words += " of type " + m.kind
	}
	if m.change == deleted {
		words += " (deleted)"
	}
	if m.size != unknownSize {
		words += fmt.Sprintf(" of %s", model.FormatSize(m.size))
	}
	return words
}
