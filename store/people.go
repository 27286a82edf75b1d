package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"
	"gorm.io/gorm"
)

// The roles, from the least. Whoever administers the service has the role of an
// administrator in every workspace.
const (
	Viewer = "viewer"
	Editor = "editor"
	Admin  = "admin"
)

var ranks = map[string]int{Viewer: 1, Editor: 2, Admin: 3}

// Covers reports whether a role allows what another is needed for.
func Covers(role, needed string) bool { return ranks[role] >= ranks[needed] }

func lesser(a, b string) string {
	if ranks[a] < ranks[b] {
		return a
	}
	return b
}

// User is a person.
type User struct {
	ID          int64     `json:"id"`
	Name        string    `json:"name"`
	Admin       bool      `json:"admin" doc:"administers the service: users, workspaces, settings"`
	HasPassword bool      `json:"has_password" gorm:"->;column:has_password"`
	CreatedAt   time.Time `json:"created_at"`
	Share       *Share    `json:"share,omitempty" gorm:"-" doc:"set where the caller reads by a share link: the one thing that it reads"`
}

const userColumns = "users.id, users.name, users.admin, users.password <> '' AS has_password, users.created_at"

// Access is who a session or token stands for, and what it allows.
type Access struct {
	User      User
	Token     string   // the token's name; empty: a session
	TokenID   int64    // 0: a session
	cap       string   // the most that the token allows
	workspace int64    // the only workspace of the token; 0: all of the person's
	paths     []string // of a share; see Reads
}

// Role is what somebody may do in a workspace; empty: they are no member.
func (s *Store) Role(ctx context.Context, a *Access, w *Workspace) (string, error) {
	if a.workspace != 0 && a.workspace != w.ID {
		return "", nil
	}
	role := Admin
	if !a.User.Admin {
		var roles []string
		if err := s.db.WithContext(ctx).Raw("SELECT role FROM members WHERE workspace_id = ? AND user_id = ?", w.ID, a.User.ID).Scan(&roles).Error; err != nil {
			return "", mapError(err)
		}
		if len(roles) == 0 {
			return "", nil
		}
		role = roles[0]
	}
	return lesser(role, a.cap), nil
}

// Administers reports whether the service itself may be administered.
func (a *Access) Administers() bool {
	return a.User.Admin && a.cap == Admin && a.workspace == 0 && len(a.paths) == 0
}

// Allows reports whether something that lies in no workspace is allowed.
func (a *Access) Allows(role string) bool { return Covers(a.cap, role) }

// newSecret makes a secret and the hash under which it is kept.
func newSecret() (secret, hash string) {
	raw := make([]byte, 32)
	rand.Read(raw)
	secret = base64.RawURLEncoding.EncodeToString(raw)
	return secret, hashOf(secret)
}

func hashOf(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// The cost of a password's hash: argon2id as RFC 9106 recommends where memory is
// scarce (64 MiB, 3 passes, 4 lanes).
const (
	hashMemory = 64 << 10 // KiB
	hashPasses = 3
	hashLanes  = 4
)

// hashSlots bounds the hashes at one time: each takes 64 MiB.
var hashSlots = make(chan struct{}, 2)

// hashing waits for a slot; the function that it returns gives it back.
func hashing(ctx context.Context) (done func(), err error) {
	select {
	case hashSlots <- struct{}{}:
		return func() { <-hashSlots }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func hashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	key := argon2.IDKey([]byte(password), salt, hashPasses, hashMemory, hashLanes, 32)
	return fmt.Sprintf(
		"$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s",
		argon2.Version,
		hashMemory,
		hashPasses,
		hashLanes,
		base64.RawStdEncoding.EncodeToString(salt),
		base64.RawStdEncoding.EncodeToString(key),
	)
}

func passwordFits(password, hash string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	var memory, passes uint32
	var lanes uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes, &lanes); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || len(want) == 0 {
		return false
	}
	return subtle.ConstantTimeCompare(
		argon2.IDKey([]byte(password), salt, passes, memory, lanes, uint32(len(want))),
		want,
	) == 1
}

// nobody gives the hash that is compared with where there is no such person, so
// that the time does not tell. It is made when first asked for: it takes as long
// as a sign-in, which no command should wait for.
var nobody = sync.OnceValue(func() string { return hashPassword("nobody") })

func (s *Store) user(tx *gorm.DB, where string, args ...any) (*User, error) {
	u := &User{}
	err := tx.Table("users").Select(userColumns).Where(where, args...).Take(u).Error
	return u, mapError(err)
}

// Users lists people by name.
func (s *Store) Users(ctx context.Context, after string, limit int) ([]User, error) {
	out := []User{}
	err := s.db.WithContext(ctx).Table("users").Select(userColumns).Where(
		"name > ?",
		after,
	).Order("name").Limit(limit).Find(&out).Error
	return out, mapError(err)
}

// CreateUser makes a person, who has no password and is a member of nothing.
func (s *Store) CreateUser(ctx context.Context, name string, admin bool, once Idempotency) (*User, error) {
	id, _, err := s.change(
		ctx,
		change{action: "create-user", object: name, once: once},
		func(tx transaction) (int64, error) {
			u := User{Name: name, Admin: admin}
			err := tx.Table("users").Omit("HasPassword").Create(&u).Error
			return u.ID, err
		},
	)
	if err != nil {
		return nil, err
	}
	return s.user(s.db.WithContext(ctx), "id = ?", id)
}

// ChangeUser makes somebody an administrator of the service, or no longer.
func (s *Store) ChangeUser(ctx context.Context, name string, admin bool) (*User, error) {
	err := s.alter(ctx, change{action: "change-user", object: name}, func(tx transaction) error {
		done := tx.Exec("UPDATE users SET admin = ? WHERE name = ?", admin, name)
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrNotFound
		}
		return firstError(done.Error, someAdmin(tx))
	})
	if err != nil {
		return nil, err
	}
	return s.user(s.db.WithContext(ctx), "name = ?", name)
}

