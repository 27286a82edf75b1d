package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/formats/picture"
	"ironweir/store"
)

// Board is what the console draws of a topology.
type Board struct {
	Nodes []BoardNode `json:"nodes"`
	Links []BoardLink `json:"links"`
}

// BoardNode is a node as drawn.
type BoardNode struct {
	Name  string            `json:"name"`
	Kind  string            `json:"kind"`
	Role  string            `json:"role" enum:"holds,moves,works,starts,ends"`
	Says  string            `json:"says" doc:"what matters most about it beside its kind, in a few words"`
	About string            `json:"about"`
	Owner string            `json:"owner"`
	Tags  map[string]string `json:"tags"`
	Line  int               `json:"line"`

	Capacity int           `json:"capacity,omitempty" doc:"messages that it holds at most; absent: without limit"`
	State    picture.State `json:"state,omitempty" enum:"loops,loses,full" doc:"what is found of it; absent: none of these"`
}

// BoardLink is a link, or the way to a dead-letter, as drawn.
type BoardLink struct {
	ID     string `json:"id"`
	From   string `json:"from"`
	To     string `json:"to"`
	Stroke string `json:"stroke" enum:"delivery,send,call,success,failure,dead-letter"`
	Label  string `json:"label"`
	Reach  string `json:"reach"`
	Line   int    `json:"line"`
	Loops  bool   `json:"loops,omitempty" doc:"messages circulate along it"`
}

// Checked is a topology that could be read, with what is known of it.
type Checked struct {
	Check    *check.Document `json:"check"`
	Board    Board           `json:"board"`
	Document map[string]any  `json:"document" doc:"the topology's text as data, as written"`
}

func compile(name, text string) (*graph.Graph, error) {
	_, g, err := read(name, text)
	return g, err
}

// read gives a topology's text as written, and compiled.
func read(name, text string) (*model.Value, *graph.Graph, error) {
	written, err := model.ReadDocument(name, []byte(text))
	if err != nil {
		return nil, nil, err
	}
	t, err := model.FromDocument(name, written, model.Options{})
	if err != nil {
		return nil, nil, err
	}
	if t.Name == "" {
		t.Name = strings.TrimSuffix(name, ".yaml")
	}
	g, err := graph.Compile(t)
	return written, g, err
}

// checkText reads and checks a topology.
func checkText(name, text string) (*Checked, error) {
	written, g, err := read(name, text)
	if err != nil {
		return nil, err
	}
	doc := check.Run(g, nil, document.NewHead("check", g.Topology.Name, "", document.Digest(text)), time.Now())
	plain, _ := written.Plain().(map[string]any)
	out := &Checked{Check: doc, Document: plain, Board: Board{Nodes: []BoardNode{}, Links: []BoardLink{}}}
	states, looping := picture.States(doc.Findings)
	for i := range g.Nodes {
		n := &g.Nodes[i]
		drawn := BoardNode{
			Name:  n.Name,
			Kind:  string(n.Kind),
			Role:  string(n.Kind.Role()),
			Says:  picture.Detail(n.Node),
			About: n.About,
			Owner: n.Owner,
			Tags:  map[string]string{},
			Line:  n.Pos.Line,

			Capacity: n.Capacity,
			State:    states[n.Name],
		}
		maps.Copy(drawn.Tags, n.Tags)
		out.Board.Nodes = append(out.Board.Nodes, drawn)
	}
	for i := range g.Links {
		l := &g.Links[i]
		id := l.Link.ID()
		out.Board.Links = append(
			out.Board.Links,
			BoardLink{
				ID:     id,
				From:   l.Link.From,
				To:     l.Link.To,
				Stroke: picture.Stroke(l),
				Label:  picture.Label(l),
				Reach:  doc.Links[id].Reach,
				Line:   l.Pos.Line,
				Loops:  looping[id],
			},
		)
	}
	for _, e := range g.Edges(false) {
		if e.Dead {
			from, to := g.Nodes[e.From].Name, g.Nodes[e.To].Name
			out.Board.Links = append(
				out.Board.Links,
				BoardLink{ID: from + "→" + to, From: from, To: to, Stroke: "dead-letter", Reach: "possible"},
			)
		}
	}
	return out, nil
}

