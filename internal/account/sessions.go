// Package account is who may use the service: people with rights and passwords, their
// sessions, and tokens for programs.
package account

import (
	"context"
	"crypto/rand"
	"errors"
	"log/slog"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/core/right"
	"redstart/internal/core/stamp"
	"redstart/internal/store"
)

const (
	// SessionTime is how long a session is good.
	SessionTime = 12 * time.Hour
	linkTime    = 10 * time.Minute
	// Owner is the first user.
	Owner = "owner"
	// LocalUser is who commands on this computer act as.
	LocalUser = "this computer"
)

// Accounts are all who may use the service.
type Accounts struct {
	store    *store.Store
	log      *slog.Logger
	signIns  *tries
	checking checking
	changes  changes

	Cost Cost // of each password that is set from now on
}

// In gives the accounts that the records hold.
func In(records *store.Store, log *slog.Logger) *Accounts {
	return &Accounts{store: records, log: log, signIns: newTries(), checking: newChecking(), Cost: Usual}
}

// newToken starts a session and gives its token, which is stored hashed only.
func (s *Accounts) newToken(ctx context.Context, user string, once bool, good time.Duration) (string, error) {
	token := rand.Text()
	err := s.store.AddSession(ctx, store.Session{Hash: tokenHash(token), User: user, Once: once,
		ExpiresAt: stamp.Time{Time: time.Now().Add(good)}})
	return token, err
}

// FirstStart makes the owner's sign-in if nobody may sign in yet, and gives
// the password, to be shown once; "" when there are users already.
func (s *Accounts) FirstStart(ctx context.Context) (password string, err error) {
	users, err := s.store.Users(ctx)
	if len(users) > 0 || err != nil {
		return "", err
	}
	password = rand.Text()[:16]
	return password, s.store.AddUser(ctx, store.User{Name: Owner, Hash: s.Cost.hash(password), Rights: string(right.Own)})
}

// OnceToken makes the token of a link that signs the owner in once.
func (s *Accounts) OnceToken(ctx context.Context) (string, error) {
	if _, err := s.FirstStart(ctx); err != nil {
		return "", err
	}
	return s.newToken(ctx, Owner, true, linkTime)
}

// LocalToken makes a token for commands on this computer, for as long as the
// service runs.
func (s *Accounts) LocalToken(ctx context.Context) (string, error) {
	return s.newToken(ctx, LocalUser, false, 365*24*time.Hour)
}

// ErrSignIn says that nobody is signed in.
var ErrSignIn = problem.New(problem.SignIn, "you are not signed in", "sign in first")

// Whose finds out whose a token is: of a session, or where it is a bearer's, of a program.
func (s *Accounts) Whose(ctx context.Context, token string, bearer bool) (api.Person, error) {
	if token == "" {
		return api.Person{}, ErrSignIn
	}
	hash := tokenHash(token)
	session, ok, err := s.store.Session(ctx, hash)
	if err != nil {
		return api.Person{}, err
	}
	switch {
	case !ok && bearer:
		return s.byToken(ctx, hash)
	case !ok || session.Once:
		return api.Person{}, ErrSignIn
	case session.User == LocalUser:
		return api.Person{Name: LocalUser, Rights: right.Own}, nil
	}
	u, err := s.store.User(ctx, session.User)
	if err != nil || u.Name == "" {
		return api.Person{}, errors.Join(err, ErrSignIn)
	}
	return api.Person{Name: u.Name, Rights: right.Right(u.Rights), Until: session.ExpiresAt.Time}, nil
}

// SignIn begins a session and gives its token; from is the address it is asked from.
func (s *Accounts) SignIn(ctx context.Context, from string, in api.SignIn) (token string, who api.Person, err error) {
	if err := s.signIns.allow(from, in.User); err != nil {
		return "", who, err
	}
	name := in.User
	if in.Link != "" {
		session, ok, err := s.store.Spend(ctx, tokenHash(in.Link))
		if err != nil {
			return "", who, err
		}
		if !ok {
			return "", who, problem.New(problem.SignIn, "this link was used already or is too old",
				"sign in with your password, or start the demo again")
		}
		name = session.User
	} else {
		u, err := s.store.User(ctx, in.User)
		if err != nil {
			return "", who, err
		}
		// The work is done for unknown users too, so that time tells nothing.
		fits := false
		err = s.checking.do(s.Cost.Memory, func() {
			if fits = passwordFits(u.Hash, in.Password); !fits && u.Hash == "" {
				passwordFits(s.Cost.decoy(), in.Password)
			}
		})
		if err != nil {
			return "", who, err
		}
		if !fits {
			s.log.Warn("sign-in refused", "from", from)
			return "", who, problem.New(problem.SignIn, "user or password is wrong",
				"try again; the first start of the service showed the owner's password")
		}
	}
	if token, err = s.newToken(ctx, name, false, SessionTime); err != nil {
		return "", who, err
	}
	u, err := s.store.User(ctx, name)
	return token, api.Person{Name: u.Name, Rights: right.Right(u.Rights)}, err
}

// SignOut ends the session of a token.
func (s *Accounts) SignOut(ctx context.Context, token string) error {
	defer s.changes.tell()
	return s.store.EndSession(ctx, tokenHash(token))
}
