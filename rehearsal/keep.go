package rehearsal

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"ironweir/core/model"
	"ironweir/core/sim"
)

// MostKept bounds the events that a kept scenario holds itself; with more, they
// go into files beside it.
const MostKept = 2000

// Kept is what has happened as a scenario, which gives the same at full speed.
type Kept struct {
	Scenario []byte
	Files    map[string][]byte // replays, by name; empty where the scenario holds them itself
	LeftOut  []string          // what a scenario has no words for
	Events   int
	Length   time.Duration
}

// Keep writes down what has happened until now: what came in as replays, what was
// done by hand as incidents. With files, many events go into files beside the
// scenario; without, too many are an error.
func (r *Rehearsal) Keep(name string, files bool) (*Kept, error) {
	now, length, release, err := r.holdSoFar()
	if err != nil {
		return nil, err
	}
	defer release()
	past, err := r.past(now)
	if err != nil {
		return nil, err
	}
	k := &Kept{Files: map[string][]byte{}, Events: past.events, Length: length, LeftOut: past.leftOut()}
	if past.events > MostKept && !files {
		return nil, fmt.Errorf(
			"%d events entered; a scenario holds at most %d itself. Rewind to keep less, or rehearse from the command line, which writes them into files",
			past.events,
			MostKept,
		)
	}
	base, err := r.base()
	if err != nil {
		return nil, err
	}
	traffic := model.MapValue()
	if !r.scenario.TrafficGiven {
		ownRates(r.plan.Graph.Topology, traffic)
	}
	for _, into := range past.order {
		source := model.MapValue().Add("into", model.TextValue(into))
		var events *model.Value
		if past.events > MostKept {
			file := "replay-" + name + "-" + into + ".csv"
			if k.Files[file], err = replayFile(r.scenario.Start, past.into[into]); err != nil {
				return nil, err
			}
			events = model.TextValue(file)
		} else if events, err = replayList(past.into[into]); err != nil {
			return nil, err
		}
		traffic.Add(
			free(base.Get("traffic"), "rehearsed-"+into),
			source.Add("arrivals", model.MapValue().Add("replay", events)),
		)
	}
	incidents := model.MapValue()
	for _, in := range past.incidents {
		incidents.Add(free(base.Get("incidents"), in.name), in.value())
	}
	patch := model.MapValue().Add(
		"name",
		model.TextValue(name),
	).Add(
		"length",
		model.TextValue(model.FormatDuration(length)),
	).
		Add(
			"replications",
			model.NumberValue("1"),
		).Add(
		"warm-up",
		model.TextValue("0s"),
	).Add(
		"traffic",
		traffic,
	)
	if len(incidents.Fields) > 0 {
		patch.Add("incidents", incidents)
	}
	about := "What happened in a rehearsal of " + model.FormatDuration(now.Round(time.Millisecond)) + "."
	if len(k.LeftOut) > 0 {
		about += " Left out: " + strings.Join(k.LeftOut, "; ") + "."
	}
	k.Scenario = model.WriteDocument(model.Merge(base, patch.Add("about", model.TextValue(about))), nil)
	return k, nil
}

// base is the scenario that was rehearsed, or one in which nothing comes.
func (r *Rehearsal) base() (*model.Value, error) {
	if r.plan.Scenario == nil {
		return model.MapValue().Add(
			"ironweir",
			model.TextValue("scenario/1"),
		).Add(
			"start",
			model.TextValue(r.scenario.Start.Format(time.RFC3339)),
		).
			Add(
				"seed",
				model.NumberValue(strconv.FormatUint(r.scenario.Seed, 10)),
			).Add(
			"traffic",
			model.MapValue(),
		), nil
	}
	return model.ReadDocument("scenario.yaml", r.plan.Text)
}

// ownRates writes out what outsiders send where no scenario says.
func ownRates(t *model.Topology, traffic *model.Value) {
	for _, n := range t.Nodes {
		if n.Rate > 0 && !n.Kind.Fires() {
			v := model.MapValue().Add("into", model.TextValue(n.Name)).Add("rate", exactRate(n.Rate))
			if len(n.Keys) > 0 {
				v.Add("key", model.TextValue(n.Keys[0]))
			}
			traffic.Add(n.Name, v)
		}
	}
}

// exactRate writes a rate so that reading it gives the same number.
func exactRate(perSecond float64) *model.Value {
	return model.TextValue(strconv.FormatFloat(perSecond, 'f', -1, 64) + "/s")
}

// free gives a name that a map does not have yet.
func free(in *model.Value, name string) string {
	for k, out := 2, name; ; k++ {
		if in == nil || in.Get(out) == nil {
			return out
		}
		out = fmt.Sprintf("%s-%d", name, k)
	}
}

// past is what was put in, sorted by what it becomes.
type past struct {
	events                       int
	order                        []string
	into                         map[string][]arrived
	incidents                    []*happened
	moved, removed, fired, hooks int
}

type arrived struct {
	at time.Duration
	*sim.InputEvent
}

// happened is an incident that was put in by hand.
type happened struct {
	name     string
	spec     *model.Incident
	at, ends time.Duration // ends 0: not yet
}

