package otlp

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"ironweir/core/graph"
	"ironweir/core/learn"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// Spans makes the traces of simulated journeys, one trace each. A run is a span
// of its node: a consumer of what it takes, a server where it is called. A send is
// a producer span, a waiting call a client span. Channels have no spans, as in
// real systems; what they are stands in attributes of their users. The seed tells
// runs apart, so that the ids of two exports differ where their runs do.
func Spans(g *graph.Graph, start time.Time, seed uint64, journeys []sim.Journey) []learn.Span {
	var out []learn.Span
	for i := range journeys {
		j := &journeys[i]
		t := &traceMaker{
			g:     g,
			start: start.UnixNano(),
			own:   identity(fmt.Sprintf("%s|%d|%d", g.Topology.Name, seed, j.ID), 16),
		}
		t.trace = t.own
		t.continues(j)
		out = append(out, t.spans(j.Steps, j.Entry)...)
	}
	return out
}

func identity(of string, bytes int) string {
	sum := sha256.Sum256([]byte(of))
	return hex.EncodeToString(sum[:bytes])
}

// traceContext is the form of the extension attribute traceparent (W3C Trace Context).
var traceContext = regexp.MustCompile(`^[0-9a-f]{2}-([0-9a-f]{32})-([0-9a-f]{16})-[0-9a-f]{2}$`)

// continues carries on the trace that the event of a journey is part of [PE-04].
func (t *traceMaker) continues(j *sim.Journey) {
	if len(j.Steps) == 0 {
		return
	}
	parent, _ := j.Steps[0].Event["traceparent"].(string)
	if m := traceContext.FindStringSubmatch(parent); m != nil {
		t.trace, t.parent = m[1], m[2]
	}
}

type traceMaker struct {
	g      *graph.Graph
	start  int64
	own    string // distinguishes this journey from all others
	trace  string
	parent string // the span outside that the journey came from; empty: none
	steps  []sim.Step
	span   map[int]string // by step: the span that it began
}

func (t *traceMaker) at(s *sim.Step) int64 { return t.start + int64(s.T*1e9+0.5) }

func (t *traceMaker) node(name string) *graph.Node { return &t.g.Nodes[t.g.NodeID(name)] }

func (t *traceMaker) link(id string) *graph.Link {
	if i := t.g.LinkID(id); i != graph.None {
		return &t.g.Links[i]
	}
	return nil
}

func (t *traceMaker) step(id int) *sim.Step {
	if id < 1 || id > len(t.steps) {
		return nil
	}
	return &t.steps[id-1]
}

// above gives the span that a step came out of.
func (t *traceMaker) above(s *sim.Step) string {
	for p := t.step(s.Parent); p != nil; p = t.step(p.Parent) {
		if id := t.span[p.ID]; id != "" {
			return id
		}
	}
	return t.parent
}

func (t *traceMaker) spans(steps []sim.Step, entry string) []learn.Span {
	t.steps, t.span = steps, map[int]string{}
	ended := map[int]*sim.Step{}    // by the step of the run
	answered := map[int]*sim.Step{} // by the step with which a request came
	for i := range steps {
		switch s := &steps[i]; s.What {
		case "ends":
			if ended[s.Parent] == nil {
				ended[s.Parent] = s
			}
		case "returned":
			answered[s.Parent] = s
		}
	}
	var out []learn.Span
	begin := func(s *sim.Step, service string, kind learn.Kind, name string) *learn.Span {
		id := identity(t.own+strconv.Itoa(s.ID), 8)
		out = append(
			out,
			learn.Span{
				Trace:      t.trace,
				ID:         id,
				Parent:     t.above(s),
				Service:    service,
				Kind:       kind,
				Name:       name,
				Start:      t.at(s),
				End:        t.at(s),
				Attributes: map[string]string{learn.OwnKind: string(t.kindOf(service))},
			},
		)
		t.span[s.ID] = id
		return &out[len(out)-1]
	}
	for i := range steps {
		s := &steps[i]
		n := t.node(s.Node)
		switch s.What {
		case "enters":
			t.enters(s, n, answered[s.ID], begin)
		case "held":
			if l := t.link(s.Link); l != nil && n.Kind.Channel() && t.g.Nodes[l.From].Kind.Answers() {
				x := begin(s, l.Link.From, learn.Producer, "send "+n.Name)
				t.messaging(x, n, s, "send")
			}
		case "runs":
			if n.Kind.Channel() || n.Kind.Answers() || n.Kind.Fires() {
				continue // the platform moves it
			}
			t.run(s, n, ended[s.ID], begin)
		case "sends":
			t.send(s, n, begin)
		case "offered":
			if l := t.link(s.Link); l != nil && l.When != model.OfRun && i+1 < len(steps) && steps[i+1].Parent == s.ID {
				t.send(s, n, begin)
			}
		case "calls":
			l := t.link(s.Link)
			if l == nil || !n.Kind.Runs() {
				continue
			}
			x := begin(s, s.Node, learn.Client, "call "+l.Link.To)
			x.Attributes[learn.PeerService], x.Attributes[learn.InvokedName] = l.Link.To, l.Link.To
			x.End, x.Error = t.calledUntil(s, ended)
		}
	}
	return out
}

