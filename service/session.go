package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/store"
)

type userBody struct{ Body *store.User }

// attempts slows down who guesses passwords: ten tries a minute from one address, and ten
// a minute at one account. A try counts from before its password is looked at, and no
// longer once it was right. Secrets of 256 bits are not guessed: they are not counted.
type attempts struct {
	sync.Mutex
	recent map[string][]time.Time // by address and by account
	swept  time.Time
}

const (
	triesAllowed = 10
	triesWindow  = time.Minute
)

// reserve counts a try of an account from an address; false: there have been too many.
// The function that it returns takes the try back.
func (a *attempts) reserve(address, account string) (right func(), ok bool) {
	a.Lock()
	defer a.Unlock()
	now := time.Now()
	if a.recent == nil {
		a.recent = map[string][]time.Time{}
	}
	fresh := func(list []time.Time) []time.Time {
		return slices.DeleteFunc(list, func(t time.Time) bool { return now.Sub(t) >= triesWindow })
	}
	if now.Sub(a.swept) > triesWindow {
		a.swept = now
		for key, list := range a.recent {
			if a.recent[key] = fresh(list); len(a.recent[key]) == 0 {
				delete(a.recent, key)
			}
		}
	}
	keys := []string{"from " + address, "of " + account}
	for _, key := range keys {
		if a.recent[key] = fresh(a.recent[key]); len(a.recent[key]) >= triesAllowed {
			return nil, false
		}
	}
	for _, key := range keys {
		a.recent[key] = append(a.recent[key], now)
	}
	return func() {
		a.Lock()
		defer a.Unlock()
		for _, key := range keys {
			if i := slices.Index(a.recent[key], now); i >= 0 {
				a.recent[key] = slices.Delete(a.recent[key], i, i+1)
			}
		}
	}, true
}

// Sender is where a request comes from.
type Sender struct{ address string }

// Resolve reads the address; behind a proxy it is what the proxy says.
func (s *Sender) Resolve(ctx huma.Context) []error {
	s.address = addressOf(ctx)
	return nil
}

type signedInAnswer struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      *store.User
}

func (v *Service) sessionRoutes() {
	register(v, anybody, huma.Operation{
		OperationID: "sign-in",
		Method:      http.MethodPost,
		Path:        "/api/v1/session",
		Summary:     "Open a session: with a one-time secret, which works once, or with a name and password",
		Errors:      []int{401, 429},
	}, v.signIn)
	register(v, store.Viewer, huma.Operation{
		OperationID: "who-am-i",
		Method:      http.MethodGet,
		Path:        "/api/v1/session",
		Summary:     "Who is signed in",
	}, v.whoAmI)
	register(v, store.Viewer, huma.Operation{
		OperationID:   "sign-out",
		Method:        http.MethodDelete,
		Path:          "/api/v1/session",
		Summary:       "End the session",
		DefaultStatus: 204,
	}, v.signOut)
	register(v, store.Viewer, huma.Operation{
		OperationID:   "sign-out-everywhere",
		Method:        http.MethodDelete,
		Path:          "/api/v1/sessions",
		Summary:       "End all your sessions, this one too, your tokens and your one-time links",
		DefaultStatus: 204,
	}, v.signOutEverywhere)
	register(v, store.Viewer, huma.Operation{
		OperationID:   "set-password",
		Method:        http.MethodPut,
		Path:          "/api/v1/session/password",
		Summary:       "Choose a password; your other sessions, your tokens and your one-time links end",
		DefaultStatus: 204,
		Errors:        []int{429},
	}, v.setPassword)
}

func (v *Service) signIn(ctx context.Context, in *struct {
	Sender
	Body struct {
		Secret   string `json:"secret,omitempty" maxLength:"200" doc:"from a one-time link"`
		Name     string `json:"name,omitempty" maxLength:"200"`
		Password string `json:"password,omitempty" maxLength:"200"`
	}
}) (*signedInAnswer, error) {
	b := in.Body
	if b.Secret == "" && (b.Name == "" || b.Password == "") {
		return nil, huma.Error422UnprocessableEntity("give a secret, or a name and a password")
	}
	ctx = store.As(ctx, store.Actor{Address: in.address})
	right := func() {}
	if b.Secret == "" {
		var ok bool
		if right, ok = v.tries.reserve(in.address, b.Name); !ok {
			return nil, tooManyTries()
		}
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
		v.recordRefusal(ctx, "sign-in", "", b.Name, wrong)
		return nil, huma.Error401Unauthorized(wrong)
	}
	if err != nil {
		return nil, v.failure(err, "session")
	}
	right()
	return &signedInAnswer{SetCookie: v.cookie(session, int(sessionLife.Seconds())), Body: user}, nil
}

