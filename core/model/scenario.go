package model

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"regexp"
	"strings"
	"time"

	"ironweir/core/expr"
)

// Scenario is what outsiders send and what goes wrong meanwhile.
type Scenario struct {
	Name, About  string
	Start        time.Time
	Length       time.Duration
	WarmUp       time.Duration
	Seed         uint64
	Replications int
	Traffic      []*Traffic
	TrafficGiven bool // false: the nodes' own `rate` is sent
	Incidents    []*Incident
	Breakdowns   bool // drawn: nodes and groups break down as their `breaks` say
	Expect       []Expectation
	File         string
}

// Traffic is one source of messages from outside.
type Traffic struct {
	Name, Into string
	Rate       float64 // per second, mean
	Arrivals   string  // poisson even burst curve replay
	Burst      *Burst
	Curve      []CurvePoint
	Replay     string          // a file; empty: Replayed
	Replayed   []ReplayedEvent // in the order of time
	Key        string
	Type       string
	Events     []SampleEvent
	Size       int64
	Max        int64 // 0: no limit
	Pos        Position
}

// Burst sends at Rate for On, then at the traffic's own rate for Off.
type Burst struct {
	On, Off time.Duration
	Rate    float64
}

// CurvePoint is a rate from a time into the run on, up to the next point.
type CurvePoint struct {
	At   time.Duration
	Rate float64
}

// ReplayedEvent is one arrival of a replay that stands in the scenario itself.
type ReplayedEvent struct {
	At         time.Duration // since the start
	Key, Type  string
	ID, Source string
	Extensions map[string]any
	Size       int64 // bytes
	Data       *Value
}

// SampleEvent is one payload that traffic draws by weight.
type SampleEvent struct {
	File                  string
	Data                  *Value
	Weight                float64
	Type, Source, Subject string         // empty: as the file says, or the traffic
	Extensions            map[string]any // CloudEvents extension attributes
}

// EventFile is an event as a file holds it, of which traffic sends many: each has an id
// and a time of its own.
type EventFile struct {
	Type, Subject string
	Data          any
	Attributes    *expr.Attributes // nil: it has none of its own
}

// UsualEvent is an event that external senders send to a node, of which nothing is stated: where the node checks
// payloads, it has one that fits.
func (n *Node) UsualEvent() EventFile {
	if n.Accepts == nil {
		return EventFile{}
	}
	return EventFile{Data: expr.Example(n.Accepts.Document)}
}

// Over returns the event of a file (none: an empty one) with what the scenario states
// of it.
func (e *SampleEvent) Over(file EventFile) EventFile {
	a := expr.Attributes{}
	if file.Attributes != nil {
		a = *file.Attributes
		a.ID, a.Time = "", time.Time{}
	}
	if e.Data != nil {
		file.Data, a.Bytes, a.Binary = e.Data.Plain(), nil, false
	}
	file.Type, file.Subject, a.Source = cmp.Or(
		e.Type,
		file.Type,
	), cmp.Or(
		e.Subject,
		file.Subject,
	), cmp.Or(
		e.Source,
		a.Source,
	)
	if len(e.Extensions) > 0 {
		all := map[string]any{}
		maps.Copy(all, a.Extensions)
		maps.Copy(all, e.Extensions)
		a.Extensions = all
	}
	file.Attributes = &a
	if a.Source == "" && a.ContentType == "" && a.Schema == "" && a.Extensions == nil && a.Bytes == nil {
		file.Attributes = nil
	}
	return file
}

// Incident is something that goes wrong, or is done, at a time.
type Incident struct {
	Name        string
	At          time.Duration
	For         time.Duration // 0: to the end
	Node        string
	Link        string
	Group       string
	Fails       *float64
	Slow        *float64
	Concurrency *int
	Paused      *bool
	Enabled     *bool
	Stopped     *bool
	Crash       bool
	Reads       bool // with Fails: reads fail too
	SendBack    *SendBack
	Rewind      *Rewind
	Pos         Position
}

// SendBack moves what rests in From to To at a rate.
type SendBack struct {
	From, To string
	Rate     float64
}

