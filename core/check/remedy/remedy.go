// Package remedy holds changes to a model that make a finding go away.
package remedy

import (
	"encoding/json"

	"ironweir/core/graph"
	"ironweir/core/model"
)

// Remedy is a change that makes a finding go away: a JSON Merge Patch
// (RFC 7396) over the model.
type Remedy struct {
	Say   string         `json:"say"`
	Patch map[string]any `json:"patch"`
}

// Document returns the patch of the remedy as a document.
func (r *Remedy) Document() (*model.Value, error) {
	text, err := json.Marshal(r.Patch)
	if err != nil {
		return nil, err
	}
	return model.ReadDocument("remedy", text)
}

// Apply compiles a copy of a model with the remedy applied.
func (r *Remedy) Apply(g *graph.Graph) (*graph.Graph, error) {
	patch, err := r.Document()
	if err != nil {
		return nil, err
	}
	t, err := g.Topology.Patched(patch)
	if err != nil {
		return nil, err
	}
	return graph.Compile(t)
}

// Node is a remedy that sets fields of a node.
func Node(say, node string, fields map[string]any) Remedy {
	return Remedy{Say: say, Patch: map[string]any{"nodes": map[string]any{node: fields}}}
}

// Link is a remedy that sets fields of a link.
func Link(say string, l *graph.Link, fields map[string]any) Remedy {
	return Node(say, l.Link.From, map[string]any{"links": map[string]any{l.Link.Name: fields}})
}