type textBody struct {
	Text string `json:"text" doc:"YAML"`
}

type revisionAnswer struct {
	ETag     string `header:"ETag"`
	Location string `header:"Location"`
	Body     *store.Revision
}

func answerRevision(ctx context.Context, name string, r *store.Revision) *revisionAnswer {
	return &revisionAnswer{
		ETag:     etag(r.Number),
		Location: fmt.Sprintf("/api/v1/workspaces/%s/models/%s/revisions/%d", spaceOf(ctx).Name, name, r.Number),
		Body:     r,
	}
}

func etag(number int) string { return `"` + strconv.Itoa(number) + `"` }

// revisionOf checks a text and makes the revision that keeps it.
func (v *Service) revisionOf(ctx context.Context, name, text, note string) (*store.Revision, error) {
	found, err := checkProcedure.ask(ctx, v, &textNamed{name + ".yaml", text})
	if err != nil {
		return nil, err
	}
	return found.revision(text, note, accessOf(ctx).User.Name), nil
}

// revision makes the revision that keeps a checked text.
func (c *checked) revision(text, note, author string) *store.Revision {
	s := c.Check.Summary
	return &store.Revision{
		Text:      text,
		Note:      note,
		Author:    author,
		Errors:    s.Errors,
		Warnings:  s.Warnings,
		Notes:     s.Notes,
		Findings:  c.Check.Findings,
		Sketch:    c.sketch(),
		CreatedAt: time.Now(),
	}
}

// sketch draws a small picture of a checked text; nil: it cannot be drawn.
func (c *checked) sketch() json.RawMessage {
	nodes := make([]picture.Sketched, len(c.Board.Nodes))
	for i, n := range c.Board.Nodes {
		nodes[i] = picture.Sketched{Name: n.Name, Role: n.Role, State: n.State}
	}
	links := make([][2]string, len(c.Board.Links))
	for i, l := range c.Board.Links {
		links[i] = [2]string{l.From, l.To}
	}
	text, err := json.Marshal(picture.NewSketch(nodes, links))
	if err != nil {
		return nil
	}
	return text
}

// Listed is a model in a list.
type Listed struct {
	store.Listed
	Sketch *picture.Sketch `json:"sketch" doc:"a small picture of the latest revision; null: it was saved before there were any"`
}

// ModelPath names a model in a path.
type ModelPath struct {
	WorkspacePath
	Name string `path:"name" pattern:"^[a-z][a-z0-9-]{0,62}$" doc:"the model's name"`
}

type findingList struct {
	Body struct {
		Findings []check.Finding `json:"findings"`
	}
}

func (v *Service) modelRoutes() {
	v.draftRoutes()
	v.placeRoutes()
	register(v, store.Viewer, huma.Operation{
		OperationID: "list-models",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/models",
		Summary:     "List models by name",
	}, v.listModels)

	register(v, store.Editor, huma.Operation{
		OperationID:   "create-model",
		Metadata:      checks,
		Method:        http.MethodPost,
		Path:          "/api/v1/workspaces/{workspace}/models",
		Summary:       "Make a model",
		DefaultStatus: 201,
		MaxBodyBytes:  MaxBody,
		Errors:        []int{409, 429},
	}, v.createModel)

	register(v, store.Viewer, huma.Operation{
		OperationID: "get-model",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/models/{name}",
		Summary:     "The latest revision of a model",
	}, v.getModel)

	register(v, store.Viewer, huma.Operation{
		OperationID: "view-model",
		Method:      http.MethodPost,
		Path:        "/api/v1/workspaces/{workspace}/models/{name}/viewing",
		Summary:     "Report that you view a model, for 15 seconds; the answer names its latest revision and its other viewers",
	}, v.viewModel)

	register(v, store.Editor, huma.Operation{
		OperationID:   "delete-model",
		Method:        http.MethodDelete,
		Path:          "/api/v1/workspaces/{workspace}/models/{name}",
		Summary:       "Remove a model with its revisions, scenarios and runs",
		DefaultStatus: 204,
	}, v.deleteModel)

	register(v, store.Viewer, huma.Operation{
		OperationID: "list-revisions",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/models/{name}/revisions",
		Summary:     "List a model's revisions, latest first, without their text",
	}, v.listRevisions)

	register(v, store.Viewer, huma.Operation{
		OperationID: "get-revision",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/models/{name}/revisions/{number}",
		Summary:     "One revision of a model",
	}, v.getRevision)

	register(v, store.Viewer, huma.Operation{
		OperationID: "get-findings",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/models/{name}/revisions/{number}/findings",
		Summary:     "What was found in a revision when it was saved",
	}, v.getFindings)

	register(v, store.Editor, huma.Operation{
		OperationID:   "save-revision",
		Metadata:      checks,
		Method:        http.MethodPost,
		Path:          "/api/v1/workspaces/{workspace}/models/{name}/revisions",
		Summary:       "Save a revision on top of the one that If-Match names",
		DefaultStatus: 201,
		MaxBodyBytes:  MaxBody,
		Errors:        []int{412, 428, 429},
	}, v.saveRevision)
}