// Rewind sets a reader of a stream or feed back.
type Rewind struct {
	Link string
	By   time.Duration
}

// Expectation is a condition over the result of a run.
type Expectation struct {
	Name, Expression string
	At               Position // of the expression; zero where no file has it
}

// Bounds of a scenario.
const (
	MaxLength       = 10 * 365 * 24 * time.Hour
	MaxReplications = 10_000
)

// DefaultStart is when a run without a scenario starts: a Monday at midnight.
var DefaultStart = time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)

// DefaultScenario is what runs where no scenario is given: a day of the nodes'
// own rates.
func DefaultScenario() *Scenario {
	return &Scenario{Name: "a-day", Start: DefaultStart, Length: 24 * time.Hour, Seed: 1, Replications: 1}
}

// ParseScenario reads a scenario for a topology.
func ParseScenario(file string, text []byte, t *Topology) (*Scenario, error) {
	root, err := ReadDocument(file, text)
	if err != nil {
		return nil, err
	}
	return ScenarioFromDocument(file, root, t)
}

// ScenarioFromDocument reads a scenario from a parsed document.
func ScenarioFromDocument(file string, root *Value, t *Topology) (*Scenario, error) {
	d := &decoder{}
	if root.Shape != Map {
		d.wants(root, "", "a map that starts with `ironweir: "+scenarioHeader+"`")
		return nil, d.problems
	}
	o := d.object(root, "")
	d.header(o, scenarioHeader)
	if len(d.problems) > 0 {
		return nil, d.problems
	}
	s := DefaultScenario()
	s.File = file
	if name := o.text("name"); name != "" {
		s.Name = name
	}
	s.About = o.text("about")
	if start := o.time("start"); start != nil {
		s.Start = *start
	}
	s.Length = o.positive("length", s.Length)
	if s.Length > MaxLength {
		d.problem(o.pos("length"), "length", "at most %s can be simulated", FormatDuration(MaxLength))
	}
	s.WarmUp = o.duration("warm-up", 0)
	if s.WarmUp >= s.Length {
		d.problem(
			o.pos("warm-up"),
			"warm-up",
			"the warm-up must be shorter than the length, %s",
			FormatDuration(s.Length),
		)
	}
	s.Seed = uint64(o.whole("seed", int(s.Seed), 0))
	s.Replications = o.whole("replications", 1, 1)
	if s.Replications > MaxReplications {
		d.problem(o.pos("replications"), "replications", "at most %d", MaxReplications)
	}
	s.Breakdowns = o.oneOf("breakdowns", "none", "none", "drawn") == "drawn"
	s.TrafficGiven = o.v.Get("traffic") != nil
	o.each("traffic", func(name string, pos Position, v *Value, path string) {
		s.Traffic = append(s.Traffic, d.traffic(name, pos, v, path, t))
	})
	o.each("incidents", func(name string, pos Position, v *Value, path string) {
		s.Incidents = append(s.Incidents, d.incident(name, pos, v, path, t))
	})
	o.each("expect", func(name string, pos Position, v *Value, path string) {
		if v.Shape == Map || v.Shape == List {
			d.wants(v, path, "an expression over `run`")
			return
		}
		if _, err := expr.CompileJudgement(v.Scalar); err != nil {
			d.problem(v.Pos, path, "%v", err)
		}
		s.Expect = append(s.Expect, Expectation{name, v.Scalar, v.Pos})
	})
	o.done(nil)
	if len(d.problems) > 0 {
		return nil, d.problems.sorted()
	}
	return s, nil
}

func (o *object) existing(key string, t *Topology) string {
	name := o.text(key)
	if name != "" && t.Node(name) == nil {
		o.problem(o.pos(key), o.at(key), "the model %s has no node %q%s", t.Name, name, didYouMean(name, t.NodeNames()))
	}
	return name
}

