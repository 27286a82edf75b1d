package service

import (
	"context"
	"encoding/json"
	"errors"
	"net"
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
	if v.only != everything && op.Metadata[v.only] == nil {
		return // a process of its own begins the sooner without it
	}
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
type roleKey struct{}
type sessionKey struct{}

// sessionOf is the session that a request shows; empty: it comes with a token.
func sessionOf(ctx context.Context) string {
	s, _ := ctx.Value(sessionKey{}).(string)
	return s
}

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

// roleIn is what the caller may do in the workspace that a request is about.
func roleIn(ctx context.Context) string {
	role, _ := ctx.Value(roleKey{}).(string)
	return role
}

// authorise lets through who may do what an operation does. A workspace that
// somebody is no member of does not exist for them.
func (v *Service) authorise(ctx huma.Context, next func(huma.Context)) {
	needed := roleOf(ctx.Operation())
	if v.only != everything {
		if ctx.Operation().Metadata[v.only] == nil {
			huma.WriteErr(v.api, ctx, http.StatusNotFound, "this process does not answer that")
			return
		}
		next(asSent(ctx))
		return
	}
	if needed == anybody {
		next(ctx)
		return
	}
	refuse := func(status int, detail string) { huma.WriteErr(v.api, ctx, status, detail) }
	name, shown := ctx.Param("workspace"), v.credentialsOf(ctx)
	who, err := v.whoIs(ctx, shown, name)
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
		ctx = huma.WithValue(huma.WithValue(ctx, spaceKey{}, who.space), roleKey{}, role)
	case needed == service:
		may = access.Administers()
	default:
		may = access.Allows(needed)
	}
	if access.Shared() && !sharedReads(ctx, access) {
		refuse(http.StatusForbidden, "this link shares one thing to read, and no more; sign in for the rest")
		return
	}
	if !may {
		why := "this needs the role " + needed + " in workspace " + name + "; you have " + role
		switch {
		case needed == service:
			why = "only an administrator of the service may do this"
		case name == "":
			why = "this token does not allow it"
		}
		v.noteRefusal(ctx, access, name, why)
		refuse(http.StatusForbidden, why)
		return
	}
	inner := huma.WithValue(ctx, accessKey{}, access)
	inner = huma.WithValue(inner, sessionKey{}, shown.session)
	v.within(huma.WithContext(inner, store.As(inner.Context(), actorOf(access, addressOf(ctx)))), next)
}

// Requests that work with records end after recordTime: a database that hangs hangs nobody.
// Operations whose metadata says `lasting` may take that long; 0: they bound themselves.
const (
	recordTime = 20 * time.Second
	lookUpTime = 5 * time.Second // for who calls
	lasting    = "lasting"
)

// within lets an operation go on for as long as it may.
func (v *Service) within(ctx huma.Context, next func(huma.Context)) {
	meta, most := ctx.Operation().Metadata, recordTime
	if own, said := meta[lasting].(time.Duration); said {
		most = own
	}
	if most == 0 || meta[computing] != nil {
		next(ctx)
		return
	}
	bounded, cancel := context.WithTimeout(ctx.Context(), most)
	defer cancel()
	next(huma.WithContext(ctx, bounded))
}

func actorOf(a *store.Access, address string) store.Actor {
	return store.Actor{User: a.User.ID, Name: a.User.Name, Token: a.Token, TokenID: a.TokenID, Address: address}
}

// addressOf gives where a request comes from; behind a proxy it is what the proxy says.
func addressOf(ctx huma.Context) string {
	address := ctx.RemoteAddr()
	if host, _, err := net.SplitHostPort(address); err == nil {
		address = host
	}
	if behindProxy(ctx.Context()) {
		hops := strings.Split(ctx.Header("X-Forwarded-For"), ",")
		if last := strings.TrimSpace(hops[len(hops)-1]); last != "" && len(last) <= 64 {
			address = last
		}
	}
	return address
}

// noteRefusal records that a person was refused a change, at most once a minute for each person
// and operation.
func (v *Service) noteRefusal(ctx huma.Context, access *store.Access, workspace, why string) {
	op := ctx.Operation()
	if op.Method == http.MethodGet || op.Method == "" {
		return
	}
	key, now := access.User.Name+" "+op.OperationID+" "+workspace, time.Now()
	if last, known := v.refusals.Swap(key, now); known && now.Sub(last.(time.Time)) < time.Minute {
		v.refusals.Store(key, last)
		return
	}
	if v.refusalsKept.Add(1) > mostBrief {
		v.refusalsKept.Store(0)
		v.refusals.Clear()
	}
	v.recordRefusal(store.As(ctx.Context(), actorOf(access, addressOf(ctx))), op.OperationID, workspace, "", why)
}

