package flow

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

// Message is an abstract message: all messages of which the same is known. What
// the model does not read is left unknown, so it separates no messages.
type Message struct {
	Key    expr.KeyShape
	Kind   string // its type; "": the default of the sender; AnyText: unknown
	Source string // a node, "outside", or AnyText; "" where the model reads no sources
	event  string // at a node that runs: the type that it has by default
	Size   int64  // bytes, or UnknownSize
	Data   int32  // a known payload, or UnknownData
	hops   int16  // functions that it has passed through, where a hop limit counts them
	Row    int32  // the bucket or table whose object or row the key names for certain, or None
	gone   bool   // it has been deleted there
	Change Change // what became of the object or row that it is about
	notice bool   // it names an object and does not hold it, where payloads are limited [PE-13]
}

// Change is what a write or deletion was for an object or row.
type Change uint8

const (
	NoChange Change = iota
	Written
	Inserted
	Updated
	InsertedOrUpdated
	Deleted
	DeletedIfThere // nothing says that the object or row exists
	NothingDeleted // it does not exist any more [B-04]
)

// Deletes reports whether it deletes the object or row, where that exists.
func (c Change) Deletes() bool { return c >= Deleted }

// What is not known of a message.
const (
	AnyText     = "*"
	UnknownSize = -1
	UnknownData = -1
)

// Incoming is what can come to a node: shapes of keys by all else that is known.
type Incoming map[Message]expr.Shapes

func (m Message) keyless() Message {
	m.Key = expr.KeyShape{}
	return m
}

func (f Incoming) add(m Message) bool {
	shapes, changed := f[m.keyless()].Add(m.Key)
	f[m.keyless()] = shapes
	return changed
}

// cover returns the member of a flow that stands for a message.
func (f Incoming) cover(m Message) (Message, bool) {
	key, ok := f[m.keyless()].Cover(m.Key)
	m.Key = key
	return m, ok
}

// All lists what can come to a node, in an order that depends on nothing else.
func (f Incoming) All() []Message {
	rests := make([]Message, 0, len(f))
	for m := range f {
		rests = append(rests, m)
	}
	sort.Slice(rests, func(i, j int) bool { return rests[i].less(rests[j]) })
	var out []Message
	for _, m := range rests {
		for _, key := range f[m] {
			m.Key = key
			out = append(out, m)
		}
	}
	return out
}

func (m Message) less(o Message) bool {
	switch {
	case m.Kind != o.Kind:
		return m.Kind < o.Kind
	case m.Source != o.Source:
		return m.Source < o.Source
	case m.event != o.event:
		return m.event < o.event
	case m.Size != o.Size:
		return m.Size < o.Size
	case m.Data != o.Data:
		return m.Data < o.Data
	case m.hops != o.hops:
		return m.hops < o.hops
	case m.Row != o.Row:
		return m.Row < o.Row
	case m.gone != o.gone:
		return o.gone
	case m.notice != o.notice:
		return o.notice
	}
	return m.Change < o.Change
}

// maxPayloads bounds the known payloads that are followed.
const maxPayloads = 256

// Payloads numbers the payloads of which something is known.
type Payloads struct {
	values []any
	apart  [][]string // of each, the properties that are only an example; nil: all of it is known
	number map[string]int32
}

// intern returns the number of a payload, or UnknownData where there are too many.
func (p *Payloads) intern(v any) int32 { return p.internApart(v, nil) }

// internApart does so with a payload of which some properties are only an example.
func (p *Payloads) internApart(v any, apart []string) int32 {
	text, err := json.Marshal([]any{v, apart})
	if err != nil {
		return UnknownData
	}
	if n, ok := p.number[string(text)]; ok {
		return n
	}
	if len(p.values) >= maxPayloads {
		return UnknownData
	}
	if p.number == nil {
		p.number = map[string]int32{}
	}
	n := int32(len(p.values))
	p.values, p.apart, p.number[string(text)] = append(p.values, v), append(p.apart, apart), n
	return n
}