// kindOf gives the kind of a node; none for what is no node, as outsiders.
func (t *traceMaker) kindOf(service string) model.Kind {
	if id := t.g.NodeID(service); id != graph.None {
		return t.g.Nodes[id].Kind
	}
	return model.Outside
}

// outsiders is the service under which what comes from outside is sent.
const outsiders = "outsiders"

func (t *traceMaker) enters(
	s *sim.Step,
	n *graph.Node,
	answer *sim.Step,
	begin func(*sim.Step, string, learn.Kind, string) *learn.Span,
) {
	switch {
	case n.Kind.Answers():
		x := begin(s, n.Name, learn.Server, n.Method+" "+n.Path)
		x.Attributes[learn.Method], x.Attributes[learn.Route], x.Attributes[learn.Status] = n.Method, n.Path, "200"
		if n.Path == "" {
			x.Attributes[learn.Route] = "/" + n.Name
		}
		if answer != nil {
			x.End = t.at(answer)
			status, _, _ := strings.Cut(strings.TrimPrefix(answer.Why, "answered "), ":")
			x.Attributes[learn.Status] = status
			if strings.HasPrefix(status, "5") {
				x.Error = status
			}
			break
		}
		for i := range t.steps { // until what it waits for has ended
			if r := &t.steps[i]; r.What == "ends" && t.waitedFor(r, s) {
				x.End = max(x.End, t.at(r))
			}
		}
	case n.Kind.Fires():
	default:
		x := begin(s, outsiders, learn.Producer, "send "+n.Name)
		t.messaging(x, n, s, "send")
	}
}

// waitedFor reports whether the end of a run is one that the endpoint of a request
// waits for.
func (t *traceMaker) waitedFor(end, request *sim.Step) bool {
	run := t.step(end.Parent)
	if run == nil {
		return false
	}
	call := t.step(run.Parent)
	return call != nil && call.What == "calls" && call.Parent == request.ID
}

func (t *traceMaker) messaging(x *learn.Span, n *graph.Node, s *sim.Step, operation string) {
	x.Attributes[learn.System] = "ironweir"
	x.Attributes[learn.Destination] = n.Name
	x.Attributes[learn.SourceKind] = string(n.Kind)
	x.Attributes[learn.Operation] = operation
	if x.Attributes[learn.MessageID] = x.ID; operation == "process" && x.Parent != "" {
		x.Attributes[learn.MessageID] = x.Parent // as it was sent
	}
	at := s
	for i := s.ID; s.What == "sends" && i < len(t.steps) && i < s.ID+4; i++ {
		if c := &t.steps[i]; c.Parent == s.ID && c.What == "held" {
			at = c // what it has become where it was sent
		}
	}
	for ; at != nil; at = t.step(at.Parent) {
		if at.Event == nil {
			continue
		}
		if key, ok := at.Event["subject"].(string); ok && n.Kind.Keeps() {
			x.Attributes[learn.DocumentName] = key
		}
		for _, name := range []string{"id", "source", "type", "subject"} {
			if value, ok := at.Event[name].(string); ok && value != "" {
				x.Attributes[learn.EventPrefix+name] = value
			}
		}
		break
	}
}