// recordRefusal writes a refusal into the audit trail; the request is refused all the same
// where that fails.
func (v *Service) recordRefusal(ctx context.Context, action, workspace, object, why string) {
	if err := v.store.Refused(ctx, action, workspace, object, why); err != nil {
		v.log.Warn("a refusal could not be recorded", "error", err)
	}
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

// credentials are what a request shows of who sends it.
type credentials struct{ authorization, session, share string }

func (v *Service) credentialsOf(ctx huma.Context) credentials {
	out := credentials{authorization: ctx.Header("Authorization")}
	if cookie, err := huma.ReadCookie(ctx, v.cookieName()); err == nil {
		out.session = cookie.Value
	}
	if cookie, err := huma.ReadCookie(ctx, v.shareCookieName()); err == nil {
		out.share = cookie.Value
	}
	return out
}

// whoIs finds who a request comes from and what they are in a workspace. Where the
// workspace is not found, the access is still given.
func (v *Service) whoIs(ctx huma.Context, shown credentials, workspace string) (caller, error) {
	if ctx.Operation().Metadata[brief] == nil {
		return v.lookUp(ctx.Context(), shown, workspace)
	}
	key := strings.Join([]string{shown.authorization, shown.session, shown.share, workspace}, "\n")
	if known, there := v.callers.Load(key); there && time.Now().Before(known.(caller).until) {
		return known.(caller), nil
	}
	who, err := v.lookUp(ctx.Context(), shown, workspace)
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

func (v *Service) lookUp(ctx context.Context, shown credentials, workspace string) (who caller, err error) {
	ctx, cancel := context.WithTimeout(ctx, lookUpTime)
	defer cancel()
	if who.access, err = v.identify(ctx, shown); err != nil || workspace == "" {
		return who, err
	}
	if who.space, err = v.store.Workspace(ctx, workspace); err == nil {
		who.role, err = v.store.Role(ctx, who.access, who.space)
	}
	if err != nil || who.role != "" || shown.share == "" || who.access.Shared() {
		return who, err
	}
	// Who is signed in, and no member, still reads what a link shares.
	access, err := v.shareAccess(ctx, shown.share)
	if errors.Is(err, store.ErrNotFound) {
		return who, nil
	}
	if err == nil {
		who.access = access
		who.role, err = v.store.Role(ctx, access, who.space)
	}
	return who, err
}

// identify finds who shows credentials: by token, else by session, else by share link.
func (v *Service) identify(ctx context.Context, shown credentials) (*store.Access, error) {
	if shown.authorization != "" {
		token, ok := strings.CutPrefix(shown.authorization, "Bearer ")
		if !ok {
			return nil, store.ErrNotFound
		}
		access, err := v.store.Token(ctx, token)
		return v.openly(ctx, access, err)
	}
	if shown.session != "" {
		access, err := v.store.Session(ctx, shown.session)
		if !errors.Is(err, store.ErrNotFound) {
			return access, err
		}
	}
	if shown.share == "" {
		return nil, store.ErrNotFound
	}
	access, err := v.shareAccess(ctx, shown.share)
	return v.openly(ctx, access, err)
}

// openly passes on the access of a caller who has not signed in: that of a share link only
// where the settings open links without an account.
func (v *Service) openly(ctx context.Context, access *store.Access, err error) (*store.Access, error) {
	if err != nil || !access.Shared() {
		return access, err
	}
	settings, err := v.store.Settings(ctx)
	if err == nil && !settings.OpenShares {
		err = store.ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	return access, nil
}

// shareAccess finds what a share link lets its reader read.
func (v *Service) shareAccess(ctx context.Context, secret string) (*store.Access, error) {
	access, err := v.store.Token(ctx, secret)
	if err == nil && !access.Shared() {
		return nil, store.ErrNotFound
	}
	return access, err
}

// lastingAccess is the access of the reader of a stream, which is looked up again and again.
type lastingAccess struct {
	v         *Service
	shown     credentials
	workspace *store.Workspace
	needed    string
}

// accessTime is how soon a stream ends after its reader's access has.
const accessTime = time.Second

func (v *Service) lastingAccess(ctx huma.Context) lastingAccess {
	return lastingAccess{v, v.credentialsOf(ctx), spaceOf(ctx.Context()), roleOf(ctx.Operation())}
}

// ended reports whether the access has ended: the session, the token, the person, the
// membership or the workspace. While the database cannot say, it has not.
func (a lastingAccess) ended(ctx context.Context) bool {
	who, err := a.v.lookUp(ctx, a.shown, a.workspace.Name)
	if err != nil {
		return errors.Is(err, store.ErrNotFound)
	}
	return who.space.ID != a.workspace.ID || !store.Covers(who.role, a.needed)
}

func (v *Service) unavailable(ctx huma.Context, err error) {
	ctx.SetHeader("Retry-After", "2")
	huma.WriteErr(v.api, ctx, http.StatusServiceUnavailable, store.ErrUnavailable.Error())
	v.log.Warn("the database cannot be reached", "error", err)
}