// known returns a payload of which all is known.
func (p *Payloads) known(data int32) (any, bool) {
	if data == UnknownData || p.apart[data] != nil {
		return nil, false
	}
	return p.values[data], true
}

// Declines reports why a node's `accepts` does not let a payload pass for certain, or nil.
func (p *Payloads) Declines(n *graph.Node, data int32) error {
	switch {
	case n.Accepts == nil || data == UnknownData:
		return nil
	case p.apart[data] == nil:
		return n.Accepts.Fits(p.values[data])
	}
	return n.Accepts.FitsApart(p.values[data], p.apart[data])
}

// Seen returns the event that an expression sees of a message at a node, and which
// of its attributes are known. defaultType is its type where it states none.
func (a *Analysis) Seen(m Message, defaultType string) (*expr.Event, expr.Known) {
	e, has := &expr.Event{Subject: m.Key.Prefix, Type: m.Kind, Source: m.Source}, expr.Known(0)
	if m.Key.Exact {
		has |= expr.KnownSubject
	}
	if m.Kind == "" {
		e.Type = defaultType
	}
	if e.Type != AnyText {
		has |= expr.KnownType
	}
	if m.Source != AnyText && m.Source != "" {
		has |= expr.KnownSource
	}
	if m.Size != UnknownSize {
		e.Size = m.Size
		has |= expr.KnownSize
	}
	if v, known := a.Payloads.known(m.Data); known {
		e.Data = v
		has |= expr.KnownData
	}
	return e, has
}

// typeAt returns the type that a message without one has where a node hands it on.
func typeAt(k model.Kind, c Change) string {
	switch {
	case c.Deletes() && k.Keeps():
		return "deleted"
	case c == Updated && k == model.Table:
		return "updated"
	case c == InsertedOrUpdated && k == model.Table:
		return AnyText
	}
	return k.Event()
}

// defaultType returns the type that a message has by default at its node.
func (a *Analysis) defaultType(n *graph.Node, m Message) string {
	if n.Kind.Runs() {
		return m.event
	}
	return typeAt(n.Kind, m.Change)
}

// inflow is how much of something comes in as a message.
type inflow struct {
	Message
	share float64
}

// brings lists what outsiders send to an entry, with its shares, and says what had
// to be assumed.
func (a *Analysis) brings(i int) []inflow {
	n := a.Node(i)
	base := Message{Size: UnknownSize, Data: UnknownData, Row: graph.None}
	if a.Graph.UsesSource {
		base.Source = "outside"
	}
	if n.Kind.Fires() {
		return a.scheduled(n, base)
	}
	var out []inflow
	add := func(m Message, share float64) {
		m = a.Arriving(n, nil, m)
		for k := range out {
			if out[k].Message == m {
				out[k].share += share
				return
			}
		}
		out = append(out, inflow{m, share})
	}
	a.sentByTraffic(i, base, add)
	if len(out) > 0 {
		return out
	}
	a.sentAsStated(n, base, add)
	return out
}

// accepting returns what Accepting does, without a look where no node checks payloads.
func (a *Analysis) accepting(entry int) int {
	if !a.Graph.UsesData {
		return graph.None
	}
	return Accepting(a.Graph, entry)
}

// Accepting returns the first node that checks the payloads which outsiders send to an entry, where they come to it as
// they are; None: there is none.
func Accepting(g *graph.Graph, entry int) int {
	seen := map[int]bool{entry: true}
	for work := []int{entry}; len(work) > 0; work = work[1:] {
		n := &g.Nodes[work[0]]
		if n.Accepts != nil {
			return n.ID
		}
		if n.Kind == model.Workflow { // whose tasks may make another of it
			continue
		}
		for _, id := range n.Out {
			l := &g.Links[id]
			changed := l.Payload != nil || l.When != model.OfRun || l.Wrap != "" && l.Wrap != "none"
			if !changed && !seen[l.To] {
				seen[l.To] = true
				work = append(work, l.To)
			}
		}
	}
	return graph.None
}

