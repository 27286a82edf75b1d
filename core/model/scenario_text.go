package model

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// WriteScenario writes a scenario as a file: traffic without replays, and incidents
// that change a node, a group or a link.
func WriteScenario(s *Scenario) string {
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"ironweir: scenario/1\nname: %s\nstart: %s\nlength: %s\nseed: %d\n",
		s.Name,
		s.Start.Format(time.RFC3339),
		FormatDuration(s.Length),
		s.Seed,
	)
	if len(s.Traffic) == 0 {
		b.WriteString("traffic: {}\n")
	} else {
		b.WriteString("traffic:\n")
	}
	for _, t := range s.Traffic {
		fmt.Fprintf(&b, "  %s: {%s}\n", t.Name, strings.Join(trafficFields(t), ", "))
	}
	if len(s.Incidents) > 0 {
		b.WriteString("incidents:\n")
	}
	for _, in := range s.Incidents {
		fmt.Fprintf(&b, "  %s: {%s}\n", in.Name, strings.Join(incidentFields(in), ", "))
	}
	return b.String()
}

// trafficFields gives the fields of traffic as text.
func trafficFields(t *Traffic) []string {
	fields := []string{"into: " + t.Into, "rate: " + strconv.FormatFloat(t.Rate, 'f', -1, 64) + "/s"}
	if t.Arrivals == "even" {
		fields = append(fields, "arrivals: even")
	}
	if t.Key != "" {
		fields = append(fields, "key: "+strconv.Quote(t.Key))
	}
	if t.Type != "" {
		fields = append(fields, "type: "+strconv.Quote(t.Type))
	}
	if t.Size > 0 {
		fields = append(fields, "size: "+strconv.FormatInt(t.Size, 10)+"B")
	}
	if t.Max > 0 {
		fields = append(fields, "max: "+strconv.FormatInt(t.Max, 10))
	}
	var events []string
	for _, e := range t.Events {
		what := "file: " + strconv.Quote(e.File)
		if e.Data != nil {
			what = "data: " + Flow(e.Data)
		}
		events = append(events, fmt.Sprintf("{%s, weight: %s}", what, strconv.FormatFloat(e.Weight, 'f', -1, 64)))
	}
	if events != nil {
		fields = append(fields, "events: ["+strings.Join(events, ", ")+"]")
	}
	return fields
}

// incidentFields gives the fields of an incident as text.
func incidentFields(in *Incident) []string {
	fields := []string{"at: " + FormatDuration(in.At)}
	add := func(name, value string) {
		if value != "" {
			fields = append(fields, name+": "+value)
		}
	}
	if in.For > 0 {
		add("for", FormatDuration(in.For))
	}
	add("node", in.Node)
	add("group", in.Group)
	if in.Link != "" {
		add("link", strconv.Quote(in.Link))
	}
	if in.Fails != nil {
		add("fails", strconv.FormatFloat(*in.Fails, 'f', -1, 64))
	}
	if in.Paused != nil {
		add("paused", strconv.FormatBool(*in.Paused))
	}
	if in.Enabled != nil {
		add("enabled", strconv.FormatBool(*in.Enabled))
	}
	if in.Stopped != nil {
		add("stopped", strconv.FormatBool(*in.Stopped))
	}
	if in.Crash {
		add("crash", "true")
	}
	if in.Reads {
		add("reads", "true")
	}
	return fields
}
