package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
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

// kept is a rehearsal with what is known of it. It goes on in a process of its own, or here
// where there are none.
type kept struct {
	Rehearsal
	process *rehearsalProcess    // nil: it goes on here
	live    *rehearsal.Rehearsal // nil: it goes on in its process
	space   int64                // the workspace, which keeps its id whatever it is called
	text    string               // of the model
	once    store.Idempotency    // under which it was asked for
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
		if old.over() {
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
		if key != "" && k.once.Key == key && k.Author == who {
			return k
		}
	}
	return nil
}

// list gives those of a workspace that go on, the newest first.
func (r *rehearsals) list(workspace *store.Workspace) []*kept {
	out := slices.DeleteFunc(r.all(), func(k *kept) bool { return k.space != workspace.ID })
	slices.SortFunc(out, func(a, b *kept) int { return b.StartedAt.Compare(a.StartedAt) })
	return out
}

// all gives those that go on.
func (r *rehearsals) all() []*kept {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []*kept
	for _, k := range r.byID {
		if !k.over() {
			out = append(out, k)
		}
	}
	return out
}

func (r *rehearsals) end(ctx context.Context, k *kept) {
	r.forget(k)
	if k.process != nil {
		k.process.end(ctx, k)
	} else {
		k.live.End()
	}
}

func (r *rehearsals) forget(k *kept) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.byID, k.ID)
}

// Close ends what goes on in the service's memory, and its processes.
func (v *Service) Close() {
	if v.pool != nil {
		v.pool.Close()
	}
	for _, k := range v.rehearsals.all() {
		if k.process != nil {
			k.process.Kill()
		} else {
			k.live.End()
		}
		v.rehearsals.forget(k)
	}
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
	if q.Hooks && !v.options.Hooks {
		return nil, huma.Error422UnprocessableEntity(
			"this service was started without -hooks, so no handlers are asked",
		)
	}
	settings, err := v.store.Settings(ctx)
	if err != nil {
		return nil, v.failure(err, "settings")
	}
	b := &beginning{Text: r.Text, Asked: q, Memory: min(jobs.LimitsOf(settings).Memory, v.rehearsalMemory)}
	if q.Scenario != "" {
		s, err := v.store.Text(ctx, store.Scenarios, spaceOf(ctx), name, q.Scenario)
		if err != nil {
			return nil, v.failure(err, "scenario "+q.Scenario+" of model "+name)
		}
		b.Scenario = s.Text
	}
	b.Rehearsal = newRehearsal(ctx, name, r, q.Scenario)
	leave, err := v.budget.Enter(ctx, admission.Computation{
		Person: accessOf(ctx).User.Name,
		What:   "rehearsal",
		Memory: b.Memory,
	})
	if err != nil {
		return nil, tooBusy(err)
	}
	k, err := v.begin(ctx, b)
	if err != nil {
		leave()
		return nil, err
	}
	k.space, k.once = spaceOf(ctx).ID, asked
	if err := v.rehearsals.add(k); err != nil {
		v.rehearsals.end(ctx, k)
		leave()
		return nil, huma.Error409Conflict(err.Error())
	}
	go func() {
		<-k.done()
		v.ended(k)
		leave()
	}()
	return k, nil
}

// begin starts a rehearsal in a process of its own, or here where there are none.
func (v *Service) begin(ctx context.Context, b *beginning) (*kept, error) {
	if v.pool == nil {
		return beginHere(b, v.turns, v.log)
	}
	return beginElsewhere(ctx, v.options.Program, b)
}

// ended notes that a rehearsal goes on no longer. One that has failed is still known, so that
// who asks for it learns why.
func (v *Service) ended(k *kept) {
	if err := k.failure(); err != nil {
		v.log.Error("a rehearsal's process has ended", "rehearsal", k.ID, "model", k.Model, "error", err)
		return
	}
	v.rehearsals.forget(k)
}

// newRehearsal describes a rehearsal of a revision of a model before it starts.
func newRehearsal(ctx context.Context, name string, r *store.Revision, scenario string) Rehearsal {
	return Rehearsal{
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
	}
}

