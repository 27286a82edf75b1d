package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/document"
	"ironweir/core/expr"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
	"ironweir/store"
)

// MaxForced bounds how many nodes one message may be made to fail at.
const MaxForced = 1000

// tryRoutes send one message through a text that need not be saved.
func (v *Service) tryRoutes() {
	register(v, store.Viewer, huma.Operation{
		OperationID:  "sample",
		Metadata:     computes,
		Method:       http.MethodPost,
		Path:         "/api/v1/sample",
		Summary:      "An example event for a node, as a CloudEvent",
		MaxBodyBytes: MaxBody,
	}, v.sample)

	register(v, store.Viewer, huma.Operation{
		OperationID:  "follow",
		Metadata:     computes,
		Method:       http.MethodPost,
		Path:         "/api/v1/follow",
		Summary:      "Send one message through an idle system, and record each decision",
		MaxBodyBytes: MaxBody,
	}, v.follow)

	register(v, store.Viewer, huma.Operation{
		OperationID:  "takes",
		Metadata:     computes,
		Method:       http.MethodPost,
		Path:         "/api/v1/takes",
		Summary:      "Which links of each node would take an event, and why the others would not",
		MaxBodyBytes: MaxBody,
	}, v.takes)
}

func (v *Service) sample(ctx context.Context, in *struct {
	Body struct {
		Text string `json:"text" doc:"The topology, as YAML"`
		Node string `json:"node" doc:"The node at which the message enters"`
	}
}) (*struct{ Body map[string]any }, error) {
	g, err := compile("model.yaml", in.Body.Text)
	if err != nil {
		return nil, badFile(err)
	}
	id := g.NodeID(in.Body.Node)
	if id < 0 {
		return nil, huma.Error404NotFound(
			"no node " + in.Body.Node + model.DidYouMean(in.Body.Node, g.Topology.NodeNames()),
		)
	}
	return &struct{ Body map[string]any }{g.Sample(id)}, nil
}

func (v *Service) follow(ctx context.Context, in *struct {
	Body struct {
		Text    string         `json:"text" doc:"The topology, as YAML"`
		Node    string         `json:"node" doc:"The node at which the message enters"`
		Key     string         `json:"key,omitempty" doc:"Its subject"`
		Type    string         `json:"type,omitempty"`
		Data    any            `json:"data,omitempty"`
		Size    int64          `json:"size,omitempty" minimum:"0"`
		Deleted bool           `json:"deleted,omitempty" doc:"Into a bucket: a deletion"`
		Fail    map[string]int `json:"fail,omitempty" doc:"Runs that are made to fail, by node: so many, or all where it is -1"`
	}
}) (*struct{ Body study.FollowDocument }, error) {
	b := in.Body
	if len(b.Fail) > MaxForced {
		return nil, huma.Error422UnprocessableEntity("too many nodes to fail")
	}
	g, err := compile("model.yaml", b.Text)
	if err != nil {
		return nil, badFile(err)
	}
	t, err := sim.Follow(
		g,
		sim.FollowPlan{
			Node:    b.Node,
			Subject: b.Key,
			Type:    b.Type,
			Data:    b.Data,
			Size:    b.Size,
			Deleted: b.Deleted,
			Fail:    b.Fail,
		},
	)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return &struct{ Body study.FollowDocument }{
		study.Follow(document.NewHead("follow", g.Topology.Name, "", document.Digest(b.Text)), g, t),
	}, nil
}

func (v *Service) takes(_ context.Context, in *struct {
	Body struct {
		Text string `json:"text" doc:"The topology, as YAML"`
		Key  string `json:"key,omitempty" doc:"The event's subject"`
		Type string `json:"type,omitempty" doc:"Without one, what comes to each node by default"`
		Data any    `json:"data,omitempty"`
	}
}) (*struct{ Body Takes }, error) {
	g, err := compile("model.yaml", in.Body.Text)
	if err != nil {
		return nil, badFile(err)
	}
	out := Takes{Links: []Taking{}}
	for i := range g.Nodes {
		if len(g.Nodes[i].Out) == 0 || g.Nodes[i].Kind.Runs() {
			continue // what a run sends it sends whatever came
		}
		whys := g.Declined(
			i,
			expr.Event{Subject: in.Body.Key, Type: in.Body.Type, Data: in.Body.Data, Source: "outside"},
			"written",
		)
		for k, id := range g.Nodes[i].Out {
			out.Links = append(
				out.Links,
				Taking{Link: g.Links[id].Link.ID(), Takes: whys[k] == "", Why: whys[k]},
			)
		}
	}
	return &struct{ Body Takes }{out}, nil
}

// Takes says which links would take an event.
type Takes struct {
	Links []Taking `json:"links"`
}

// Taking is whether one link would take an event that comes to its node.
type Taking struct {
	Link  string `json:"link"`
	Takes bool   `json:"takes"`
	Why   string `json:"why,omitempty" doc:"why it would not"`
}