func (r *Rehearsal) past(until time.Duration) (*past, error) {
	p := &past{into: map[string][]arrived{}}
	reading := r.journal.read()
	for {
		in, err := reading.peek()
		if err != nil {
			return nil, err
		}
		if in == nil || in.At > until {
			return p, nil
		}
		switch {
		case in.Event != nil && r.plan.Graph.Topology.Node(in.Event.Node).Kind.Fires():
			p.fired++
		case in.Event != nil:
			if p.into[in.Event.Node] == nil {
				p.order = append(p.order, in.Event.Node)
			}
			p.into[in.Event.Node] = append(p.into[in.Event.Node], arrived{in.At, in.Event})
			if p.events++; p.events > 1_000_000 {
				return nil, errors.New("more than a million events entered; rewind to keep less")
			}
		case in.Incident != nil:
			p.incidents = append(p.incidents, &happened{in.Incident.Name, in.Incident, in.At, 0})
		case in.End != nil:
			for _, name := range in.End {
				for _, h := range p.incidents {
					if h.name == name {
						h.ends = in.At
					}
				}
			}
		case in.Move != nil && in.Move.To == "":
			p.removed++
		case in.Move != nil:
			p.moved++
		case in.Reply != nil:
			p.hooks++
		}
		reading.pass()
	}
}

// leftOut says what a scenario has no words for.
func (p *past) leftOut() []string {
	var out []string
	for _, of := range []struct {
		count int
		what  string
	}{{p.moved, "messages moved by hand"}, {p.removed, "messages removed by hand"}, {p.fired, "schedules fired by hand"}, {p.hooks, "runs answered by hooks"}} {
		if of.count > 0 {
			out = append(out, fmt.Sprintf("%s (%d)", of.what, of.count))
		}
	}
	return out
}

// value writes an incident as a scenario does.
func (h *happened) value() *model.Value {
	in := h.spec
	v := model.MapValue().Add("at", model.TextValue(model.FormatDuration(h.at)))
	if h.ends > 0 {
		v.Add("for", model.TextValue(model.FormatDuration(h.ends-h.at)))
	}
	text := func(key, value string) {
		if value != "" {
			v.Add(key, model.TextValue(value))
		}
	}
	text("node", in.Node)
	text("link", in.Link)
	text("group", in.Group)
	number := func(key string, x float64) {
		v.Add(key, model.NumberValue(strconv.FormatFloat(x, 'f', -1, 64)))
	}
	switch {
	case in.Fails != nil:
		number("fails", *in.Fails)
	case in.Slow != nil:
		number("slow", *in.Slow)
	case in.Concurrency != nil:
		number("concurrency", float64(*in.Concurrency))
	}
	truth := func(key string, b *bool) {
		if b != nil {
			v.Add(key, &model.Value{Shape: model.Bool, Scalar: strconv.FormatBool(*b)})
		}
	}
	truth("paused", in.Paused)
	truth("enabled", in.Enabled)
	truth("stopped", in.Stopped)
	yes := true
	if in.Crash {
		truth("crash", &yes)
	}
	if in.Reads {
		truth("reads", &yes)
	}
	if sb := in.SendBack; sb != nil {
		v.Add(
			"send-back",
			model.MapValue().Add(
				"from",
				model.TextValue(sb.From),
			).Add(
				"to",
				model.TextValue(sb.To),
			).Add(
				"rate",
				exactRate(sb.Rate),
			),
		)
	}
	return v
}

// asValue gives a JSON value as a scenario holds it.
func asValue(x any) (*model.Value, error) {
	text, err := json.Marshal(map[string]any{"value": x})
	if err != nil {
		return nil, err
	}
	doc, err := model.ReadDocument("value", text)
	if err != nil {
		return nil, err
	}
	return doc.Get("value"), nil
}

// replayList writes arrivals into the scenario itself.
func replayList(list []arrived) (*model.Value, error) {
	out := model.ListValue()
	for _, a := range list {
		v := model.MapValue().Add("at", model.TextValue(model.FormatDuration(a.at)))
		for _, f := range []struct{ key, value string }{{"key", a.Subject}, {"type", a.Type}} {
			if f.value != "" {
				v.Add(f.key, model.TextValue(f.value))
			}
		}
		if a.Attributes != nil {
			for _, f := range []struct{ key, value string }{{"id", a.ID}, {"source", a.Source}} {
				if f.value != "" {
					v.Add(f.key, model.TextValue(f.value))
				}
			}
			if len(a.Extensions) > 0 {
				own, err := asValue(a.Extensions)
				if err != nil {
					return nil, err
				}
				v.Add("extensions", own)
			}
		}
		if a.Size > 0 {
			v.Add("size", model.TextValue(strconv.FormatInt(a.Size, 10)+"B"))
		}
		if a.Data != nil {
			data, err := asValue(a.Data)
			if err != nil {
				return nil, err
			}
			v.Add("data", data)
		}
		out.Items = append(out.Items, v)
	}
	return out, nil
}

// replayFile writes arrivals as CSV.
func replayFile(start time.Time, list []arrived) ([]byte, error) {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	if err := w.Write([]string{"time", "key", "type", "size", "data"}); err != nil {
		return nil, err
	}
	for _, a := range list {
		data := ""
		if a.Data != nil {
			text, err := json.Marshal(a.Data)
			if err != nil {
				return nil, err
			}
			data = string(text)
		}
		if err := w.Write([]string{start.Add(a.at).UTC().Format(time.RFC3339Nano), a.Subject, a.Type, strconv.FormatInt(a.Size, 10), data}); err != nil {
			return nil, err
		}
	}
	w.Flush()
	return out.Bytes(), w.Error()
}
