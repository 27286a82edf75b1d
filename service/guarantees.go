package service

import (
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/check/flow"
	"ironweir/core/check/guarantees"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/verify"
	"ironweir/formats/text"
	"ironweir/store"
)

// maxPairs bounds the guarantees of one answer.
const maxPairs = 2_000

// guaranteeRoutes say what holds between entries and destinations of a text that need
// not be saved.
func (v *Service) guaranteeRoutes() {
	register(v, store.Viewer, huma.Operation{
		OperationID:  "guarantees",
		Metadata:     computes,
		Method:       http.MethodPost,
		Path:         "/api/v1/guarantees",
		Summary:      "How often, in which order and how late each message has its effect",
		MaxBodyBytes: MaxBody,
	}, v.guarantees)

	register(v, store.Viewer, huma.Operation{
		OperationID:  "witness",
		Metadata:     computes,
		Method:       http.MethodPost,
		Path:         "/api/v1/witness",
		Summary:      "A scenario in which a run shows what a guarantee denies, with the message that it happens to",
		MaxBodyBytes: MaxBody,
	}, v.witness)
}

// Witness is a run that shows a statement of a guarantee, where one was found.
type Witness struct {
	Found    bool          `json:"found"`
	Ended    bool          `json:"ended" doc:"the search was ended before all scenarios were tried"`
	Says     string        `json:"says" doc:"the statement"`
	Scenario string        `json:"scenario" doc:"as YAML; empty: none was found"`
	Journeys []sim.Journey `json:"journeys" doc:"the message that it happens to; of a lost order, the one overtaken and the one that overtakes"`
}

// witnessTime bounds the search for a witness, which then ends without one.
const witnessTime = 20 * time.Second

func (v *Service) witness(ctx context.Context, in *struct {
	Body struct {
		Text     string `json:"text" doc:"The topology, as YAML"`
		Scenario string `json:"scenario,omitempty" doc:"A scenario whose traffic is tried before the nodes' own rates"`
		From     string `json:"from" doc:"The entry of the guarantee"`
		To       string `json:"to" doc:"Its destination"`
		What     string `json:"what" enum:"lost,repeated,overtaken" doc:"The kind of statement"`
		At       int    `json:"at,omitempty" minimum:"0" doc:"Its place among the losses or repetitions"`
	}
}) (*struct{ Body Witness }, error) {
	b := in.Body
	g, err := compile("model.yaml", b.Text)
	if err != nil {
		return nil, badFile(err)
	}
	var scenarios []*model.Scenario // the traffic that is tried
	if b.Scenario != "" {
		s, err := model.ParseScenario("scenario.yaml", []byte(b.Scenario), g.Topology)
		if err != nil {
			return nil, badFile(err)
		}
		scenarios = append(scenarios, s)
	}
	statement := verify.Statement{What: b.What, At: b.At}
	list := guarantees.Of(flow.Analyse(g, nil), b.From, b.To)
	if len(list) != 1 || !slices.Contains(verify.StatementsOf(&list[0]), statement) {
		return nil, huma.Error404NotFound("no such statement: look at the guarantees of this text")
	}
	out := Witness{Says: text.Statement(&list[0], b.What, b.At), Journeys: []sim.Journey{}}
	ctx, cancel := context.WithTimeout(ctx, witnessTime)
	defer cancel()
	for _, s := range append(scenarios, nil) {
		o := verify.Options{Scenario: s, Stop: func() bool { return ctx.Err() != nil }}
		witnesses, err := verify.NewWitnesses(g, o)
		if err != nil {
			return nil, badFile(err)
		}
		found, err := witnesses.Find(&list[0], statement)
		if err != nil {
			return nil, badFile(err)
		}
		if found != nil {
			out.Found, out.Scenario, out.Journeys = true, model.WriteScenario(found.Scenario), found.Journeys
			break
		}
	}
	out.Ended = !out.Found && ctx.Err() != nil
	return &struct{ Body Witness }{out}, nil
}

func (v *Service) guarantees(ctx context.Context, in *struct {
	Body struct {
		Text string `json:"text" doc:"The topology, as YAML"`
		From string `json:"from,omitempty" doc:"Only messages that enter at this node"`
		To   string `json:"to,omitempty" doc:"Only effects at this node"`
	}
}) (*struct{ Body guarantees.Document }, error) {
	b := in.Body
	g, err := compile("model.yaml", b.Text)
	if err != nil {
		return nil, badFile(err)
	}
	for _, name := range []string{b.From, b.To} {
		if name != "" && g.NodeID(name) < 0 {
			return nil, huma.Error404NotFound(g.NoNode(name).Error())
		}
	}
	return &struct{ Body guarantees.Document }{*pairs(g, b.Text, nil, b.From, b.To)}, nil
}

// pairs says what holds between entries and destinations of a model.
func pairs(g *graph.Graph, text string, traffic *model.Scenario, from, to string) *guarantees.Document {
	found := guarantees.Of(flow.Analyse(g, traffic), from, to)
	shown := found[:min(len(found), maxPairs)]
	return &guarantees.Document{
		Head:       document.NewHead("guarantees", g.Topology.Name, "", document.Digest(text)),
		Guarantees: shown,
		Omitted:    len(found) - len(shown),
		Unmet:      []guarantees.Unmet{},
	}
}