// draftRoutes registers what is asked of a text that is not saved.
func (v *Service) draftRoutes() {
	register(v, store.Viewer, huma.Operation{
		OperationID:  "check",
		Metadata:     computes,
		Method:       http.MethodPost,
		Path:         "/api/v1/check",
		Summary:      "Check a topology's text, and give what is drawn of it",
		MaxBodyBytes: MaxBody,
	}, v.check)

	register(v, store.Viewer, huma.Operation{
		OperationID:  "apply-patch",
		Metadata:     computes,
		Method:       http.MethodPost,
		Path:         "/api/v1/apply",
		Summary:      "Write a JSON Merge Patch, such as a remedy, into a topology's text, comments and layout kept",
		MaxBodyBytes: MaxBody,
	}, v.applyPatch)
}

func (v *Service) check(ctx context.Context, in *struct {
	Body struct {
		Text string `json:"text" doc:"The topology, as YAML"`
		Name string `json:"name,omitempty" maxLength:"255" doc:"the file's name, for messages; absent: model.yaml"`
	}
}) (*struct{ Body *Checked }, error) {
	found, err := checkText(cmp.Or(in.Body.Name, "model.yaml"), in.Body.Text)
	if err != nil {
		return nil, badFile(err)
	}
	return &struct{ Body *Checked }{found}, nil
}

func (v *Service) applyPatch(ctx context.Context, in *struct {
	Body struct {
		Text  string         `json:"text" doc:"The topology, as YAML"`
		Patch map[string]any `json:"patch" doc:"What to change: null deletes"`
	}
}) (*textAnswer, error) {
	source, err := json.Marshal(in.Body.Patch)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("the patch cannot be read")
	}
	patch, err := model.ReadDocument("patch", source)
	if err != nil {
		return nil, badFile(err)
	}
	return edited(in.Body.Text, patch)
}

func (v *Service) listModels(ctx context.Context, in *struct {
	WorkspacePath
	Search string `query:"search" maxLength:"200" doc:"only those whose name or text holds this"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"200" default:"100"`
}) (*page[Listed], error) {
	models, err := v.store.Models(ctx, spaceOf(ctx), in.Search, in.Cursor, in.Limit+1)
	if err != nil {
		return nil, v.failure(err, "model")
	}
	list := make([]Listed, len(models))
	for i, m := range models {
		list[i].Listed = m
		if m.Sketch != nil {
			if err := json.Unmarshal(m.Sketch, &list[i].Sketch); err != nil {
				return nil, err
			}
		}
	}
	return paged(list, in.Limit, func(m Listed) string { return m.Name }), nil
}