func (d *decoder) traffic(name string, pos Position, v *Value, path string, t *Topology) *Traffic {
	d.checkName(name, pos, path)
	o := d.object(v, path)
	a := &Traffic{
		Name:     name,
		Into:     o.existing("into", t),
		Rate:     o.rate("rate"),
		Arrivals: "poisson",
		Key:      o.text("key"),
		Type:     o.text("type"),
		Size:     o.size("size", 0),
		Max:      int64(o.whole("max", 0, 1)),
		Pos:      pos,
	}
	if n := t.Node(a.Into); a.Into == "" {
		d.problem(pos, path, "traffic needs `into`, the node that takes it")
	} else if n != nil && n.Kind == Schedule {
		d.problem(o.pos("into"), o.at("into"), "nothing can be sent to a schedule; it fires by its calendar alone")
	}
	if arrivals := o.get("arrivals"); arrivals != nil {
		d.arrivals(a, arrivals, o)
	}
	if a.Rate == 0 && o.v.Get("rate") == nil && (a.Arrivals == "poisson" || a.Arrivals == "even") {
		d.problem(pos, path, "traffic needs a `rate`, such as 40/h")
	}
	if a.Key != "" {
		if _, err := expr.ParseTemplate(a.Key, true); err != nil {
			d.problem(o.pos("key"), o.at("key"), "%v", err)
		}
	}
	if events := o.get("events"); events != nil && events.Shape == List {
		for i, item := range events.Items {
			q := d.object(item, fmt.Sprintf("%s[%d]", o.at("events"), i))
			e := SampleEvent{
				File:       q.text("file"),
				Data:       q.get("data"),
				Weight:     1,
				Type:       q.text("type"),
				Source:     q.text("source"),
				Subject:    q.text("subject"),
				Extensions: q.extensions("extensions"),
			}
			if w := q.number("weight"); w != nil {
				e.Weight = *w
			}
			if e.File != "" && e.Data != nil {
				d.problem(item.Pos, q.path, "an event has `file` or `data`, not both")
			}
			if e.File == "" && e.Data == nil && e.Type == "" && e.Source == "" && e.Subject == "" &&
				e.Extensions == nil {
				d.problem(item.Pos, q.path, "the event is empty: give it `file`, `data`, or attributes such as `type`")
			}
			if e.Weight <= 0 {
				d.problem(q.pos("weight"), q.at("weight"), "a weight is more than 0")
			}
			q.done(nil)
			a.Events = append(a.Events, e)
		}
	} else if events != nil {
		d.wants(events, o.at("events"), "a list of events")
	}
	o.done(nil)
	return a
}

// extensions reads CloudEvents extension attributes: names of lower-case letters and
// digits, with texts, whole numbers or truth values.
func (o *object) extensions(key string) map[string]any {
	v := o.get(key)
	if v == nil {
		return nil
	}
	if v.Shape != Map {
		o.wants(v, o.at(key), "a map of attributes")
		return nil
	}
	out := map[string]any{}
	for _, f := range v.Fields {
		if !extensionName.MatchString(f.Key) {
			o.problem(f.Pos, o.at(key)+"."+f.Key, "an extension attribute has a name of lower-case letters and digits")
			continue
		}
		x := f.Value.Plain()
		if n, ok := x.(float64); ok && (n != math.Trunc(n) || math.Abs(n) > math.MaxInt32) || f.Value.Shape == Map ||
			f.Value.Shape == List ||
			x == nil {
			o.problem(
				f.Value.Pos,
				o.at(key)+"."+f.Key,
				"an extension attribute is a text, a whole number of 32 bits, or true or false",
			)
			continue
		}
		out[f.Key] = x
	}
	return out
}

var extensionName = regexp.MustCompile(`^[a-z0-9]+$`)

