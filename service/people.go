package service

import (
	"context"
	"math"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/observation"
	"ironweir/store"
)

// linkLife is how long a one-time link can be used.
const linkLife = 24 * time.Hour

// UserPath names a person in a path.
type UserPath struct {
	Name string `path:"user" pattern:"^[A-Za-z0-9][A-Za-z0-9._@-]{0,62}$" doc:"the person's name"`
}

// MemberPath names a member of a workspace in a path.
type MemberPath struct {
	WorkspacePath
	UserPath
}

// AuditQuery asks for a page of the audit trail.
type AuditQuery struct {
	Cursor  int64  `query:"cursor" minimum:"0"`
	Limit   int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
	Token   int64  `query:"token" minimum:"0" doc:"only what was done with the token of this id"`
	Who     string `query:"who" maxLength:"63" doc:"only what this person did"`
	Action  string `query:"action" maxLength:"63" doc:"only this"`
	Refused bool   `query:"refused" doc:"only what was refused"`
}

// page is one page of a list.
type page[T any] struct {
	Body struct {
		Items []T    `json:"items"`
		Next  string `json:"next,omitempty" doc:"the cursor of the next page"`
	}
}

// paged cuts a list that was read one too long.
func paged[T any](list []T, limit int, cursor func(T) string) *page[T] {
	out := &page[T]{}
	if len(list) > limit {
		list = list[:limit]
		out.Body.Next = cursor(list[limit-1])
	}
	out.Body.Items = list
	return out
}

type linkAnswer struct {
	Body struct {
		Secret  string    `json:"secret" doc:"the part of the link after #"`
		Path    string    `json:"path" doc:"the link, without the service's address"`
		Expires time.Time `json:"expires_at"`
	}
}

// peopleRoutes are for who administers the service.
func (v *Service) peopleRoutes() {
	register(v, service, huma.Operation{
		OperationID: "list-users",
		Method:      http.MethodGet,
		Path:        "/api/v1/users",
		Summary:     "List users by name",
	}, v.listUsers)
	register(v, service, huma.Operation{
		OperationID:   "create-user",
		Method:        http.MethodPost,
		Path:          "/api/v1/users",
		Summary:       "Make a person, who then needs a sign-in link and a role in a workspace",
		DefaultStatus: 201,
		Errors:        []int{409},
	}, v.createUser)
	register(v, service, huma.Operation{
		OperationID: "change-user",
		Method:      http.MethodPatch,
		Path:        "/api/v1/users/{user}",
		Summary:     "Grant or withdraw administration of the service",
		Errors:      []int{409},
	}, v.changeUser)
	register(v, service, huma.Operation{
		OperationID:   "delete-user",
		Method:        http.MethodDelete,
		Path:          "/api/v1/users/{user}",
		Summary:       "Remove a person with their sessions and tokens; what they made stays",
		DefaultStatus: 204,
		Errors:        []int{409},
	}, v.deleteUser)
	register(v, service, huma.Operation{
		OperationID:   "make-sign-in-link",
		Method:        http.MethodPost,
		Path:          "/api/v1/users/{user}/sign-in-link",
		Summary:       "Make a link that signs a person in once, within a day",
		DefaultStatus: 201,
	}, v.makeSignInLink)
	register(v, service, huma.Operation{
		OperationID: "get-settings",
		Method:      http.MethodGet,
		Path:        "/api/v1/settings",
		Summary:     "The limits of runs, and how long records are kept",
	}, v.getSettings)
	register(v, service, huma.Operation{
		OperationID:   "set-settings",
		Method:        http.MethodPut,
		Path:          "/api/v1/settings",
		Summary:       "Choose the limits of runs, and how long records are kept",
		DefaultStatus: 204,
	}, v.setSettings)
	register(v, service, huma.Operation{
		OperationID: "list-workers",
		Method:      http.MethodGet,
		Path:        "/api/v1/workers",
		Summary:     "The processes that work on runs",
	}, v.listWorkers)
	register(v, service, huma.Operation{
		OperationID: "list-audit",
		Method:      http.MethodGet,
		Path:        "/api/v1/audit",
		Summary:     "Who changed what, latest first",
	}, v.listAudit)
	register(v, service, huma.Operation{
		OperationID: "verify-audit",
		Method:      http.MethodGet,
		Path:        "/api/v1/audit/chain",
		Summary:     "Whether the audit trail is as it was written: all hashes are worked out again",
	}, v.verifyAudit)
	register(v, store.Admin, huma.Operation{
		OperationID: "list-workspace-audit",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/audit",
		Summary:     "Who changed what in a workspace, latest first",
	}, v.listWorkspaceAudit)
}

