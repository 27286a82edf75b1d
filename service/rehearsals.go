package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/jobs"
	"ironweir/rehearsal"
	"ironweir/service/admission"
	"ironweir/store"
)

// Bounds of the rehearsals of one service, which live in its memory.
const (
	mostRehearsals = 50
	idleTime       = 2 * time.Hour // after which one that nobody watches is ended
)

// Rehearsal is a live simulation that people share.
type Rehearsal struct {
	ID        string           `json:"id"`
	Workspace string           `json:"workspace"`
	Model     string           `json:"model"`
	Revision  int              `json:"revision"`
	Scenario  string           `json:"scenario" doc:"empty: the only traffic is what is posted and what schedules send"`
	Author    string           `json:"author"`
	StartedAt time.Time        `json:"started_at"`
	Hooks     []string         `json:"hooks" doc:"the functions that handlers on the service's machine answer for"`
	Entries   []RehearsalEntry `json:"entries" doc:"where events can be posted; those that outsiders feed first"`
	Endpoints []string         `json:"endpoints" doc:"method and path, below the rehearsal's /http"`
	State     *rehearsal.State `json:"state"`
}

// RehearsedModel is what is rehearsed.
type RehearsedModel struct {
	Checked
	Text string `json:"text"`
}

// RehearsalEntry is a node at which events can be posted.
type RehearsalEntry struct {
	Node string `json:"node"`
	Kind string `json:"kind"`
	Path string `json:"path"`
}

// kept is a rehearsal with what is known of it.
type kept struct {
	Rehearsal
	live  *rehearsal.Rehearsal
	space int64             // the workspace, which keeps its id whatever it is called
	text  string            // of the model
	once  store.Idempotency // under which it was asked for
}

// rehearsals are those of this process.
type rehearsals struct {
	mu   sync.Mutex
	byID map[string]*kept
}

func (r *rehearsals) add(k *kept) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.byID == nil {
		r.byID = map[string]*kept{}
	}
	for id, old := range r.byID {
		if old.live.Over() {
			delete(r.byID, id)
		}
	}
	if len(r.byID) >= mostRehearsals {
		return fmt.Errorf("%d rehearsals are going on; end one first", len(r.byID))
	}
	r.byID[k.ID] = k
	return nil
}

func (r *rehearsals) find(workspace *store.Workspace, id string) *kept {
	r.mu.Lock()
	defer r.mu.Unlock()
	if k := r.byID[id]; k != nil && k.space == workspace.ID {
		return k
	}
	return nil
}

// asked finds the rehearsal that somebody has asked for under a key; nil: none.
func (r *rehearsals) asked(workspace *store.Workspace, who, key string) *kept {
	for _, k := range r.list(workspace) {
		if key != "" && k.once.Key == key && k.Author == who && !k.live.Over() {
			return k
		}
	}
	return nil
}

func (r *rehearsals) list(workspace *store.Workspace) []*kept {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []*kept
	for _, k := range r.byID {
		if k.space == workspace.ID {
			out = append(out, k)
		}
	}
	slices.SortFunc(out, func(a, b *kept) int { return b.StartedAt.Compare(a.StartedAt) })
	return out
}

func (r *rehearsals) end(k *kept) {
	r.mu.Lock()
	defer r.mu.Unlock()
	k.live.End()
	delete(r.byID, k.ID)
}

// Close ends what goes on in the service's memory, and its processes.
func (v *Service) Close() {
	if v.pool != nil {
		v.pool.Close()
	}
	for _, k := range v.rehearsals.all() {
		v.rehearsals.end(k)
	}
}

func (r *rehearsals) all() []*kept {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []*kept
	for _, k := range r.byID {
		out = append(out, k)
	}
	return out
}

// RehearsalPath names a rehearsal in a path.
type RehearsalPath struct {
	WorkspacePath
	ID string `path:"id" maxLength:"40" doc:"the rehearsal"`
}

// RehearsalRequest is what a rehearsal is started with.
type RehearsalRequest struct {
	Revision int     `json:"revision,omitempty" minimum:"0" doc:"0 or absent: the latest"`
	Scenario string  `json:"scenario,omitempty" doc:"a scenario of the model; absent: the only traffic is what is posted and what schedules send"`
	Pace     float64 `json:"pace,omitempty" minimum:"0.001" maximum:"100000" doc:"simulated seconds per real second; absent: 1"`
	Paused   bool    `json:"paused,omitempty" doc:"time stands at the start"`
	Hooks    bool    `json:"hooks,omitempty" doc:"let functions be answered by their hooks, where the service allows it"`
}