// run is the span of a run: from its start to its end.
func (t *traceMaker) run(
	s *sim.Step,
	n *graph.Node,
	end *sim.Step,
	begin func(*sim.Step, string, learn.Kind, string) *learn.Span,
) {
	x := begin(s, n.Name, learn.Server, n.Name)
	if end != nil {
		x.End = t.at(end)
		if why, failed := strings.CutPrefix(end.Why, "failed"); failed {
			x.Error, _, _ = strings.Cut(strings.Trim(strings.TrimPrefix(why, " by itself"), ": "), ":")
			if x.Error == "" {
				x.Error = "failed"
			}
		}
	}
	if size, ok := strings.CutPrefix(s.Why, "a batch of "); ok {
		x.Attributes[learn.BatchCount] = strings.SplitN(size, ",", 2)[0]
	}
	from := t.source(s)
	if from == nil {
		x.Attributes[learn.Trigger] = "other"
		return
	}
	switch from.Kind {
	case model.Schedule:
		x.Attributes[learn.Trigger] = "timer"
		x.Attributes[learn.Cron] = from.Cron
		x.Attributes[learn.Destination] = from.Name
		x.Attributes[learn.SourceKind] = string(from.Kind)
	case model.Endpoint:
		x.Attributes[learn.Trigger] = "http"
	case model.Function, model.Workflow, model.Outside:
		x.Attributes[learn.Trigger] = "other"
	default:
		x.Kind, x.Name = learn.Consumer, "process "+from.Name
		t.messaging(x, from, s, "process")
		x.Attributes[learn.Trigger] = "pubsub"
		if from.Kind.Keeps() {
			x.Attributes[learn.Trigger], x.Attributes[learn.Collection] = "datasource", from.Name
		}
	}
}

// source gives the node from which a run has its message: the channel that held
// it, what delivered it, or who calls.
func (t *traceMaker) source(s *sim.Step) *graph.Node {
	for p := t.step(s.Parent); p != nil; p = t.step(p.Parent) {
		switch p.What {
		case "calls", "sends":
			return t.node(p.Node)
		case "runs": // a reader of the platform, which hands on
			return t.node(p.Node)
		case "held", "enters":
			if p.Node != s.Node {
				return t.node(p.Node) // a queue, which its reader has taken it from
			}
			if l := t.link(p.Link); l != nil {
				return t.node(l.Link.From)
			}
			return nil
		}
	}
	return nil
}

func (t *traceMaker) send(s *sim.Step, n *graph.Node, begin func(*sim.Step, string, learn.Kind, string) *learn.Span) {
	to, dead := "", false
	if l := t.link(s.Link); l != nil {
		to = l.Link.To
	} else if name, ok := strings.CutPrefix(s.Why, "to its dead-letter, "); ok {
		to, dead = name, true
	}
	if to == "" || !n.Kind.Runs() && !dead {
		return
	}
	target := t.node(to)
	x := begin(s, s.Node, learn.Producer, "send "+to)
	if dead {
		x.Attributes[learn.DeadLetter] = "true"
	} else if when := t.link(s.Link).When; when != model.OfRun {
		x.Attributes[learn.Outcome] = string(when)
	}
	if target.Kind.Runs() { // an asynchronous call
		x.Attributes[learn.PeerService], x.Attributes[learn.InvokedName] = to, to
		return
	}
	t.messaging(x, target, s, "send")
	if l := t.link(s.Link); l != nil && l.Type != "" {
		x.Attributes[learn.EventType] = l.Type
	}
}

// calledUntil gives the end of a waiting call, and its error.
func (t *traceMaker) calledUntil(call *sim.Step, ended map[int]*sim.Step) (int64, string) {
	for i := range t.steps {
		if r := &t.steps[i]; r.What == "runs" && r.Parent == call.ID && ended[r.ID] != nil {
			if end := ended[r.ID]; end.Why == "succeeded" {
				return t.at(end), ""
			}
			return t.at(ended[r.ID]), "call failed"
		}
	}
	return t.at(call), "call failed"
}
