package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/check/flow"
	"ironweir/core/check/guarantees"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
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