// DeleteUser removes a person; what they made stays, under their name.
func (s *Store) DeleteUser(ctx context.Context, name string) error {
	return s.alter(ctx, change{action: "delete-user", object: name}, func(tx transaction) error {
		done := tx.Exec("DELETE FROM users WHERE name = ?", name)
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrNotFound
		}
		return firstError(done.Error, someAdmin(tx))
	})
}

func firstError(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// someAdmin makes sure that somebody still administers the service.
func someAdmin(tx transaction) error {
	var n int64
	// Two who demote each other at once take turns.
	if err := tx.Raw("SELECT count(*) FROM (SELECT 1 FROM users WHERE admin FOR UPDATE) x").Scan(&n).Error; err != nil {
		return err
	}
	if n == 0 {
		return ErrLastAdmin
	}
	return nil
}

// SetPassword gives a person a password. Their other sessions end, and so do their tokens
// and one-time links: whoever had those may be why the password is changed.
func (s *Store) SetPassword(ctx context.Context, user int64, name, password, keepSession string) error {
	done, err := hashing(ctx)
	if err != nil {
		return err
	}
	hash := hashPassword(password)
	done()
	return s.alter(ctx, change{action: "set-password", object: name}, func(tx transaction) error {
		if err := tx.Exec("UPDATE users SET password = ? WHERE id = ?", hash, user).Error; err != nil {
			return err
		}
		return endAccess(tx, user, keepSession)
	})
}

// SignOutEverywhere ends all sessions, tokens and one-time links of a person.
func (s *Store) SignOutEverywhere(ctx context.Context, user *User) error {
	return s.alter(ctx, change{action: "sign-out-everywhere", object: user.Name}, func(tx transaction) error {
		return endAccess(tx, user.ID, "")
	})
}

// endAccess ends all ways by which a person is let in, but for one session.
func endAccess(tx transaction, user int64, keepSession string) error {
	return firstError(
		tx.Exec("DELETE FROM sessions WHERE user_id = ? AND hash <> ?", user, hashOf(keepSession)).Error,
		tx.Exec("DELETE FROM tokens WHERE user_id = ?", user).Error,
		tx.Exec("DELETE FROM sign_in_links WHERE user_id = ?", user).Error)
}

// PasswordFits reports whether a password is a person's.
func (s *Store) PasswordFits(ctx context.Context, name, password string) (*User, error) {
	var hashes []string
	if err := s.db.WithContext(ctx).Raw("SELECT password FROM users WHERE name = ?", name).Scan(&hashes).Error; err != nil {
		return nil, mapError(err)
	}
	done, err := hashing(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	unknown := nobody()
	hash := unknown
	if len(hashes) == 1 && hashes[0] != "" {
		hash = hashes[0]
	}
	if !passwordFits(password, hash) || hash == unknown {
		return nil, ErrNotFound
	}
	return s.user(s.db.WithContext(ctx), "name = ?", name)
}

// NeedsAdmin reports whether nobody who administers the service has a password
// yet: then the start command may let somebody in.
func (s *Store) NeedsAdmin(ctx context.Context) (bool, error) {
	var n int64
	err := s.db.WithContext(ctx).Raw("SELECT count(*) FROM users WHERE admin AND password <> ''").Scan(&n).Error
	return n == 0, mapError(err)
}

// Has reports whether there is anybody at all.
func (s *Store) Has(ctx context.Context) (bool, error) {
	var n int64
	err := s.db.WithContext(ctx).Raw("SELECT count(*) FROM users").Scan(&n).Error
	return n > 0, mapError(err)
}

// FirstAdminLink makes a one-time secret that signs an administrator of the
// service in: the one who has been there longest, else one of that name, who is
// made.
func (s *Store) FirstAdminLink(ctx context.Context, name string, life time.Duration) (string, error) {
	var names []string
	if err := s.db.WithContext(ctx).Raw("SELECT name FROM users WHERE admin ORDER BY id LIMIT 1").Scan(&names).Error; err != nil {
		return "", mapError(err)
	}
	if len(names) > 0 {
		return s.SignInLink(ctx, names[0], life)
	}
	if _, err := s.ensureAdmin(ctx, name); err != nil {
		return "", err
	}
	return s.SignInLink(ctx, name, life)
}

// ensureAdmin makes the person of a name an administrator of the service, and makes them where
// they are missing.
func (s *Store) ensureAdmin(ctx context.Context, name string) (id int64, err error) {
	err = s.db.WithContext(ctx).Raw(
		"INSERT INTO users (name, admin) VALUES (?, true) ON CONFLICT (name) DO UPDATE SET admin = true RETURNING id",
		name,
	).Scan(&id).Error
	return id, mapError(err)
}

// FirstAdmin gives the first administrator of the service a password, under which they sign in:
// the one of that name, who is made. Where somebody who administers has one, nothing happens.
func (s *Store) FirstAdmin(ctx context.Context, name, password string) error {
	if needed, err := s.NeedsAdmin(ctx); err != nil || !needed {
		return err
	}
	id, err := s.ensureAdmin(ctx, name)
	if err != nil {
		return err
	}
	return s.SetPassword(ctx, id, name, password, "")
}

// SignInLink makes a one-time secret that signs a person in.
func (s *Store) SignInLink(ctx context.Context, name string, life time.Duration) (string, error) {
	secret, hash := newSecret()
	err := s.alter(ctx, change{action: "make-sign-in-link", object: name}, func(tx transaction) error {
		u, err := s.user(tx.DB, "name = ?", name)
		if err != nil {
			return err
		}
		return tx.Exec(
			"INSERT INTO sign_in_links (hash, user_id, expires_at) VALUES (?, ?, now() + ? * interval '1 second')",
			hash,
			u.ID,
			life.Seconds(),
		).Error
	})
	return secret, err
}

// SignIn uses a one-time secret up and opens a session.
func (s *Store) SignIn(ctx context.Context, secret string, life time.Duration) (session string, u *User, err error) {
	var id int64
	var ids []int64
	if err := s.db.WithContext(ctx).Raw("DELETE FROM sign_in_links WHERE hash = ? AND expires_at > now() RETURNING user_id", hashOf(secret)).Scan(&ids).Error; err != nil {
		return "", nil, mapError(err)
	}
	if len(ids) == 0 {
		return "", nil, ErrNotFound
	}
	id = ids[0]
	if u, err = s.user(s.db.WithContext(ctx), "id = ?", id); err != nil {
		return "", nil, err
	}
	session, err = s.OpenSession(ctx, u, life)
	return session, u, err
}

// OpenSession opens a session of a person who has shown who they are. Lives are
// counted by the database's clock, whatever this machine's clock does.
func (s *Store) OpenSession(ctx context.Context, u *User, life time.Duration) (string, error) {
	session, hash := newSecret()
	err := s.alter(
		As(ctx, Actor{User: u.ID, Name: u.Name, Address: ActorOf(ctx).Address}),
		change{action: "sign-in", object: u.Name},
		func(tx transaction) error {
			return tx.Exec(
				"INSERT INTO sessions (hash, user_id, expires_at) VALUES (?, ?, now() + ? * interval '1 second')",
				hash,
				u.ID,
				life.Seconds(),
			).Error
		},
	)
	return session, err
}

// Session gives who a session belongs to.
func (s *Store) Session(ctx context.Context, session string) (*Access, error) {
	u, err := s.user(
		s.db.WithContext(ctx).Joins("JOIN sessions ON sessions.user_id = users.id"),
		"sessions.expires_at > now() AND sessions.hash = ?",
		hashOf(session),
	)
	if err != nil {
		return nil, err
	}
	return &Access{User: *u, cap: Admin}, nil
}

// SignOut ends a session.
func (s *Store) SignOut(ctx context.Context, session string) error {
	return mapError(s.db.WithContext(ctx).Exec("DELETE FROM sessions WHERE hash = ?", hashOf(session)).Error)
}