// beginning is what a rehearsal starts from.
type beginning struct {
	Rehearsal Rehearsal // what is known of it
	Text      string    // of the model
	Scenario  string    // its text; empty: none
	Asked     RehearsalRequest
	Memory    int64 // bytes that messages and runs may take
}

// beginHere starts a rehearsal in this process; the error is an answer.
func beginHere(b *beginning, turns rehearsal.Turns, log *slog.Logger) (*kept, error) {
	g, err := compile("model.yaml", b.Text)
	if err != nil {
		return nil, badFile(err)
	}
	plan := rehearsal.Plan{
		Memory: b.Memory,
		Turns:  turns,
		Graph:  g,
		Pace:   b.Asked.Pace,
		Paused: b.Asked.Paused,
		Hooks:  b.Asked.Hooks,
		Log:    log,
		Idle:   idleTime,
		Head:   document.NewHead("run", b.Rehearsal.Model, "", document.Digest(b.Text)),
	}
	if b.Scenario != "" {
		plan.Text = []byte(b.Scenario)
		plan.Scenario, err = model.ParseScenario(b.Rehearsal.Scenario+".yaml", plan.Text, g.Topology)
		if err != nil {
			return nil, badFile(err)
		}
	}
	k := &kept{Rehearsal: b.Rehearsal, text: b.Text}
	if b.Asked.Hooks {
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
	return k, nil
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

// done is closed when the rehearsal has ended.
func (k *kept) done() <-chan struct{} {
	if k.process != nil {
		return k.process.Done()
	}
	return k.live.Done()
}

func (k *kept) over() bool {
	select {
	case <-k.done():
		return true
	default:
		return false
	}
}

// failure says why the rehearsal has ended by itself, if it was a fault.
func (k *kept) failure() error {
	if k.process != nil {
		return k.process.Failure()
	}
	return nil
}

// asItStands gives a rehearsal with its state.
func (k *kept) asItStands(ctx context.Context) (*Rehearsal, error) {
	out := k.Rehearsal
	if k.process != nil {
		if err := k.process.ask(ctx, k, http.MethodGet, "", &out); err != nil {
			return nil, err
		}
		return &out, nil
	}
	state, err := k.live.State()
	if err != nil {
		return nil, rehearsed(err)
	}
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
	onRehearsal(v, answeredThere, store.Viewer, huma.Operation{
		OperationID: "get-rehearsal",
		Method:      http.MethodGet,
		Path:        one,
		Summary:     "A rehearsal as it stands",
	}, v.getRehearsal)
	onRehearsal(v, askedThere, store.Editor, huma.Operation{
		OperationID:   "end-rehearsal",
		Method:        http.MethodDelete,
		Path:          one,
		Summary:       "End a rehearsal; what happened in it is gone, unless it was kept",
		DefaultStatus: 204,
	}, v.endRehearsal)
	onRehearsal(v, answeredThere, store.Viewer, huma.Operation{
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
	out, err := k.asItStands(ctx)
	return &rehearsalAnswer{Location: k.path(), Body: out}, err
}

func (v *Service) listRehearsals(ctx context.Context, in *WorkspacePath) (*page[Rehearsal], error) {
	all := v.rehearsals.list(spaceOf(ctx))
	states := make([]*Rehearsal, len(all))
	var asked sync.WaitGroup
	for i, k := range all { // each waits for its own
		asked.Go(func() { states[i], _ = k.asItStands(ctx) })
	}
	asked.Wait()
	list := []Rehearsal{}
	for _, r := range states {
		if r != nil { // else it has ended meanwhile
			list = append(list, *r)
		}
	}
	return paged(list, len(list), func(r Rehearsal) string { return r.ID }), nil
}

func (v *Service) getRehearsal(ctx context.Context, in *RehearsalPath) (*struct{ Body *Rehearsal }, error) {
	k, err := v.rehearsal(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	out, err := k.asItStands(ctx)
	return &struct{ Body *Rehearsal }{out}, err
}

func (v *Service) endRehearsal(ctx context.Context, in *RehearsalPath) (*struct{}, error) {
	k, err := v.rehearsal(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	v.rehearsals.end(ctx, k)
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
