package service

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/store"
)

// Roles that operations may need beside those of a workspace.
const (
	anybody = ""        // nobody need be signed in
	service = "service" // who administers the service
)

// WorkspacePath names a workspace in a path.
type WorkspacePath struct {
	Workspace string `path:"workspace" pattern:"^[a-z][a-z0-9-]{0,62}$" doc:"the workspace"`
}

// Keyed are creations that happen once for each key.
type Keyed struct {
	Key string `header:"Idempotency-Key" maxLength:"200" doc:"asked for again under the same key within a day, the same thing is answered and nothing more is made"`
}

// once makes a creation happen once for a key and what was asked for.
func once(key string, asked any) store.Once {
	text, _ := json.Marshal(asked)
	return store.Once{Key: key, Request: string(text)}
}

// register adds an operation that needs a role: of the workspace in its path, or,
// where there is none, of any. Errors that every such operation may answer are
// added to those that it names.
func register[I, O any](v *Service, role string, op huma.Operation, handle func(context.Context, *I) (*O, error)) {
	if role != anybody {
		op.Security = []map[string][]string{{"session": {role}}, {"token": {role}}}
		op.Errors = append(op.Errors, http.StatusUnauthorized, http.StatusForbidden)
	}
	if strings.Contains(op.Path, "{") {
		op.Errors = append(op.Errors, http.StatusNotFound)
	}
	op.Errors = append(op.Errors, http.StatusUnprocessableEntity, http.StatusServiceUnavailable)
	slices.Sort(op.Errors)
	op.Errors = slices.Compact(op.Errors)
	huma.Register(v.api, op, handle)
}

// roleOf gives the role that an operation needs.
func roleOf(op *huma.Operation) string {
	for _, way := range op.Security {
		for _, roles := range way {
			return roles[0]
		}
	}
	return anybody
}

type accessKey struct{}
type spaceKey struct{}

// accessOf is who a request comes from.
func accessOf(ctx context.Context) *store.Access {
	a, _ := ctx.Value(accessKey{}).(*store.Access)
	return a
}

// spaceOf is the workspace that a request is about.
func spaceOf(ctx context.Context) *store.Workspace {
	w, _ := ctx.Value(spaceKey{}).(*store.Workspace)
	return w
}

// authorise lets through who may do what an operation does. A workspace that
// somebody is no member of does not exist for them.
func (v *Service) authorise(ctx huma.Context, next func(huma.Context)) {
	needed := roleOf(ctx.Operation())
	if needed == anybody {
		next(ctx)
		return
	}
	refuse := func(status int, detail string) { huma.WriteErr(v.api, ctx, status, detail) }
	access, err := v.identify(ctx)
	switch {
	case errors.Is(err, store.ErrNotFound):
		ctx.SetHeader("WWW-Authenticate", "Bearer")
		refuse(http.StatusUnauthorized, "sign in, or send a token that has not run out")
		return
	case err != nil:
		v.unavailable(ctx, err)
		return
	}
	name := ctx.Param("workspace")
	role, may := "", false
	switch {
	case name != "":
		w, err := v.store.Workspace(ctx.Context(), name)
		if err == nil {
			role, err = v.store.Role(ctx.Context(), access, w)
		}
		switch {
		case errors.Is(err, store.ErrNotFound) || err == nil && role == "":
			refuse(http.StatusNotFound, "there is no workspace "+name)
			return
		case err != nil:
			v.unavailable(ctx, err)
			return
		}
		may = store.Covers(role, needed)
		if needed == service {
			may = access.Administers()
		}
		ctx = huma.WithValue(ctx, spaceKey{}, w)
	case needed == service:
		may = access.Administers()
	default:
		may = access.Allows(needed)
	}
	if !may {
		switch {
		case needed == service:
			refuse(http.StatusForbidden, "only an administrator of the service may do this")
		case name == "":
			refuse(http.StatusForbidden, "this token does not allow it")
		default:
			refuse(http.StatusForbidden, "this needs the role "+needed+" in workspace "+name+"; you have "+role)
		}
		return
	}
	inner := huma.WithValue(ctx, accessKey{}, access)
	actor := store.Actor{User: access.User.ID, Name: access.User.Name, Token: access.Token}
	next(huma.WithContext(inner, store.As(inner.Context(), actor)))
}

// identify finds who a request comes from: by token, else by session.
func (v *Service) identify(ctx huma.Context) (*store.Access, error) {
	if header := ctx.Header("Authorization"); header != "" {
		token, ok := strings.CutPrefix(header, "Bearer ")
		if !ok {
			return nil, store.ErrNotFound
		}
		return v.store.Token(ctx.Context(), token)
	}
	cookie, err := huma.ReadCookie(ctx, sessionCookie)
	if err != nil {
		return nil, store.ErrNotFound
	}
	return v.store.Session(ctx.Context(), cookie.Value)
}

func (v *Service) unavailable(ctx huma.Context, err error) {
	ctx.SetHeader("Retry-After", "2")
	huma.WriteErr(v.api, ctx, http.StatusServiceUnavailable, store.ErrDown.Error())
	v.log.Warn("the database cannot be reached", "error", err)
}
