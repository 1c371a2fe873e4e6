package store

import (
	"context"
	"database/sql"
	"errors"
	"slices"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
)

// User is somebody who may sign in.
type User struct {
	Name   string `db:"name"`
	Hash   string `db:"password"`
	Rights string `db:"rights"`
}

// Users lists who may sign in.
func (s *Store) Users(ctx context.Context) ([]User, error) {
	list := []User{}
	err := s.all(ctx, &list, `SELECT name, password, rights FROM users ORDER BY name`)
	return list, err
}

// User finds a user; the zero User when there is none.
func (s *Store) User(ctx context.Context, name string) (u User, err error) {
	_, err = s.one(ctx, &u, `SELECT name, password, rights FROM users WHERE name = ?`, name)
	return u, err
}

// AddUser stores a new user.
func (s *Store) AddUser(ctx context.Context, u User) error {
	known, err := s.User(ctx, u.Name)
	if err == nil && known.Name != "" {
		err = problem.New(problem.Conflict, "there is a user with this name already",
			"choose another name").About(u.Name)
	}
	if err != nil {
		return err
	}
	return s.exec(ctx, `INSERT INTO users (name, password, rights) VALUES (:name, :password, :rights)`, u)
}

// SetUser changes a user's rights, and ends the user's sessions.
func (s *Store) SetUser(ctx context.Context, u User) error {
	return s.write(ctx, func(tx *sqlx.Tx) error { return setUser(tx, u) })
}

// SetPassword changes a user's password hash and rights, ends the user's sessions, and forgets
// the tokens but for those of the names that are to be kept. A name of none changes nothing.
func (s *Store) SetPassword(ctx context.Context, u User, keep []string) error {
	return s.write(ctx, func(tx *sqlx.Tx) error {
		if err := setUser(tx, u); err != nil {
			return err
		}
		var names []string
		if err := tx.Select(&names, `SELECT name FROM tokens WHERE user = ?`, u.Name); err != nil {
			return err
		}
		for _, name := range keep {
			if !slices.Contains(names, name) {
				return problem.New(problem.Missing, "there is no token of this name to keep", "look: redstart user token list").About(name)
			}
		}
		for _, name := range names {
			if slices.Contains(keep, name) {
				continue
			}
			if _, err := tx.Exec(`DELETE FROM tokens WHERE user = ? AND name = ?`, u.Name, name); err != nil {
				return err
			}
		}
		return nil
	})
}

func setUser(tx *sqlx.Tx, u User) error {
	if _, err := tx.NamedExec(`UPDATE users SET password = :password, rights = :rights WHERE name = :name`,
		u); err != nil {
		return err
	}
	_, err := tx.Exec(`DELETE FROM sessions WHERE user = ?`, u.Name)
	return err
}

// RemoveUser forgets a user with sessions and tokens.
func (s *Store) RemoveUser(ctx context.Context, name string) error {
	return s.write(ctx, func(tx *sqlx.Tx) error {
		for _, table := range []string{"sessions WHERE user", "tokens WHERE user", "users WHERE name"} {
			if _, err := tx.Exec(`DELETE FROM `+table+` = ?`, name); err != nil {
				return err
			}
		}
		return nil
	})
}

// Token is a named token that acts for a user until it expires or is revoked.
type Token struct {
	ID     int64      `db:"id"`
	User   string     `db:"user"`
	Name   string     `db:"name"`
	Hash   string     `db:"hash"`
	MadeAt stamp.Time `db:"made_at"`
	UsedAt stamp.Time `db:"used_at"`
	// Rights is what it may at most; ExpiresAt is when it ends, never for the zero time.
	Rights    string     `db:"rights"`
	ExpiresAt stamp.Time `db:"expires_at"`
}

// Tokens lists a user's tokens; all users' for "".
func (s *Store) Tokens(ctx context.Context, user string) ([]Token, error) {
	list := []Token{}
	err := s.all(ctx, &list, `SELECT * FROM tokens WHERE user = ? OR ? = '' ORDER BY user, name`, user, user)
	return list, err
}

// AddToken stores a token by its hash.
func (s *Store) AddToken(ctx context.Context, t Token) error {
	known, err := s.Tokens(ctx, t.User)
	if err != nil {
		return err
	}
	for _, k := range known {
		if k.Name == t.Name {
			return problem.New(problem.Conflict, "there is a token with this name already",
				"revoke it, or choose another name").About(t.Name)
		}
	}
	t.MadeAt = stamp.Now()
	return s.exec(ctx, `INSERT INTO tokens (user, name, hash, made_at, rights, expires_at)
		VALUES (:user, :name, :hash, :made_at, :rights, :expires_at)`, t)
}

// Token finds a token by its hash; ok is false when there is none.
func (s *Store) Token(ctx context.Context, hash string) (t Token, ok bool, err error) {
	ok, err = s.one(ctx, &t, `SELECT * FROM tokens WHERE hash = ?`, hash)
	return t, ok, err
}

// TokenUsed notes when a token was used.
func (s *Store) TokenUsed(ctx context.Context, id int64) error {
	return s.exec(ctx, `UPDATE tokens SET used_at = :now WHERE id = :id`, map[string]any{"id": id, "now": stamp.Now()})
}

// RevokeToken forgets a token of a user; of anybody for "".
func (s *Store) RevokeToken(ctx context.Context, id int64, user string) error {
	return s.write(ctx, func(tx *sqlx.Tx) error {
		result, err := tx.Exec(`DELETE FROM tokens WHERE id = ? AND (user = ? OR ? = '')`, id, user, user)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return problem.New(problem.Missing, "there is no such token", "").Because(err)
		}
		return nil
	})
}

// Session is a signed-in person or a one-time link, by the hash of its token.
type Session struct {
	Hash      string     `db:"hash"`
	User      string     `db:"user"`
	Once      bool       `db:"once"`
	ExpiresAt stamp.Time `db:"expires_at"`
}

// AddSession stores a session and forgets those that expired.
func (s *Store) AddSession(ctx context.Context, session Session) error {
	if err := s.exec(ctx, `DELETE FROM sessions WHERE expires_at < :now`, map[string]any{"now": stamp.Now()}); err != nil {
		return err
	}
	return s.exec(ctx, `INSERT INTO sessions (hash, user, once, expires_at) VALUES (:hash, :user, :once, :expires_at)`,
		session)
}

// EndSessionsOf forgets every session of a user.
func (s *Store) EndSessionsOf(ctx context.Context, user string) error {
	return s.exec(ctx, `DELETE FROM sessions WHERE user = :user`, map[string]any{"user": user})
}

// Session finds a session that has not expired; ok is false when there is none.
func (s *Store) Session(ctx context.Context, hash string) (session Session, ok bool, err error) {
	ok, err = s.one(ctx, &session, `SELECT * FROM sessions WHERE hash = ? AND expires_at > ?`, hash, stamp.Now())
	return session, ok, err
}

// Spend takes a session that signs in once: of several who try it at a time, one gets it.
func (s *Store) Spend(ctx context.Context, hash string) (session Session, ok bool, err error) {
	err = s.write(ctx, func(tx *sqlx.Tx) error {
		err := tx.Get(&session, `DELETE FROM sessions WHERE hash = ? AND once AND expires_at > ? RETURNING *`, hash, stamp.Now())
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		ok = err == nil
		return err
	})
	return session, ok, err
}

// EndSession forgets a session.
func (s *Store) EndSession(ctx context.Context, hash string) error {
	return s.exec(ctx, `DELETE FROM sessions WHERE hash = :hash`, map[string]any{"hash": hash})
}