// scheduled lists what a schedule starts.
func (a *Analysis) scheduled(n *graph.Node, base Message) []inflow {
	m := base
	m.Key = expr.ExactKey(n.Name)
	if a.Graph.UsesSource {
		m.Source = n.Name
	}
	if !a.Graph.UsesData {
		return []inflow{{a.Arriving(n, nil, m), 1}}
	}
	if n.Payload == nil {
		m.Data = a.Payloads.intern(nil)
	} else if v, ok := n.Payload.Constant(); ok {
		m.Data = a.Payloads.intern(v)
	}
	return []inflow{{a.Arriving(n, nil, m), 1}}
}

// sentByTraffic adds what the traffic of a scenario brings to an entry.
func (a *Analysis) sentByTraffic(i int, base Message, add func(Message, float64)) {
	n := a.Node(i)
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
		m.Key, m.Kind = templateShape(key), t.spec.Type
		if key == "" {
			m.Key = expr.ExactKey("") // a run sends an empty subject
		}
		if a.Graph.UsesSize {
			m.Size = t.spec.Size
		}
		if t.spec.Arrivals == "replay" {
			m.Key, m.Kind, m.Size, m.Source = expr.AnyKey, AnyText, UnknownSize, anyTextWhere(a.Graph.UsesSource)
			add(m, share)
			continue
		}
		weights := 0.0
		for _, e := range t.spec.Events {
			weights += e.Weight
		}
		for _, e := range t.spec.Events {
			file, known := a.Inputs[e.File]
			if e.File == "" {
				file = n.UsualEvent()
			}
			sent := e.Over(file)
			each := m
			each.Data = UnknownData
			if a.Graph.UsesData && (known || e.File == "") {
				each.Data = a.Payloads.intern(sent.Data)
			}
			each.Kind = cmp.Or(sent.Type, m.Kind)
			if e.File != "" && !known {
				each.Kind, each.Source = AnyText, anyTextWhere(a.Graph.UsesSource)
			} else if sent.Attributes != nil && a.Graph.UsesSource {
				each.Source = cmp.Or(sent.Attributes.Source, m.Source)
			}
			if sent.Subject != "" {
				each.Key = expr.ExactKey(sent.Subject)
			}
			add(each, share*e.Weight/weights)
		}
		if len(t.spec.Events) == 0 {
			if n.Accepts != nil && a.Graph.UsesData {
				m.Data = a.Payloads.intern(n.UsualEvent().Data)
			}
			add(m, share)
		}
	}
}

// sentAsStated adds what the keys, types and sources of an entry say that senders use: any
// combination, as likely as another.
func (a *Analysis) sentAsStated(n *graph.Node, base Message, add func(Message, float64)) {
	keys, kinds, sources := n.Node.Keys, n.Node.Types, n.Node.Sources
	if len(keys) == 0 {
		keys = []string{""}
	}
	if len(kinds) == 0 {
		kinds = []string{AnyText}
		if n.Kind.Keeps() {
			kinds = []string{""} // it makes the event itself
		}
	}
	if len(sources) == 0 || !a.Graph.UsesSource {
		sources = []string{base.Source}
		if a.Graph.UsesSource {
			sources = []string{AnyText}
		}
	}
	each := 1 / float64(len(keys)*len(kinds)*len(sources))
	for _, key := range keys {
		for _, kind := range kinds {
			for _, source := range sources {
				m := base
				m.Key, m.Kind, m.Source = templateShape(key), literal(kind), literal(source)
				add(m, each)
			}
		}
	}
}

// anyTextWhere returns what is known of a source that may be any: nothing, where the
// model reads no sources.
func anyTextWhere(read bool) string {
	if read {
		return AnyText
	}
	return ""
}