func (v *Service) createModel(ctx context.Context, in *struct {
	WorkspacePath
	Keyed
	Body struct {
		Name string `json:"name" pattern:"^[a-z][a-z0-9-]{0,62}$"`
		Text string `json:"text" doc:"the topology, YAML"`
		Note string `json:"note,omitempty" maxLength:"1000"`
	}
}) (*revisionAnswer, error) {
	r, err := v.revisionOf(ctx, in.Body.Name, in.Body.Text, in.Body.Note)
	if err != nil {
		return nil, badFile(err)
	}
	if err := v.store.CreateModel(ctx, spaceOf(ctx), in.Body.Name, r, idempotency(in.Key,
		in.Body)); err != nil {
		return nil, v.failure(err, "model "+in.Body.Name)
	}
	return answerRevision(ctx, in.Body.Name, r), nil
}

func (v *Service) getModel(ctx context.Context, in *ModelPath) (*revisionAnswer, error) {
	r, err := v.store.Revision(ctx, spaceOf(ctx), in.Name, 0)
	if err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	return answerRevision(ctx, in.Name, r), nil
}

func (v *Service) viewModel(ctx context.Context, in *ModelPath) (*struct{ Body *store.Viewing }, error) {
	stands, err := v.store.View(ctx, spaceOf(ctx), in.Name, accessOf(ctx).User.ID)
	if err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	return &struct{ Body *store.Viewing }{stands}, nil
}

func (v *Service) deleteModel(ctx context.Context, in *ModelPath) (*struct{}, error) {
	if err := v.store.DeleteModel(ctx, spaceOf(ctx), in.Name); err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	return nil, nil
}

func (v *Service) listRevisions(ctx context.Context, in *struct {
	ModelPath
	Cursor int `query:"cursor" minimum:"0"`
	Limit  int `query:"limit" minimum:"1" maximum:"200" default:"50"`
}) (*page[store.Revision], error) {
	before := in.Cursor
	if before == 0 {
		before = math.MaxInt32
	}
	list, err := v.store.Revisions(ctx, spaceOf(ctx), in.Name, before, in.Limit+1)
	if err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	return paged(list, in.Limit, func(r store.Revision) string { return strconv.Itoa(r.Number) }), nil
}

func (v *Service) getRevision(ctx context.Context, in *struct {
	ModelPath
	Number int `path:"number" minimum:"1"`
}) (*revisionAnswer, error) {
	r, err := v.store.Revision(ctx, spaceOf(ctx), in.Name, in.Number)
	if err != nil {
		return nil, v.failure(err, fmt.Sprintf("revision %d of model %s", in.Number, in.Name))
	}
	return answerRevision(ctx, in.Name, r), nil
}

func (v *Service) getFindings(ctx context.Context, in *struct {
	ModelPath
	Number int `path:"number" minimum:"1"`
}) (*findingList, error) {
	r, err := v.store.Revision(ctx, spaceOf(ctx), in.Name, in.Number)
	if err != nil {
		return nil, v.failure(err, fmt.Sprintf("revision %d of model %s", in.Number, in.Name))
	}
	out := &findingList{}
	if err := json.Unmarshal(r.Findings, &out.Body.Findings); err != nil {
		return nil, v.failure(err, "findings")
	}
	return out, nil
}

func (v *Service) saveRevision(ctx context.Context, in *struct {
	ModelPath
	Keyed
	IfMatch string `header:"If-Match" doc:"the ETag of the revision that was edited"`
	Body    struct {
		Text string `json:"text"`
		Note string `json:"note,omitempty" maxLength:"1000"`
	}
}) (*revisionAnswer, error) {
	onTop, err := strconv.Atoi(strings.Trim(in.IfMatch, `"`))
	if err != nil {
		return nil, huma.NewError(
			http.StatusPreconditionRequired,
			"say with If-Match which revision was edited",
		)
	}
	r, err := v.revisionOf(ctx, in.Name, in.Body.Text, in.Body.Note)
	if err != nil {
		return nil, badFile(err)
	}
	if err := v.store.SaveRevision(ctx, spaceOf(ctx), in.Name, onTop, r, idempotency(in.Key,
		in.Body)); err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	return answerRevision(ctx, in.Name, r), nil
}
