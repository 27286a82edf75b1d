package model

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// WriteScenario writes a scenario as a file: what is read from it is the same scenario.
func WriteScenario(s *Scenario) string {
	var b strings.Builder
	line := func(name, value string) { fmt.Fprintf(&b, "%s: %s\n", name, value) }
	line("ironweir", scenarioHeader)
	line("name", s.Name)
	if s.About != "" {
		line("about", strconv.Quote(s.About))
	}
	line("start", s.Start.Format(time.RFC3339Nano))
	line("length", FormatDuration(s.Length))
	if s.WarmUp > 0 {
		line("warm-up", FormatDuration(s.WarmUp))
	}
	line("seed", strconv.FormatUint(s.Seed, 10))
	if s.Replications > 1 {
		line("replications", strconv.Itoa(s.Replications))
	}
	if s.Breakdowns {
		line("breakdowns", "drawn")
	}
	if len(s.Traffic) == 0 {
		line("traffic", "{}")
	} else {
		b.WriteString("traffic:\n")
	}
	for _, t := range s.Traffic {
		fmt.Fprintf(&b, "  %s: %s\n", t.Name, trafficText(t))
	}
	if len(s.Incidents) > 0 {
		b.WriteString("incidents:\n")
	}
	for _, in := range s.Incidents {
		fmt.Fprintf(&b, "  %s: %s\n", in.Name, incidentText(in))
	}
	if len(s.Expect) > 0 {
		b.WriteString("expect:\n")
	}
	for _, x := range s.Expect {
		fmt.Fprintf(&b, "  %s: %s\n", x.Name, strconv.Quote(x.Expression))
	}
	return b.String()
}

// flowMap is a map on one line, in the order in which its fields are put in.
type flowMap []string

func (m *flowMap) put(name, value string) { *m = append(*m, name+": "+value) }

// quoted puts a text that is not empty.
func (m *flowMap) quoted(name, value string) {
	if value != "" {
		m.put(name, strconv.Quote(value))
	}
}

func (m *flowMap) name(name, value string) {
	if value != "" {
		m.put(name, value)
	}
}

func (m *flowMap) size(bytes int64) {
	if bytes > 0 {
		m.put("size", strconv.FormatInt(bytes, 10)+"B")
	}
}

func (m *flowMap) truth(name string, value *bool) {
	if value != nil {
		m.put(name, strconv.FormatBool(*value))
	}
}

func (m *flowMap) data(v *Value) {
	if v != nil {
		m.put("data", Flow(v))
	}
}

// extensions puts attributes, each a text, a whole number or a truth value.
func (m *flowMap) extensions(all map[string]any) {
	if len(all) == 0 {
		return
	}
	var out flowMap
	for _, name := range sortedKeys(all) {
		if text, is := all[name].(string); is {
			out.put(name, strconv.Quote(text))
		} else {
			out.put(name, fmt.Sprint(all[name]))
		}
	}
	m.put("extensions", out.String())
}

func (m flowMap) String() string { return "{" + strings.Join(m, ", ") + "}" }

func listText[T any](list []T, text func(T) string) string {
	parts := make([]string, len(list))
	for k, x := range list {
		parts[k] = text(x)
	}
	return "[" + strings.Join(parts, ", ") + "]"
}

func numberText(x float64) string { return strconv.FormatFloat(x, 'f', -1, 64) }

func rateText(perSecond float64) string { return numberText(perSecond) + "/s" }

func trafficText(t *Traffic) string {
	var m flowMap
	m.put("into", t.Into)
	if t.Rate > 0 || !slices.Contains([]string{"burst", "curve", "replay"}, t.Arrivals) {
		m.put("rate", rateText(t.Rate))
	}
	switch t.Arrivals {
	case "even":
		m.put("arrivals", "even")
	case "burst":
		b := flowMap{}
		b.put("on", FormatDuration(t.Burst.On))
		b.put("off", FormatDuration(t.Burst.Off))
		b.put("rate", rateText(t.Burst.Rate))
		m.put("arrivals", "{burst: "+b.String()+"}")
	case "curve":
		points := listText(t.Curve, func(p CurvePoint) string {
			return "[" + FormatDuration(p.At) + ", " + rateText(p.Rate) + "]"
		})
		m.put("arrivals", "{curve: "+points+"}")
	case "replay":
		replay := strconv.Quote(t.Replay)
		if t.Replay == "" {
			replay = listText(t.Replayed, replayedText)
		}
		m.put("arrivals", "{replay: "+replay+"}")
	}
	m.quoted("key", t.Key)
	m.quoted("type", t.Type)
	m.size(t.Size)
	if t.Max > 0 {
		m.put("max", strconv.FormatInt(t.Max, 10))
	}
	if len(t.Events) > 0 {
		m.put("events", listText(t.Events, eventText))
	}
	return m.String()
}

func replayedText(e ReplayedEvent) string {
	var m flowMap
	m.put("at", FormatDuration(e.At))
	m.quoted("key", e.Key)
	m.quoted("type", e.Type)
	m.quoted("id", e.ID)
	m.quoted("source", e.Source)
	m.extensions(e.Extensions)
	m.size(e.Size)
	m.data(e.Data)
	return m.String()
}

func eventText(e SampleEvent) string {
	var m flowMap
	m.quoted("file", e.File)
	m.data(e.Data)
	m.quoted("type", e.Type)
	m.quoted("source", e.Source)
	m.quoted("subject", e.Subject)
	m.extensions(e.Extensions)
	m.put("weight", numberText(e.Weight))
	return m.String()
}

func incidentText(in *Incident) string {
	var m flowMap
	m.put("at", FormatDuration(in.At))
	if in.For > 0 {
		m.put("for", FormatDuration(in.For))
	}
	m.name("node", in.Node)
	m.name("group", in.Group)
	m.quoted("link", in.Link)
	if in.Fails != nil {
		m.put("fails", numberText(*in.Fails))
	}
	if in.Slow != nil {
		m.put("slow", numberText(*in.Slow))
	}
	if in.Concurrency != nil {
		m.put("concurrency", strconv.Itoa(*in.Concurrency))
	}
	m.truth("paused", in.Paused)
	m.truth("enabled", in.Enabled)
	m.truth("stopped", in.Stopped)
	if in.Crash {
		m.put("crash", "true")
	}
	if in.Reads {
		m.put("reads", "true")
	}
	if x := in.SendBack; x != nil {
		m.put("send-back", "{from: "+x.From+", to: "+x.To+", rate: "+rateText(x.Rate)+"}")
	}
	if x := in.Rewind; x != nil {
		m.put("rewind", "{link: "+strconv.Quote(x.Link)+", by: "+FormatDuration(x.By)+"}")
	}
	return m.String()
}