// literal returns a template that has no variables as it is, else AnyText.
func literal(template string) string {
	if strings.ContainsAny(template, "{}") {
		return AnyText
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

// Arriving returns a message as it stands at a node that it has come to over a
// link (nil: from outside, or as a dead letter).
func (a *Analysis) Arriving(n *graph.Node, l *graph.Link, m Message) Message {
	switch {
	case n.Kind.Keeps():
		m.event = ""
		if n.Kind == model.Bucket && len(n.Out) > 0 { // its notices are its own events
			m.Kind = ""
			if a.Graph.UsesSource {
				m.Source = n.Name
			}
		}
		switch {
		case l != nil && l.Op == "delete" && m.Row == int32(n.ID) && !m.gone:
			m.Change = Deleted
		case l != nil && l.Op == "delete" && m.Row == int32(n.ID) && l.Key == nil:
			m.Change = NothingDeleted
		case l != nil && l.Op == "delete":
			m.Change = DeletedIfThere
		case n.Kind == model.Bucket:
			m.Change = Written
		case m.Key == expr.ExactKey(""): // a row without a key is always new
			m.Change = Inserted
		case m.Row == int32(n.ID) && !m.gone:
			m.Change = Updated
		case m.Row == int32(n.ID):
			m.Change = Inserted
		default:
			m.Change = InsertedOrUpdated
		}
		m.Row, m.gone = int32(n.ID), m.Change.Deletes()
		if !a.keepsRows[n.ID] {
			m.Row, m.gone = graph.None, false
		}
		if len(n.Out) == 0 {
			m.Change = NoChange
		}
	case n.Kind.Channel():
		m.event, m.Change = "", NoChange
	default:
		m.Change = NoChange
		if l == nil {
			m.event = "message"
		}
	}
	return m
}

// transferred is what a link makes of a message, and how surely.
type transferred struct {
	Message
	verdict reach
}

// transfer sends a message over a link, as it arrives at the link's target.
func (a *Analysis) transfer(l *graph.Link, from Message) []transferred {
	source, target := a.Node(l.From), a.Node(l.To)
	verdict := a.sendVerdict(l, from)
	if verdict == expr.Impossible || l.Op == "read" {
		return nil
	}
	if verdict = min(verdict, changeVerdict(source, l, from)); verdict == expr.Impossible {
		return nil
	}
	to := a.transformed(l, source, target, from)
	if l.Filter.Everything {
		return []transferred{{a.Arriving(target, l, to(from.Key)), verdict}}
	}
	var out []transferred
	for i := range l.Filter.Clauses {
		c := &l.Filter.Clauses[i]
		v := min(verdict, a.clauseVerdict(l, c, a.ResultOf(l, from)))
		if v == expr.Impossible {
			continue
		}
		if from.Key.Exact || v >= verdict && narrowsNothing(c, from.Key) { // the others take no more than this
			return []transferred{{a.Arriving(target, l, to(from.Key)), a.best(l, from, verdict)}}
		}
		for _, p := range OrEmpty(c.Prefix) {
			for _, suffix := range OrEmpty(c.Suffix) {
				if from.Key.HasPrefix(p) != expr.Impossible && from.Key.HasSuffix(suffix) != expr.Impossible {
					out = addTransferred(out, transferred{a.Arriving(target, l, to(from.Key.Narrow(p, suffix))), v})
				}
			}
		}
	}
	return out
}

// best returns how surely a link's filter takes a message, at most as surely as the
// link is used.
func (a *Analysis) best(l *graph.Link, from Message, most reach) reach {
	return min(most, a.FilterVerdict(l, a.ResultOf(l, from)))
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
		if list[k].Message == p.Message {
			list[k].verdict = max(list[k].verdict, p.verdict)
			return list
		}
	}
	return append(list, p)
}

// transformed returns what a link makes of a message, given the key that it has
// where the link takes it.
func (a *Analysis) transformed(l *graph.Link, source, target *graph.Node, from Message) func(expr.KeyShape) Message {
	m := a.ResultOf(l, from)
	m.event = typeAt(source.Kind, from.Change)
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
		m.Kind = l.Type
	}
	if a.Graph.Topology.Limits.Payload > 0 {
		m.notice = source.Kind == model.Bucket || m.notice && !runs
	}
	if runs && l.When == model.OfRun && a.Graph.UsesSource {
		m.Source = source.Name // what a run sends is its own event
	}
	if l.Size >= 0 && a.Graph.UsesSize {
		m.Size = l.Size
	}
	if l.Payload != nil && a.Graph.UsesData {
		e, has := a.Seen(from, a.defaultType(source, from))
		m.Data = UnknownData
		if v, ok := l.Payload.KnownValue(e, has); ok {
			m.Data = a.Payloads.intern(v)
		}
	}
	a.wrapped(l, from, &m)
	if a.hopLimit >= 0 && source.Kind.Invoked() {
		m.hops = min(m.hops+1, a.hopLimit+1)
	}
	return func(key expr.KeyShape) Message {
		out := m
		out.Key = key
		if l.Key != nil {
			out.Key = l.Key.Shape(key)
			if l.Link.Key != "{key}" {
				out.Row, out.gone = graph.None, false
			}
		}
		out.Key.Wide = false
		return out
	}
}