func (d *decoder) arrivals(a *Traffic, v *Value, o *object) {
	path := o.at("arrivals")
	if v.Shape != Map {
		a.Arrivals = o.oneOf("arrivals", "poisson", "poisson", "even")
		return
	}
	q := d.object(v, path)
	switch {
	case v.Get("burst") != nil:
		a.Arrivals = "burst"
		b := d.object(q.written("burst"), path+".burst")
		a.Burst = &Burst{On: b.positive("on", time.Minute), Off: b.duration("off", 0), Rate: b.rate("rate")}
		b.done(nil)
	case v.Get("curve") != nil:
		a.Arrivals = "curve"
		points := q.written("curve")
		for i, p := range points.Items {
			at := fmt.Sprintf("%s.curve[%d]", path, i)
			if p.Shape != List || len(p.Items) != 2 {
				d.problem(p.Pos, at, "a point is [time, rate], such as [8h, 90/h]")
				continue
			}
			when, ok1 := quantity(d, p.Items[0], at, "a duration", ParseDuration)
			rate, ok2 := quantity(d, p.Items[1], at, "a rate", ParseRate)
			if n := len(a.Curve); ok1 && ok2 && n > 0 && when <= a.Curve[n-1].At {
				d.problem(p.Pos, at, "the points of a curve go forward in time")
			}
			a.Curve = append(a.Curve, CurvePoint{when, rate})
		}
		if len(a.Curve) == 0 {
			d.problem(points.Pos, path+".curve", "a curve is a list of points, such as [[0h, 10/h], [8h, 90/h]]")
		}
	case v.Get("replay") != nil:
		a.Arrivals = "replay"
		if list := q.written("replay"); list.Shape == List {
			d.replayed(a, list, q.at("replay"))
		} else {
			a.Replay = q.text("replay")
		}
	default:
		d.problem(v.Pos, path, "arrivals are poisson, even, {burst: …}, {curve: …} or {replay: …}")
	}
	q.done(nil)
}

// replayed reads arrivals that stand in the scenario itself.
func (d *decoder) replayed(a *Traffic, list *Value, path string) {
	for i, item := range list.Items {
		o := d.object(item, fmt.Sprintf("%s[%d]", path, i))
		e := ReplayedEvent{
			At:         o.duration("at", 0),
			Key:        o.text("key"),
			Type:       o.text("type"),
			ID:         o.text("id"),
			Source:     o.text("source"),
			Extensions: o.extensions("extensions"),
			Size:       o.size("size", 0),
			Data:       o.get("data"),
		}
		if o.v.Get("at") == nil {
			d.problem(item.Pos, o.path, "a replayed event needs `at`, the time since the start, such as 12.5s")
		}
		if n := len(a.Replayed); n > 0 && e.At < a.Replayed[n-1].At {
			d.problem(item.Pos, o.path, "replayed events go forward in time")
		}
		o.done(nil)
		a.Replayed = append(a.Replayed, e)
	}
	if len(a.Replayed) == 0 {
		d.problem(list.Pos, path, "a replay is a file, or a list of events such as {at: 12.5s, key: inbound/1.csv}")
	}
}

func (d *decoder) incident(name string, pos Position, v *Value, path string, t *Topology) *Incident {
	d.checkName(name, pos, path)
	o := d.object(v, path)
	in := &Incident{
		Name:  name,
		At:    o.duration("at", 0),
		For:   o.positive("for", 0),
		Node:  o.existing("node", t),
		Link:  o.text("link"),
		Group: o.text("group"),
		Pos:   pos,
	}
	if o.v.Get("fails") != nil {
		f := o.share("fails", 0)
		in.Fails = &f
	}
	if in.Slow = o.number("slow"); in.Slow != nil && (*in.Slow <= 0 || *in.Slow > 1e6) {
		d.problem(o.pos("slow"), o.at("slow"), "`slow` is how many times as slow, more than 0")
	}
	if o.v.Get("concurrency") != nil {
		c := o.whole("concurrency", 1, 0)
		in.Concurrency = &c
	}
	for key, into := range map[string]**bool{"paused": &in.Paused, "enabled": &in.Enabled, "stopped": &in.Stopped} {
		if o.v.Get(key) != nil {
			b := o.truth(key, true)
			*into = &b
		}
	}
	in.Crash, in.Reads = o.truth("crash", false), o.truth("reads", false)
	if sb := o.get("send-back"); sb != nil {
		q := d.object(sb, o.at("send-back"))
		in.SendBack = &SendBack{From: q.existing("from", t), To: q.existing("to", t), Rate: q.rate("rate")}
		if n := t.Node(in.SendBack.From); n != nil && n.Kind != Queue {
			d.problem(
				q.pos("from"),
				q.at("from"),
				"only a queue's messages can be sent back; %s is a %s",
				n.Name,
				n.Kind,
			)
		}
		if n := t.Node(in.SendBack.To); n != nil && !n.Kind.Channel() && !n.Kind.Runs() {
			d.problem(q.pos("to"), q.at("to"), "messages cannot be sent to a %s", n.Kind)
		}
		if in.SendBack.From == "" || in.SendBack.To == "" || in.SendBack.Rate == 0 {
			d.problem(sb.Pos, q.path, "send-back needs `from`, `to` and a `rate`, such as 5/s")
		}
		q.done(nil)
	}
	if rw := o.get("rewind"); rw != nil {
		q := d.object(rw, o.at("rewind"))
		in.Rewind = &Rewind{Link: q.text("link"), By: q.positive("by", time.Hour)}
		q.done(nil)
	}
	o.asked = append(o.asked, "fails", "concurrency", "paused", "enabled", "stopped")
	o.done(nil)
	d.incidentTarget(in, o, t)
	return in
}

