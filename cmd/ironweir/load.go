package main

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"

	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/formats/cloudevents"
)

// modelFlags are the flags of every command that reads a model.
type modelFlags struct {
	env      *string
	variants repeated
	sets     repeated
	origin   map[string]string // of settings that do not come from -set, by path
	format   *string
}

func (c *call) modelFlags(formats string) *modelFlags {
	m := &modelFlags{}
	m.env = c.String("env", "", "use the variables of environment `NAME`")
	c.Var(&m.variants, "variant", "apply `FILE`, a merge patch over the model")
	c.Var(&m.sets, "set", "set `PATH=VALUE` in the model, as nodes.consignments.lease=90s; may be repeated")
	m.format = c.String(
		"format",
		strings.SplitN(formats, "|", 2)[0],
		"`FORMAT`: "+strings.ReplaceAll(formats, "|", ", "),
	)
	return m
}

// one gives the file of the variant, where there is one.
func (m *modelFlags) one() string {
	if len(m.variants) == 0 {
		return ""
	}
	return m.variants[0]
}

// name is how the variant is called in results; empty: the model as it is.
func (m *modelFlags) name() string {
	if m.one() == "" {
		return ""
	}
	return variantName(m.one())
}

func (c *call) oneOf(flag, value, allowed string) error {
	options := strings.Split(allowed, "|")
	for _, o := range options {
		if o == value {
			return nil
		}
	}
	return fmt.Errorf(
		"-%s %s: it is one of %s%s",
		flag,
		value,
		strings.Join(options, ", "),
		model.DidYouMean(value, options),
	)
}

// loaded is a model ready for use.
type loaded struct {
	graph  *graph.Graph
	text   []byte
	file   string
	digest string
	// Of a check with a scenario:
	traffic *model.Scenario
	inputs  sim.Inputs
}

func (l *loaded) head(schema string) document.Head {
	t := l.graph.Topology
	return document.NewHead(schema, t.Name, t.Environment, l.digest)
}

// read gives the text of a file; `-` is standard input.
func (c *call) read(file string) ([]byte, error) {
	return c.files.Read(file, model.MaxFileBytes)
}

// partsBeside reads the parts of a model, which lie beside it or below.
func (c *call) partsBeside(file string) func(name string) ([]byte, error) {
	return func(name string) ([]byte, error) {
		if filepath.IsAbs(name) || strings.Contains(name, "..") {
			return nil, fmt.Errorf("a part lies beside the model or below it")
		}
		return c.read(filepath.Join(filepath.Dir(file), name))
	}
}

func (c *call) loadModel(file string, m *modelFlags) (*loaded, error) {
	text, err := c.read(file)
	if err != nil {
		return nil, err
	}
	opt := model.Options{Environment: *m.env, Sets: m.sets, Origin: m.origin, Load: c.partsBeside(file)}
	texts := append([]string{string(text), *m.env}, m.sets...)
	if len(m.variants) > 1 {
		return nil, fmt.Errorf("one -variant at a time; `ironweir run` takes several and runs them side by side")
	}
	if variant := m.one(); variant != "" {
		patch, err := c.read(variant)
		if err != nil {
			return nil, err
		}
		if opt.Variant, err = model.ReadDocument(variant, patch); err != nil {
			return nil, err
		}
		texts = append(texts, string(patch))
	}
	t, err := model.Parse(file, text, opt)
	if err != nil {
		return nil, err
	}
	if t.Name == "" {
		t.Name = strings.TrimSuffix(filepath.Base(file), filepath.Ext(file))
	}
	g, err := graph.Compile(t)
	if err != nil {
		return nil, err
	}
	return &loaded{graph: g, text: text, file: file, digest: document.Digest(texts...)}, nil
}

// loadScenario reads a scenario and the events that it names; an empty file
// name gives a day of the nodes' own rates.
func (c *call) loadScenario(file string, l *loaded) (*model.Scenario, sim.Inputs, error) {
	inputs := sim.Inputs{Events: map[string]model.EventFile{}, Replays: map[string][]sim.Arrival{}}
	if file == "" {
		return model.DefaultScenario(), inputs, nil
	}
	text, err := c.read(file)
	if err != nil {
		return nil, inputs, err
	}
	s, err := model.ParseScenario(file, text, l.graph.Topology)
	if err != nil {
		return nil, inputs, err
	}
	for _, t := range s.Traffic {
		if t.Replay != "" { // else its events stand in the scenario
			path := filepath.Join(filepath.Dir(file), t.Replay)
			if inputs.Replays[t.Replay], err = c.loadReplay(path); err != nil {
				return nil, inputs, fmt.Errorf("traffic.%s.arrivals: %s: %w", t.Name, path, err)
			}
		}
		for _, e := range t.Events {
			if e.File == "" {
				continue
			}
			path := filepath.Join(filepath.Dir(file), e.File)
			text, err := c.read(path)
			if err != nil {
				return nil, inputs, fmt.Errorf("traffic.%s.events: %w", t.Name, err)
			}
			if inputs.Events[e.File], err = eventFile(text); err != nil {
				return nil, inputs, fmt.Errorf("%s: %w", path, err)
			}
		}
	}
	return s, inputs, nil
}

// eventFile reads a file that traffic sends: a CloudEvent, or the payload alone.
func eventFile(text []byte) (model.EventFile, error) {
	var data any
	if err := json.Unmarshal(text, &data); err != nil {
		return model.EventFile{}, fmt.Errorf("not JSON: %w", err)
	}
	if event, ok := data.(map[string]any); !ok || event["specversion"] == nil {
		return model.EventFile{Data: data}, nil
	}
	events, err := cloudevents.Read(text)
	if err != nil {
		return model.EventFile{}, err
	}
	e := events[0]
	return model.EventFile{Type: e.Type, Subject: e.Subject, Data: e.Data, Attributes: &e.Attributes}, nil
}

// loadReplay reads the arrivals of a file: CloudEvents, or CSV.
func (c *call) loadReplay(path string) ([]sim.Arrival, error) {
	text, err := c.read(path)
	if err != nil {
		return nil, err
	}
	read := cloudevents.Read
	if strings.EqualFold(filepath.Ext(path), ".csv") {
		read = cloudevents.ReadCSV
	}
	events, err := read(text)
	if err != nil {
		return nil, err
	}
	arrivals := make([]sim.Arrival, len(events))
	for i, e := range events {
		if e.Time.IsZero() {
			return nil, fmt.Errorf("event %d has no `time`, which is when it arrives", i+1)
		}
		arrivals[i] = sim.Arrival{
			At:         e.Time,
			Type:       e.Type,
			Subject:    e.Subject,
			Data:       e.Data,
			Size:       e.Size,
			Attributes: &events[i].Attributes,
		}
	}
	return arrivals, nil
}

// loadTraffic reads a scenario for its traffic, and the events that it names; nil
// where none is given.
func (c *call) loadTraffic(file string, l *loaded) (*model.Scenario, sim.Inputs, error) {
	if file == "" {
		return nil, sim.Inputs{}, nil
	}
	return c.loadScenario(file, l)
}

// printJSON prints a document as the formats do: two spaces, a line end.
func (c *call) printJSON(doc any) error {
	encoder := json.NewEncoder(c.out)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	return encoder.Encode(doc)
}
