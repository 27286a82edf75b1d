package service

import (
	"context"
	"errors"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/store"
)

type userBody struct{ Body *store.User }

// attempts slows down who guesses secrets: ten wrong tries a minute from one
// address, a hundred in all.
type attempts struct {
	sync.Mutex
	recent []attempt
}

type attempt struct {
	at   time.Time
	from string
}

func (a *attempts) allow(from string) bool {
	a.Lock()
	defer a.Unlock()
	now := time.Now()
	kept, same := a.recent[:0], 0
	for _, t := range a.recent {
		if now.Sub(t.at) < time.Minute {
			kept = append(kept, t)
			if t.from == from {
				same++
			}
		}
	}
	a.recent = kept
	return same < 10 && len(kept) < 100
}

func (a *attempts) failed(from string) {
	a.Lock()
	defer a.Unlock()
	a.recent = append(a.recent, attempt{time.Now(), from})
}

// Sender is where a request comes from.
type Sender struct{ address string }

// Resolve reads the address; behind a proxy it is what the proxy says.
func (s *Sender) Resolve(ctx huma.Context) []error {
	s.address = ctx.RemoteAddr()
	if host, _, err := net.SplitHostPort(s.address); err == nil {
		s.address = host
	}
	if behindProxy(ctx.Context()) {
		hops := strings.Split(ctx.Header("X-Forwarded-For"), ",")
		if last := strings.TrimSpace(hops[len(hops)-1]); last != "" {
			s.address = last
		}
	}
	return nil
}

func (v *Service) sessionRoutes() {
	type signedInBody struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      *store.User
	}
	register(v, anybody, huma.Operation{OperationID: "sign-in", Method: http.MethodPost, Path: "/api/v1/session", Summary: "Open a session: with a one-time secret, which is used up, or with a name and password", Errors: []int{401, 429}},
		func(ctx context.Context, in *struct {
			Sender
			Body struct {
				Secret   string `json:"secret,omitempty" maxLength:"200" doc:"from a one-time link"`
				Name     string `json:"name,omitempty" maxLength:"200"`
				Password string `json:"password,omitempty" maxLength:"200"`
			}
		}) (*signedInBody, error) {
			b := in.Body
			if b.Secret == "" && (b.Name == "" || b.Password == "") {
				return nil, huma.Error422UnprocessableEntity("give a secret, or a name and a password")
			}
			if !v.tries.allow(in.address) {
				return nil, huma.ErrorWithHeaders(huma.Error429TooManyRequests("too many wrong tries; wait a minute"), http.Header{"Retry-After": {"60"}})
			}
			var session string
			var user *store.User
			var err error
			wrong := "the name or the password is wrong"
			if b.Secret != "" {
				wrong = "this link has been used or has run out; ask an administrator for another, or start the service again where nobody administers it yet"
				session, user, err = v.store.SignIn(ctx, b.Secret, sessionLife)
			} else if user, err = v.store.PasswordFits(ctx, b.Name, b.Password); err == nil {
				session, err = v.store.OpenSession(ctx, user, sessionLife)
			}
			if errors.Is(err, store.ErrNotFound) {
				v.tries.failed(in.address)
				return nil, huma.Error401Unauthorized(wrong)
			}
			if err != nil {
				return nil, v.failure(err, "session")
			}
			return &signedInBody{SetCookie: v.cookie(session, int(sessionLife.Seconds())), Body: user}, nil
		})
	register(v, store.Viewer, huma.Operation{OperationID: "who-am-i", Method: http.MethodGet, Path: "/api/v1/session", Summary: "Who is signed in"},
		func(ctx context.Context, _ *struct{}) (*userBody, error) { return &userBody{&accessOf(ctx).User}, nil })
	register(v, store.Viewer, huma.Operation{OperationID: "sign-out", Method: http.MethodDelete, Path: "/api/v1/session", Summary: "End the session", DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			Session string `cookie:"ironweir_session"`
		}) (*struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
		}, error) {
			if err := v.store.SignOut(ctx, in.Session); err != nil {
				return nil, v.failure(err, "session")
			}
			return &struct {
				SetCookie http.Cookie `header:"Set-Cookie"`
			}{v.cookie("", -1)}, nil
		})
	register(v, store.Viewer, huma.Operation{OperationID: "set-password", Method: http.MethodPut, Path: "/api/v1/session/password", Summary: "Choose a password; your other sessions end", DefaultStatus: 204, Errors: []int{429}},
		func(ctx context.Context, in *struct {
			Sender
			Session string `cookie:"ironweir_session"`
			Body    struct {
				Before   string `json:"before,omitempty" maxLength:"200" doc:"the password until now, where there is one"`
				Password string `json:"password" minLength:"12" maxLength:"200"`
			}
		}) (*struct{}, error) {
			a := accessOf(ctx)
			if a.Token != "" {
				return nil, huma.Error403Forbidden("a token cannot change the password; sign in")
			}
			if a.User.HasPassword {
				if !v.tries.allow(in.address) {
					return nil, huma.Error429TooManyRequests("too many wrong tries; wait a minute")
				}
				if _, err := v.store.PasswordFits(ctx, a.User.Name, in.Body.Before); errors.Is(err, store.ErrNotFound) {
					v.tries.failed(in.address)
					return nil, huma.Error403Forbidden("the password until now is wrong")
				} else if err != nil {
					return nil, v.failure(err, "person")
				}
			}
			if err := v.store.SetPassword(ctx, a.User.ID, a.User.Name, in.Body.Password, in.Session); err != nil {
				return nil, v.failure(err, "person")
			}
			return nil, nil
		})
}

func (v *Service) cookie(value string, age int) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: value, Path: "/", MaxAge: age, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: v.options.TLS}
}