func (v *Service) listUsers(ctx context.Context, in *struct {
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"200"`
}) (*page[store.User], error) {
	list, err := v.store.Users(ctx, in.Cursor, in.Limit+1)
	if err != nil {
		return nil, v.failure(err, "person")
	}
	return paged(list, in.Limit, func(u store.User) string { return u.Name }), nil
}

func (v *Service) createUser(ctx context.Context, in *struct {
	Keyed
	Body struct {
		Name  string `json:"name" pattern:"^[A-Za-z0-9][A-Za-z0-9._@-]{0,62}$"`
		Admin bool   `json:"admin,omitempty" doc:"administers the service"`
	}
}) (*userBody, error) {
	u, err := v.store.CreateUser(ctx, in.Body.Name, in.Body.Admin, idempotency(in.Key, in.Body))
	if err != nil {
		return nil, v.failure(err, "person "+in.Body.Name)
	}
	return &userBody{u}, nil
}

func (v *Service) changeUser(ctx context.Context, in *struct {
	UserPath
	Body struct {
		Admin bool `json:"admin"`
	}
}) (*userBody, error) {
	u, err := v.store.ChangeUser(ctx, in.Name, in.Body.Admin)
	if err != nil {
		return nil, v.failure(err, "person "+in.Name)
	}
	return &userBody{u}, nil
}

func (v *Service) deleteUser(ctx context.Context, in *UserPath) (*struct{}, error) {
	if err := v.store.DeleteUser(ctx, in.Name); err != nil {
		return nil, v.failure(err, "person "+in.Name)
	}
	return nil, nil
}

func (v *Service) makeSignInLink(ctx context.Context, in *UserPath) (*linkAnswer, error) {
	secret, err := v.store.SignInLink(ctx, in.Name, linkLife)
	if err != nil {
		return nil, v.failure(err, "person "+in.Name)
	}
	out := &linkAnswer{}
	out.Body.Secret, out.Body.Path, out.Body.Expires = secret, "/sign-in#"+secret, time.Now().Add(linkLife)
	return out, nil
}

func (v *Service) getSettings(ctx context.Context, _ *struct{}) (*struct{ Body store.Settings }, error) {
	s, err := v.store.Settings(ctx)
	if err != nil {
		return nil, v.failure(err, "settings")
	}
	return &struct{ Body store.Settings }{s}, nil
}

func (v *Service) setSettings(ctx context.Context, in *struct{ Body store.Settings }) (*struct{}, error) {
	for _, address := range in.Body.Webhooks {
		if err := observation.CheckAddress(address); err != nil {
			return nil, huma.Error422UnprocessableEntity("webhooks: " + err.Error())
		}
	}
	if err := v.store.SetSettings(ctx, in.Body); err != nil {
		return nil, v.failure(err, "settings")
	}
	return nil, nil
}

func (v *Service) listWorkers(ctx context.Context, _ *struct{}) (*page[store.Worker], error) {
	list, err := v.store.Workers(ctx)
	if err != nil {
		return nil, v.failure(err, "worker")
	}
	return paged(list, math.MaxInt, func(store.Worker) string { return "" }), nil
}

func (v *Service) listAudit(ctx context.Context, in *AuditQuery) (*page[store.AuditEntry], error) {
	return v.audited(ctx, 0, *in)
}

func (v *Service) verifyAudit(ctx context.Context, _ *struct{}) (*struct{ Body *store.AuditChain }, error) {
	chain, err := v.store.AuditChain(ctx)
	if err != nil {
		return nil, v.failure(err, "audit trail")
	}
	return &struct{ Body *store.AuditChain }{chain}, nil
}

func (v *Service) listWorkspaceAudit(ctx context.Context, in *struct {
	WorkspacePath
	AuditQuery
}) (*page[store.AuditEntry], error) {
	return v.audited(ctx, spaceOf(ctx).ID, in.AuditQuery)
}

// audited lists the audit trail of a workspace, or of all: 0.
func (v *Service) audited(ctx context.Context, workspace int64, q AuditQuery) (*page[store.AuditEntry], error) {
	filter := store.AuditFilter{
		Workspace: workspace, Token: q.Token, Who: q.Who, Action: q.Action, Refused: q.Refused, Before: q.Cursor,
	}
	if filter.Before == 0 {
		filter.Before = math.MaxInt64
	}
	list, err := v.store.Audit(ctx, filter, q.Limit+1)
	if err != nil {
		return nil, v.failure(err, "audit trail")
	}
	return paged(list, q.Limit, func(a store.AuditEntry) string { return strconv.FormatInt(a.ID, 10) }), nil
}

type workspaceAnswer struct{ Body *store.Workspace }

// workspaceRoutes are for workspaces and who may do what there.
func (v *Service) workspaceRoutes() {
	register(v, store.Viewer, huma.Operation{
		OperationID: "list-workspaces",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces",
		Summary:     "The workspaces that you are a member of, with your role",
	}, v.listWorkspaces)
	register(v, service, huma.Operation{
		OperationID:   "create-workspace",
		Method:        http.MethodPost,
		Path:          "/api/v1/workspaces",
		Summary:       "Make a workspace",
		DefaultStatus: 201,
		Errors:        []int{409},
	}, v.createWorkspace)
	register(v, service, huma.Operation{
		OperationID:   "delete-workspace",
		Method:        http.MethodDelete,
		Path:          "/api/v1/workspaces/{workspace}",
		Summary:       "Remove a workspace with all that it holds",
		DefaultStatus: 204,
	}, v.deleteWorkspace)
	register(v, store.Viewer, huma.Operation{
		OperationID: "list-members",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/members",
		Summary:     "Who may do what in a workspace; administrators of the service may do everything",
	}, v.listMembers)
	register(v, store.Admin, huma.Operation{
		OperationID:   "set-member",
		Method:        http.MethodPut,
		Path:          "/api/v1/workspaces/{workspace}/members/{user}",
		Summary:       "Give a user a role in a workspace",
		DefaultStatus: 204,
	}, v.setMember)
	register(v, store.Admin, huma.Operation{
		OperationID:   "remove-member",
		Method:        http.MethodDelete,
		Path:          "/api/v1/workspaces/{workspace}/members/{user}",
		Summary:       "Remove a user from a workspace",
		DefaultStatus: 204,
	}, v.removeMember)
}

func (v *Service) listWorkspaces(ctx context.Context, _ *struct{}) (*page[store.Workspace], error) {
	list, err := v.store.Workspaces(ctx, accessOf(ctx))
	if err != nil {
		return nil, v.failure(err, "workspace")
	}
	return paged(list, math.MaxInt, func(w store.Workspace) string { return w.Name }), nil
}

func (v *Service) createWorkspace(ctx context.Context, in *struct {
	Keyed
	Body struct {
		Name string `json:"name" pattern:"^[a-z][a-z0-9-]{0,62}$"`
	}
}) (*workspaceAnswer, error) {
	w, err := v.store.CreateWorkspace(ctx, in.Body.Name, idempotency(in.Key, in.Body))
	if err != nil {
		return nil, v.failure(err, "workspace "+in.Body.Name)
	}
	w.Role = store.Admin
	return &workspaceAnswer{w}, nil
}

func (v *Service) deleteWorkspace(ctx context.Context, in *WorkspacePath) (*struct{}, error) {
	for _, k := range v.rehearsals.list(spaceOf(ctx)) {
		v.rehearsals.end(ctx, k)
	}
	if err := v.store.DeleteWorkspace(ctx, spaceOf(ctx)); err != nil {
		return nil, v.failure(err, "workspace "+in.Workspace)
	}
	return nil, nil
}

func (v *Service) listMembers(ctx context.Context, in *WorkspacePath) (*page[store.Member], error) {
	list, err := v.store.Members(ctx, spaceOf(ctx))
	if err != nil {
		return nil, v.failure(err, "workspace "+in.Workspace)
	}
	return paged(list, math.MaxInt, func(m store.Member) string { return m.User }), nil
}

func (v *Service) setMember(ctx context.Context, in *struct {
	MemberPath
	Body struct {
		Role string `json:"role" enum:"viewer,editor,admin"`
	}
}) (*struct{}, error) {
	if err := v.store.SetMember(ctx, spaceOf(ctx), in.Name, in.Body.Role); err != nil {
		return nil, v.failure(err, "person "+in.Name)
	}
	return nil, nil
}

func (v *Service) removeMember(ctx context.Context, in *MemberPath) (*struct{}, error) {
	if err := v.store.SetMember(ctx, spaceOf(ctx), in.Name, ""); err != nil {
		return nil, v.failure(err, "member "+in.Name)
	}
	return nil, nil
}

type tokenAnswer struct {
	Body struct {
		Secret string `json:"secret" doc:"the token; it is shown this once"`
		store.Token
	}
}

// tokenRoutes are for a person's own tokens.
func (v *Service) tokenRoutes() {
	register(v, store.Viewer, huma.Operation{
		OperationID: "list-tokens",
		Method:      http.MethodGet,
		Path:        "/api/v1/tokens",
		Summary:     "Your tokens, without their secrets; a token sees itself alone",
	}, v.listTokens)
	register(v, store.Viewer, huma.Operation{
		OperationID:   "create-token",
		Method:        http.MethodPost,
		Path:          "/api/v1/tokens",
		Summary:       "Make a token that lets a program in as you, with at most a role",
		DefaultStatus: 201,
	}, v.createToken)
	register(v, store.Viewer, huma.Operation{
		OperationID:   "revoke-token",
		Method:        http.MethodDelete,
		Path:          "/api/v1/tokens/{id}",
		Summary:       "Revoke a token: yours, or anybody's where you administer the service; a token can revoke itself alone",
		DefaultStatus: 204,
	}, v.revokeToken)
}

func (v *Service) listTokens(ctx context.Context, _ *struct{}) (*page[store.Token], error) {
	list, err := v.store.Tokens(ctx, accessOf(ctx))
	if err != nil {
		return nil, v.failure(err, "token")
	}
	return paged(list, math.MaxInt, func(store.Token) string { return "" }), nil
}

func (v *Service) createToken(ctx context.Context, in *struct {
	Body struct {
		Name      string `json:"name" minLength:"1" maxLength:"100" doc:"what it is for"`
		Role      string `json:"role" enum:"viewer,editor,admin" doc:"at most this"`
		Workspace string `json:"workspace,omitempty" maxLength:"63" doc:"only this one; absent: all of yours"`
		Days      int    `json:"days,omitempty" minimum:"1" maximum:"730" default:"90" doc:"until it runs out"`
	}
}) (*tokenAnswer, error) {
	a := accessOf(ctx)
	if a.Token != "" {
		return nil, huma.Error403Forbidden("a token cannot make tokens; sign in")
	}
	var w *store.Workspace
	if in.Body.Workspace != "" {
		var err error
		w, err = v.store.Workspace(ctx, in.Body.Workspace)
		if err == nil {
			var role string
			if role, err = v.store.Role(ctx, a, w); err == nil && role == "" {
				err = store.ErrNotFound
			}
		}
		if err != nil {
			return nil, v.failure(err, "workspace "+in.Body.Workspace)
		}
	}
	secret, token, err := v.store.CreateToken(
		ctx,
		&a.User,
		in.Body.Name,
		in.Body.Role,
		w,
		time.Duration(in.Body.Days)*24*time.Hour,
	)
	if err != nil {
		return nil, v.failure(err, "token")
	}
	out := &tokenAnswer{}
	out.Body.Secret, out.Body.Token = secret, *token
	return out, nil
}

func (v *Service) revokeToken(ctx context.Context, in *struct {
	ID int64 `path:"id" minimum:"1"`
}) (*struct{}, error) {
	a := accessOf(ctx)
	if a.TokenID != 0 && a.TokenID != in.ID {
		return nil, huma.Error403Forbidden("a token can revoke itself alone; sign in to revoke others")
	}
	owner := a.User.ID
	if a.Administers() {
		owner = 0
	}
	if err := v.store.DeleteToken(ctx, owner, in.ID); err != nil {
		return nil, v.failure(err, "such token of yours")
	}
	return nil, nil
}
