package service

import (
	"context"
	"errors"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/store"
)

type userBody struct{ Body *store.User }

// attempts slows down who guesses secrets: ten tries a minute in all.
type attempts struct {
	sync.Mutex
	recent []time.Time
}

func (a *attempts) allow() bool {
	a.Lock()
	defer a.Unlock()
	now := time.Now()
	kept := a.recent[:0]
	for _, t := range a.recent {
		if now.Sub(t) < time.Minute {
			kept = append(kept, t)
		}
	}
	a.recent = kept
	return len(kept) < 10
}

func (a *attempts) failed() {
	a.Lock()
	defer a.Unlock()
	a.recent = append(a.recent, time.Now())
}

func (v *Service) sessionRoutes() {
	var tries attempts
	type signedInBody struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      *store.User
	}
	huma.Register(v.api, huma.Operation{OperationID: "sign-in", Method: http.MethodPost, Path: "/api/v1/session", Summary: "Use a one-time sign-in secret up and open a session", Errors: []int{401, 429, 503}},
		func(ctx context.Context, in *struct {
			Body struct {
				Secret string `json:"secret" minLength:"1" maxLength:"200" doc:"from the one-time link"`
			}
		}) (*signedInBody, error) {
			if !tries.allow() {
				return nil, huma.Error429TooManyRequests("too many tries; wait a minute")
			}
			session, user, err := v.store.SignIn(ctx, in.Body.Secret, sessionLife)
			if errors.Is(err, store.ErrNotFound) {
				tries.failed()
				return nil, huma.Error401Unauthorized("this link has been used or has run out; start the service again for a new one")
			}
			if err != nil {
				return nil, v.failure(err, "session")
			}
			return &signedInBody{SetCookie: cookie(session, int(sessionLife.Seconds())), Body: user}, nil
		})
	huma.Register(v.api, huma.Operation{OperationID: "who-am-i", Method: http.MethodGet, Path: "/api/v1/session", Summary: "Who is signed in", Security: signedIn, Errors: []int{401, 503}},
		func(ctx context.Context, _ *struct{}) (*userBody, error) { return &userBody{userOf(ctx)}, nil })
	huma.Register(v.api, huma.Operation{OperationID: "sign-out", Method: http.MethodDelete, Path: "/api/v1/session", Summary: "End the session", Security: signedIn, DefaultStatus: 204, Errors: []int{401, 503}},
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
			}{cookie("", -1)}, nil
		})
}

func cookie(value string, age int) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: value, Path: "/", MaxAge: age, HttpOnly: true, SameSite: http.SameSiteStrictMode}
}
