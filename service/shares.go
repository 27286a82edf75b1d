package service

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/store"
)

// Names of the cookie by which a browser reads what a share link shares, without and with TLS.
const (
	shareCookie    = "ironweir_share"
	tlsShareCookie = "__Host-" + shareCookie
)

func (v *Service) shareCookieName() string {
	if v.options.TLS {
		return tlsShareCookie
	}
	return shareCookie
}

// beside lists the operations that a share link may use beside the reading of what it
// shares: who it is, and the board of a text, which is counted on who made the link.
var beside = []string{"who-am-i", "list-workspaces", "check"}

var pathParameter = regexp.MustCompile(`\{[a-z]+\}`)

// sharedReads reports whether a share covers a request: it reads something at a path that
// is shared.
func sharedReads(ctx huma.Context, access *store.Access) bool {
	op := ctx.Operation()
	if slices.Contains(beside, op.OperationID) {
		return true
	}
	_, below, in := strings.Cut(op.Path, "/workspaces/{workspace}/")
	path := pathParameter.ReplaceAllStringFunc(below, func(name string) string {
		return ctx.Param(strings.Trim(name, "{}"))
	})
	return op.Method == http.MethodGet && in && access.Reads(path)
}

// ShareRequest says what is shared, and for how long.
type ShareRequest struct {
	What     string `json:"what" enum:"run,rehearsal,revision"`
	ID       string `json:"id" maxLength:"64" doc:"of the run or rehearsal; the name of the model"`
	Revision int    `json:"revision,omitempty" minimum:"0" doc:"of the model; 0: its latest now"`
	Days     int    `json:"days,omitempty" minimum:"1" maximum:"90" default:"14" doc:"until it expires"`
}

type shareAnswer struct {
	Body struct {
		Link  string      `json:"link" doc:"path of the page that opens it; shown once"`
		Share store.Share `json:"share"`
		Open  bool        `json:"open" doc:"it opens without an account; else for who is signed in"`
	}
}

// SignedIn is what a request shows of who sends it to an operation for anybody.
type SignedIn struct{ credentials }

// Resolve reads the session's cookie, or the token.
func (s *SignedIn) Resolve(ctx huma.Context) []error {
	s.authorization = ctx.Header("Authorization")
	for _, name := range []string{sessionCookie, tlsCookie} {
		if cookie, err := huma.ReadCookie(ctx, name); err == nil {
			s.session = cookie.Value
		}
	}
	return nil
}

type openedAnswer struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      struct {
		Workspace string      `json:"workspace"`
		Share     store.Share `json:"share"`
	}
}

func (v *Service) shareRoutes() {
	register(v, store.Editor, huma.Operation{
		OperationID:   "create-share",
		Method:        http.MethodPost,
		Path:          "/api/v1/workspaces/{workspace}/shares",
		Summary:       "Make a link by which anybody reads one run, rehearsal or revision, until it expires",
		DefaultStatus: 201,
	}, v.createShare)
	register(v, store.Viewer, huma.Operation{
		OperationID: "list-shares",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/shares",
		Summary:     "List your share links of a workspace; an administrator's list has everybody's",
	}, v.listShares)
	register(v, store.Viewer, huma.Operation{
		OperationID:   "revoke-share",
		Method:        http.MethodDelete,
		Path:          "/api/v1/workspaces/{workspace}/shares/{id}",
		Summary:       "Revoke a share link",
		DefaultStatus: 204,
	}, v.revokeShare)
	register(v, anybody, huma.Operation{
		OperationID: "open-share",
		Method:      http.MethodPost,
		Path:        "/api/v1/shares/open",
		Summary:     "Open a share link in this browser: what it shares can then be read",
		Errors:      []int{401, 404},
	}, v.openShare)
}