type rehearsalAnswer struct {
	Location string `header:"Location"`
	Body     *Rehearsal
}

// rehearsal finds the rehearsal that a request is about.
func (v *Service) rehearsal(ctx context.Context, id string) (*kept, error) {
	if k := v.rehearsals.find(spaceOf(ctx), id); k != nil {
		return k, nil
	}
	return nil, huma.Error404NotFound(
		"there is no rehearsal " + id + ": a rehearsal ends with the service, or when it is unused",
	)
}

// rehearsed turns what a rehearsal says into an answer.
func rehearsed(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, rehearsal.ErrOver):
		return huma.Error404NotFound(err.Error())
	case errors.Is(err, rehearsal.ErrBusy):
		return huma.ErrorWithHeaders(huma.Error503ServiceUnavailable(err.Error()), http.Header{"Retry-After": {"1"}})
	}
	return huma.Error422UnprocessableEntity(err.Error())
}

func (v *Service) startRehearsal(
	ctx context.Context,
	name string,
	q RehearsalRequest,
	asked store.Idempotency,
) (*kept, error) {
	r, err := v.store.Revision(ctx, spaceOf(ctx), name, q.Revision)
	if err != nil {
		return nil, v.failure(err, "such revision of model "+name)
	}
	g, err := compile("model.yaml", r.Text)
	if err != nil {
		return nil, badFile(err)
	}
	if q.Hooks && !v.options.Hooks {
		return nil, huma.Error422UnprocessableEntity(
			"this service was started without -hooks, so no handlers are asked",
		)
	}
	settings, err := v.store.Settings(ctx)
	if err != nil {
		return nil, v.failure(err, "settings")
	}
	memory := min(jobs.LimitsOf(settings).Memory, v.rehearsalMemory)
	leave, err := v.budget.Enter(ctx, admission.Computation{
		Person: accessOf(ctx).User.Name,
		What:   "rehearsal",
		Memory: memory,
	})
	if err != nil {
		return nil, tooBusy(err)
	}
	started := false
	defer func() {
		if !started {
			leave()
		}
	}()
	plan := rehearsal.Plan{
		Memory: memory,
		Turns:  v.turns,
		Graph:  g,
		Pace:   q.Pace,
		Paused: q.Paused,
		Hooks:  q.Hooks,
		Log:    v.log,
		Idle:   idleTime,
		Head:   document.NewHead("run", name, "", document.Digest(r.Text)),
	}
	k := newKept(ctx, name, r, q.Scenario, asked)
	if q.Scenario != "" {
		if err := v.followScenario(ctx, &plan, name, q.Scenario); err != nil {
			return nil, err
		}
	}
	if q.Hooks {
		hooked, err := rehearsal.Hooked(g.Topology)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		k.Hooks = append(k.Hooks, hooked...)
	}
	k.describe(g)
	if k.live, err = rehearsal.Start(plan); err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	if err := v.rehearsals.add(k); err != nil {
		k.live.End()
		return nil, huma.Error409Conflict(err.Error())
	}
	started = true
	go func() { <-k.live.Done(); leave() }()
	return k, nil
}

// newKept describes a rehearsal of a revision of a model before it starts.
func newKept(ctx context.Context, name string, r *store.Revision, scenario string, asked store.Idempotency) *kept {
	return &kept{
		space: spaceOf(ctx).ID,
		text:  r.Text,
		once:  asked,
		Rehearsal: Rehearsal{
			ID:        strings.ToLower(rand.Text()),
			Workspace: spaceOf(ctx).Name,
			Model:     name,
			Revision:  r.Number,
			Scenario:  scenario,
			Author:    accessOf(ctx).User.Name,
			StartedAt: time.Now(),
			Hooks:     []string{},
			Entries:   []RehearsalEntry{},
			Endpoints: []string{},
		},
	}
}

// followScenario lets a rehearsal of a model follow one of its scenarios.
func (v *Service) followScenario(ctx context.Context, plan *rehearsal.Plan, name, scenario string) error {
	s, err := v.store.Text(ctx, store.Scenarios, spaceOf(ctx), name, scenario)
	if err != nil {
		return v.failure(err, "scenario "+scenario+" of model "+name)
	}
	plan.Text = []byte(s.Text)
	if plan.Scenario, err = model.ParseScenario(scenario+".yaml", plan.Text, plan.Graph.Topology); err != nil {
		return badFile(err)
	}
	return nil
}

func (k *kept) path() string { return "/api/v1/workspaces/" + k.Workspace + "/rehearsals/" + k.ID }