func (v *Service) whoAmI(ctx context.Context, _ *struct{}) (*userBody, error) {
	a := accessOf(ctx)
	if !a.Shared() {
		return &userBody{&a.User}, nil
	}
	share, err := v.store.ShareOf(ctx, a)
	if err != nil {
		return nil, v.failure(err, "share link")
	}
	return &userBody{&store.User{Name: a.User.Name, CreatedAt: share.CreatedAt, Share: share}}, nil
}

func (v *Service) signOut(ctx context.Context, _ *struct{}) (*struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}, error) {
	if err := v.store.SignOut(ctx, sessionOf(ctx)); err != nil {
		return nil, v.failure(err, "session")
	}
	return &struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}{v.cookie("", -1)}, nil
}

func (v *Service) signOutEverywhere(ctx context.Context, _ *struct{}) (*struct{}, error) {
	a := accessOf(ctx)
	if a.Token != "" {
		return nil, huma.Error403Forbidden("a token cannot do this; sign in")
	}
	if err := v.store.SignOutEverywhere(ctx, &a.User); err != nil {
		return nil, v.failure(err, "session")
	}
	return nil, nil
}

func (v *Service) setPassword(ctx context.Context, in *struct {
	Sender
	Body struct {
		Before   string `json:"before,omitempty" maxLength:"200" doc:"the password until now, where there is one"`
		Password string `json:"password" minLength:"12" maxLength:"200"`
	}
}) (*struct{}, error) {
	a := accessOf(ctx)
	if a.Token != "" {
		return nil, huma.Error403Forbidden("a token cannot change the password; sign in")
	}
	if a.User.HasPassword {
		right, ok := v.tries.reserve(in.address, a.User.Name)
		if !ok {
			return nil, tooManyTries()
		}
		if _, err := v.store.PasswordFits(ctx, a.User.Name, in.Body.Before); errors.Is(err, store.ErrNotFound) {
			return nil, huma.Error403Forbidden("the current password is wrong")
		} else if err != nil {
			return nil, v.failure(err, "user")
		}
		right()
	}
	if why := WeakPassword(in.Body.Password, a.User.Name); why != "" {
		return nil, huma.Error422UnprocessableEntity("the new password " + why)
	}
	if err := v.store.SetPassword(ctx, a.User.ID, a.User.Name, in.Body.Password, sessionOf(ctx)); err != nil {
		return nil, v.failure(err, "person")
	}
	return nil, nil
}

func tooManyTries() error {
	return huma.ErrorWithHeaders(
		huma.Error429TooManyRequests("too many wrong tries from this address or for this account; wait a minute"),
		http.Header{"Retry-After": {"60"}},
	)
}

// leastPassword is how many characters a password has at least.
const leastPassword = 12

// WeakPassword says why a password is too easily guessed; empty: it is
// not.
func WeakPassword(password, name string) string {
	lower := strings.ToLower(password)
	distinct := map[rune]bool{}
	for _, r := range lower {
		distinct[r] = true
	}
	letters := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' {
			return r
		}
		return -1
	}, lower)
	switch {
	case len(password) < leastPassword:
		return fmt.Sprintf("has fewer than %d characters", leastPassword)
	case len(distinct) < 5:
		return "repeats too few characters: use at least five different ones"
	case len(name) >= 3 && strings.Contains(lower, strings.ToLower(name)):
		return "holds your name"
	}
	for n := 1; n <= len(lower)/2; n++ { // abcabcabcabc
		if len(lower)%n == 0 && strings.Repeat(lower[:n], len(lower)/n) == lower && n < 8 {
			return "repeats a short piece"
		}
	}
	for _, common := range []string{"password", "passwort", "letmein", "welcome", "qwerty", "qwertyuiop", "asdfgh",
		"iloveyou", "administrator", "changeme", "ironweir", "trustno", "dragon", "monkey", "sunshine", "princess",
		"football"} {
		if letters == common || letters == common+common {
			return "is a common one with digits or signs around it"
		}
	}
	for _, row := range []string{"abcdefghijklmnopqrstuvwxyz", "01234567890123456789", "qwertyuiopasdfghjklzxcvbnm", "98765432109876543210"} {
		if len(lower) >= 6 && strings.Contains(row, lower) {
			return "is a row of neighbouring characters"
		}
	}
	return ""
}

func (v *Service) cookieName() string {
	if v.options.TLS {
		return tlsCookie
	}
	return sessionCookie
}

func (v *Service) cookie(value string, age int) http.Cookie {
	return http.Cookie{
		Name:     v.cookieName(),
		Value:    value,
		Path:     "/",
		MaxAge:   age,
		HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
		Secure:   v.options.TLS,
	}
}
