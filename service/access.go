package service

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

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

// idempotency makes a creation happen once for a key and what was asked for.
func idempotency(key string, asked any) store.Idempotency {
	text, _ := json.Marshal(asked)
	return store.Idempotency{Key: key, Request: string(text)}
}

// register adds an operation that needs a role: of the workspace in its path, or,
// where there is none, of any. Errors that every such operation may answer are
// added to those that it names.
func register[I, O any](v *Service, role string, op huma.Operation, handle func(context.Context, *I) (*O, error)) {
	if op.Metadata[computing] != nil {
		op.Errors = append(op.Errors, http.StatusTooManyRequests)
	}
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
	if v.store == nil && ctx.Operation().Metadata[computing] == nil {
		huma.WriteErr(v.api, ctx, http.StatusNotFound, "this process only computes")
		return
	}
	if needed == anybody || v.store == nil {
		next(ctx)
		return
	}
	refuse := func(status int, detail string) { huma.WriteErr(v.api, ctx, status, detail) }
	name := ctx.Param("workspace")
	who, err := v.whoIs(ctx, name)
	access, role, may := who.access, who.role, false
	switch {
	case errors.Is(err, store.ErrNotFound) && access == nil:
		ctx.SetHeader("WWW-Authenticate", "Bearer")
		refuse(http.StatusUnauthorized, "sign in, or send a token that has not run out")
		return
	case errors.Is(err, store.ErrNotFound) || err == nil && name != "" && role == "":
		refuse(http.StatusNotFound, "there is no workspace "+name)
		return
	case err != nil:
		v.unavailable(ctx, err)
		return
	case name != "":
		may = store.Covers(role, needed)
		if needed == service {
			may = access.Administers()
		}
		ctx = huma.WithValue(ctx, spaceKey{}, who.space)
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

// caller is who a request comes from, and what they are in its workspace.
type caller struct {
	access *store.Access
	space  *store.Workspace
	role   string
	until  time.Time // it need not be looked up again
}

// brief marks operations that are called so often that who calls is looked up
// only every few seconds: what a token may do, and that it has been taken back, is
// seen that much later.
const (
	brief     = "brief"
	briefTime = 3 * time.Second
	mostBrief = 10_000
)

// whoIs finds who a request comes from and what they are in a workspace. Where the
// workspace is not found, the access is still given.
func (v *Service) whoIs(ctx huma.Context, workspace string) (caller, error) {
	if ctx.Operation().Metadata[brief] == nil {
		return v.lookUp(ctx, workspace)
	}
	key := ctx.Header("Authorization") + "\n" + ctx.Header("Cookie") + "\n" + workspace
	if known, there := v.callers.Load(key); there && time.Now().Before(known.(caller).until) {
		return known.(caller), nil
	}
	who, err := v.lookUp(ctx, workspace)
	if err == nil {
		who.until = time.Now().Add(briefTime)
		v.callers.Store(key, who)
		if v.callersKept.Add(1) > mostBrief {
			v.callersKept.Store(0)
			v.callers.Clear()
		}
	}
	return who, err
}

func (v *Service) lookUp(ctx huma.Context, workspace string) (who caller, err error) {
	if who.access, err = v.identify(ctx); err != nil || workspace == "" {
		return who, err
	}
	if who.space, err = v.store.Workspace(ctx.Context(), workspace); err == nil {
		who.role, err = v.store.Role(ctx.Context(), who.access, who.space)
	}
	return who, err
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
	huma.WriteErr(v.api, ctx, http.StatusServiceUnavailable, store.ErrUnavailable.Error())
	v.log.Warn("the database cannot be reached", "error", err)
}