func (v *Service) createShare(ctx context.Context, in *struct {
	WorkspacePath
	Body ShareRequest
}) (*shareAnswer, error) {
	a, w, q := accessOf(ctx), spaceOf(ctx), in.Body
	if a.Token != "" {
		return nil, huma.Error403Forbidden("a token cannot make share links; sign in")
	}
	what, paths, err := v.toShare(ctx, q)
	if err != nil {
		return nil, err
	}
	secret, share, err := v.store.CreateShare(ctx, &a.User, w, what, paths, time.Duration(q.Days)*24*time.Hour)
	if err != nil {
		return nil, v.failure(err, "share")
	}
	settings, err := v.store.Settings(ctx)
	if err != nil {
		return nil, v.failure(err, "settings")
	}
	out := &shareAnswer{}
	out.Body.Link, out.Body.Share, out.Body.Open = "/s/"+secret, *share, settings.OpenShares
	return out, nil
}

// toShare names what is asked to be shared, and the paths at which it is read.
func (v *Service) toShare(ctx context.Context, q ShareRequest) (what string, paths []string, err error) {
	revision := func(model string, number int) string { return fmt.Sprintf("models/%s/revisions/%d", model, number) }
	switch q.What {
	case "run":
		var id int64
		if _, err := fmt.Sscan(q.ID, &id); err != nil {
			return "", nil, huma.Error404NotFound("no run " + q.ID)
		}
		run, err := v.run(ctx, id)
		if err != nil {
			return "", nil, err
		}
		return fmt.Sprintf("run %d of %s under %s", id, run.Model, run.Scenario),
			[]string{fmt.Sprintf("runs/%d", id), revision(run.Model, run.Revision)}, nil
	case "rehearsal":
		r, err := v.rehearsal(ctx, q.ID)
		if err != nil {
			return "", nil, err
		}
		return "rehearsal of " + r.Model, []string{"rehearsals/" + q.ID}, nil
	}
	r, err := v.store.Revision(ctx, spaceOf(ctx), q.ID, q.Revision)
	if err != nil {
		return "", nil, v.failure(err, "such revision of model "+q.ID)
	}
	return fmt.Sprintf("%s, revision %d", q.ID, r.Number), []string{revision(q.ID, r.Number)}, nil
}

// onlyOf returns the person whose shares alone a caller sees; 0: everybody's.
func onlyOf(ctx context.Context) int64 {
	if store.Covers(roleIn(ctx), store.Admin) {
		return 0
	}
	return accessOf(ctx).User.ID
}

func (v *Service) listShares(ctx context.Context, _ *WorkspacePath) (*page[store.Share], error) {
	list, err := v.store.Shares(ctx, spaceOf(ctx), onlyOf(ctx))
	if err != nil {
		return nil, v.failure(err, "share")
	}
	return paged(list, math.MaxInt, func(store.Share) string { return "" }), nil
}

func (v *Service) revokeShare(ctx context.Context, in *struct {
	WorkspacePath
	ID int64 `path:"id" minimum:"1"`
}) (*struct{}, error) {
	if accessOf(ctx).Token != "" {
		return nil, huma.Error403Forbidden("a token cannot revoke share links; sign in")
	}
	if err := v.store.DeleteShare(ctx, spaceOf(ctx), onlyOf(ctx), in.ID); err != nil {
		return nil, v.failure(err, "such share link")
	}
	return nil, nil
}

func (v *Service) openShare(ctx context.Context, in *struct {
	SignedIn
	Body struct {
		Secret string `json:"secret" maxLength:"200" doc:"the end of the link"`
	}
}) (*openedAnswer, error) {
	access, err := v.shareAccess(ctx, in.Body.Secret)
	if err == nil {
		in.share = in.Body.Secret
		if _, refused := v.identify(ctx, in.credentials); errors.Is(refused, store.ErrNotFound) {
			return nil, huma.Error401Unauthorized("sign in first: share links open for users with an account here")
		}
	}
	out := &openedAnswer{}
	var share *store.Share
	if err == nil {
		share, err = v.store.ShareOf(ctx, access)
	}
	if errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error404NotFound("this link has expired or was revoked; ask who sent it for another")
	}
	if err != nil {
		return nil, v.failure(err, "share")
	}
	out.Body.Workspace, out.Body.Share = share.Workspace, *share
	left := int(time.Until(share.ExpiresAt).Seconds())
	out.SetCookie = v.cookie(in.Body.Secret, max(left, 1))
	out.SetCookie.Name = v.shareCookieName()
	return out, nil
}