// ResultOf returns the message that a link is about: for a result link, the result
// message of the run.
func (a *Analysis) ResultOf(l *graph.Link, from Message) Message {
	if l.When == model.OfRun {
		return from
	}
	m := from
	m.Kind, m.Data = string(l.When), UnknownData
	if a.Graph.UsesData { // [RM-01]
		data := map[string]any{"event": map[string]any{}, "tries": 1.0, "node": "node"}
		if data["result"] = "ok"; l.When == model.Failure {
			delete(data, "result")
			data["error"] = "failed"
		}
		m.Data = a.Payloads.internApart(data, []string{"event", "tries", "node", "error"})
	}
	if l.Type != "" {
		m.Kind = l.Type
	}
	if a.Graph.UsesSource {
		m.Source = l.Link.From
	}
	return m
}

// wrapped applies a link's `wrap` to what it passes on.
func (a *Analysis) wrapped(l *graph.Link, from Message, m *Message) {
	if l.Wrap == "" || l.Wrap == "none" {
		return
	}
	m.Size = UnknownSize
	payload, known := a.Payloads.known(m.Data)
	m.Data = UnknownData
	if !a.Graph.UsesData {
		return
	}
	switch l.Wrap {
	case "base64":
		if text, err := json.Marshal(payload); known && err == nil {
			m.Data = a.Payloads.intern(base64.StdEncoding.EncodeToString(text))
		} else { // that it is a text
			m.Data = a.Payloads.internApart(base64.StdEncoding.EncodeToString([]byte("{}")), []string{})
		}
	case "event":
		if known {
			m.Data = a.Payloads.intern(map[string]any{"specversion": "1.0", "id": "1", "source": l.Link.From,
				"type": a.defaultType(a.Node(l.From), from), "data": payload})
			return
		}
		event := map[string]any{"specversion": "1.0"}
		parts := []string{"id", "source", "type", "subject", "time", "data"}
		for _, part := range parts {
			event[part] = ""
		}
		m.Data = a.Payloads.internApart(event, parts)
	}
}

func OrEmpty(list []string) []string {
	if len(list) == 0 {
		return []string{""}
	}
	return list
}

// sendVerdict judges a link's own condition for a message in hand.
func (a *Analysis) sendVerdict(l *graph.Link, from Message) reach {
	switch {
	case l.Chance == 0 || l.Count.Expr == "" && l.Count.Dist.Largest() == 0:
		return expr.Impossible
	case l.If == nil:
		return expr.Certain
	}
	return a.judge(l.If, from, a.defaultType(a.Node(l.From), from))
}

// clauseVerdict judges one clause of a filter for one message.
func (a *Analysis) clauseVerdict(l *graph.Link, c *graph.Clause, m Message) reach {
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
	defaultType := typeAt(a.Node(l.From).Kind, m.Change)
	judge(c.Prefix, m.Key.HasPrefix)
	judge(c.Suffix, m.Key.HasSuffix)
	judge(c.Type, func(want string) reach {
		have := m.Kind
		if have == "" {
			have = defaultType
		}
		return textVerdict(have, want)
	})
	judge(c.Source, func(want string) reach { return textVerdict(m.Source, want) })
	if c.If != nil && verdict != expr.Impossible {
		verdict = min(verdict, a.judge(c.If, m, defaultType))
	}
	return verdict
}