// describe says where events and requests can be posted.
func (k *kept) describe(g *graph.Graph) {
	base := k.path()
	fed, others := rehearsal.Entries(g)
	for _, n := range append(fed, others...) {
		k.Entries = append(k.Entries, RehearsalEntry{n.Name, string(n.Kind), base + "/entries/" + n.Name})
		if n.Kind.Answers() {
			method, path := rehearsal.EndpointAt(n)
			k.Endpoints = append(k.Endpoints, method+" "+path)
		}
	}
}

// asItStands gives a rehearsal with its state.
func (k *kept) asItStands() (*Rehearsal, error) {
	state, err := k.live.State()
	if err != nil {
		return nil, rehearsed(err)
	}
	out := k.Rehearsal
	out.State = state
	return &out, nil
}

func (v *Service) rehearsalRoutes() {
	const space = "/api/v1/workspaces/{workspace}"
	const one = space + "/rehearsals/{id}"
	register(v, store.Editor, huma.Operation{
		OperationID:   "start-rehearsal",
		Method:        http.MethodPost,
		Path:          space + "/models/{name}/rehearsals",
		Summary:       "Start a live simulation of a revision",
		DefaultStatus: 201,
		Errors:        []int{409, 429},
	}, v.postRehearsal)
	register(v, store.Viewer, huma.Operation{
		OperationID: "list-rehearsals",
		Method:      http.MethodGet,
		Path:        space + "/rehearsals",
		Summary:     "List the rehearsals that go on",
	}, v.listRehearsals)
	register(v, store.Viewer, huma.Operation{
		OperationID: "get-rehearsal",
		Method:      http.MethodGet,
		Path:        one,
		Summary:     "A rehearsal as it stands",
	}, v.getRehearsal)
	register(v, store.Editor, huma.Operation{
		OperationID:   "end-rehearsal",
		Method:        http.MethodDelete,
		Path:          one,
		Summary:       "End a rehearsal; what happened in it is gone, unless it was kept",
		DefaultStatus: 204,
	}, v.endRehearsal)
	register(v, store.Viewer, huma.Operation{
		OperationID: "get-rehearsed-model",
		Method:      http.MethodGet,
		Path:        one + "/model",
		Summary:     "What is rehearsed: the text, its findings and how it is drawn",
	}, v.getRehearsedModel)
	v.rehearsalActs(one)
	v.rehearsalViews(one)
	v.ingressRoutes(one)
}

func (v *Service) postRehearsal(ctx context.Context, in *struct {
	ModelPath
	Keyed
	Body RehearsalRequest
}) (*rehearsalAnswer, error) {
	asked := idempotency(in.Key, map[string]any{"model": in.Name, "asked": in.Body})
	k := v.rehearsals.asked(spaceOf(ctx), accessOf(ctx).User.Name, asked.Key)
	switch {
	case k != nil && k.once != asked:
		return nil, v.failure(store.ErrKeyReused, "rehearsal")
	case k == nil:
		var err error
		if k, err = v.startRehearsal(ctx, in.Name, in.Body, asked); err != nil {
			return nil, err
		}
	}
	out, err := k.asItStands()
	return &rehearsalAnswer{Location: k.path(), Body: out}, err
}

func (v *Service) listRehearsals(ctx context.Context, in *WorkspacePath) (*page[Rehearsal], error) {
	list := []Rehearsal{}
	for _, k := range v.rehearsals.list(spaceOf(ctx)) {
		if one, err := k.asItStands(); err == nil {
			list = append(list, *one)
		}
	}
	return paged(list, len(list), func(r Rehearsal) string { return r.ID }), nil
}

func (v *Service) getRehearsal(ctx context.Context, in *RehearsalPath) (*struct{ Body *Rehearsal }, error) {
	k, err := v.rehearsal(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	out, err := k.asItStands()
	return &struct{ Body *Rehearsal }{out}, err
}

func (v *Service) endRehearsal(ctx context.Context, in *RehearsalPath) (*struct{}, error) {
	k, err := v.rehearsal(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	v.rehearsals.end(k)
	return nil, nil
}

func (v *Service) getRehearsedModel(ctx context.Context, in *RehearsalPath) (*struct{ Body *RehearsedModel }, error) {
	k, err := v.rehearsal(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	c, err := checkText("model.yaml", k.text)
	if err != nil {
		return nil, badFile(err)
	}
	return &struct{ Body *RehearsedModel }{&RehearsedModel{*c, k.text}}, nil
}