func (d *decoder) incidentTarget(in *Incident, o *object, t *Topology) {
	if in.Link != "" {
		from, link, _ := strings.Cut(in.Link, ":")
		if n := t.Node(from); n == nil || n.Link(link) == nil {
			var ids []string
			for _, n := range t.Nodes {
				for _, l := range n.Links {
					ids = append(ids, l.ID())
				}
			}
			d.problem(
				o.pos("link"),
				o.at("link"),
				"no link %q%s; a link is written from:name",
				in.Link,
				didYouMean(in.Link, ids),
			)
		}
	}
	if in.Group != "" {
		if _, ok := t.FailsTogether[in.Group]; !ok {
			d.problem(
				o.pos("group"),
				o.at("group"),
				"no group %q in `fails-together`%s",
				in.Group,
				didYouMean(in.Group, sortedKeys(t.FailsTogether)),
			)
		}
	}
	onNode := in.Fails != nil || in.Slow != nil || in.Concurrency != nil || in.Stopped != nil || in.Crash ||
		in.Enabled != nil && in.Link == ""
	switch {
	case in.SendBack != nil || in.Rewind != nil:
	case onNode && in.Node == "" && in.Group == "":
		d.problem(in.Pos, o.path, "the incident needs `node` or `group`, what it happens to")
	case in.Paused != nil && in.Link == "":
		d.problem(in.Pos, o.path, "`paused` needs `link`, such as consignments:clear-consignment")
	case !onNode && in.Paused == nil && in.Enabled == nil:
		d.problem(
			in.Pos,
			o.path,
			"the incident does nothing: give it fails, slow, concurrency, paused, enabled, stopped, crash, send-back or rewind",
		)
	}
	if in.Crash && in.For > 0 {
		d.problem(
			o.pos("for"),
			o.at("for"),
			"a crash is an instant and has no `for`; for a process that stays down use `stopped: true`",
		)
	}
	if in.Reads && in.Fails == nil {
		d.problem(o.pos("reads"), o.at("reads"), "`reads` goes with `fails`, the share of reads and writes that fail")
	}
	for _, name := range append([]string{in.Node}, t.FailsTogether[in.Group]...) {
		if n := t.Node(name); n != nil && (in.Stopped != nil || in.Crash) && !n.Kind.Process() {
			d.problem(
				in.Pos,
				o.path,
				"%s is a %s, which runs no process that could stop or crash; use `fails: 100%%`",
				n.Name,
				n.Kind,
			)
		}
	}
	if n := t.Node(in.Node); n != nil {
		if in.Concurrency != nil && n.Kind != Function && n.Kind != Workflow {
			d.problem(o.pos("concurrency"), o.at("concurrency"), "%s has no concurrency", n.Kind.Noun())
		}
		if in.Enabled != nil && n.Kind != Schedule {
			d.problem(
				o.pos("enabled"),
				o.at("enabled"),
				"only a schedule or a link is switched off; on %s use `stopped: true` or `fails: 100%%`",
				n.Kind.Noun(),
			)
		}
	}
}