func textVerdict(have, want string) reach {
	switch have {
	case want:
		return expr.Certain
	case AnyText:
		return expr.Possible
	}
	return expr.Impossible
}

// FilterVerdict judges a link's filter for one message.
func (a *Analysis) FilterVerdict(l *graph.Link, m Message) reach {
	most := changeVerdict(a.Node(l.From), l, m)
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
func changeVerdict(from *graph.Node, l *graph.Link, m Message) reach {
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
	switch m.Change {
	case Deleted:
		return truth(wanted("deleted"))
	case NothingDeleted:
		return expr.Impossible
	case DeletedIfThere:
		return min(truth(wanted("deleted")), expr.Possible)
	case Written:
		return truth(wanted("written"))
	case Inserted:
		return truth(wanted("inserted"))
	case Updated:
		return truth(wanted("updated"))
	case InsertedOrUpdated:
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
	a.At = make([]Incoming, len(a.Graph.Nodes))
	for i := range a.At {
		a.At[i] = Incoming{}
	}
	var work []int
	queued := make([]bool, len(a.Graph.Nodes))
	touch := func(i int, changed bool) {
		if changed && !queued[i] {
			queued[i] = true
			work = append(work, i)
		}
	}
	for _, i := range a.EntryNodes {
		for _, in := range a.brings(i) {
			touch(i, a.At[i].add(in.Message))
		}
	}
	done := map[int]map[Message]bool{} // by node: what has been passed on
	for len(work) > 0 {
		i := work[0]
		work = work[1:]
		queued[i] = false
		if done[i] == nil {
			done[i] = map[Message]bool{}
		}
		n := a.Node(i)
		for _, m := range a.At[i].All() {
			if done[i][m] {
				continue
			}
			done[i][m] = true
			for _, id := range n.Out {
				l := a.Link(id)
				for _, next := range a.transfer(l, m) {
					touch(l.To, a.At[l.To].add(next.Message))
				}
			}
			for _, to := range a.DeadLettersOf[i] {
				given := a.Arriving(a.Node(to), nil, m)
				if a.Node(to).Kind.Runs() {
					given.event = "message"
				}
				touch(to, a.At[to].add(given))
			}
			if n.ObjectLife > 0 && m.Change == Written {
				m.Change, m.gone = Deleted, m.Row != graph.None
				touch(i, a.At[i].add(m))
			}
		}
	}
	a.Reach = make([]reach, len(a.Graph.Links))
	for i := range a.Graph.Links {
		a.Reach[i] = a.linkReach(a.Link(i))
	}
}

// linkReach judges a link over everything that can come to its source.
func (a *Analysis) linkReach(l *graph.Link) reach {
	all := a.At[l.From].All()
	if len(all) == 0 { // nothing is known to come here
		all = []Message{
			{Key: expr.AnyKey, Kind: AnyText, Source: AnyText, Size: UnknownSize, Data: UnknownData, Row: graph.None,
				Change: map[model.Kind]Change{model.Bucket: Written,
					model.Table: InsertedOrUpdated}[a.Node(l.From).Kind]},
		}
	}
	least, most := expr.Certain, expr.Impossible
	for _, m := range all {
		v := min(a.FilterVerdict(l, a.ResultOf(l, m)), a.sendVerdict(l, m))
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
func (m Message) String() string {
	words := m.Key.String()
	if m.Kind != "" && m.Kind != AnyText {
		words += " of type " + m.Kind
	}
	if m.Change.Deletes() {
		words += " (deleted)"
	}
	if m.Size != UnknownSize {
		words += fmt.Sprintf(" of %s", model.FormatSize(m.Size))
	}
	return words
}
