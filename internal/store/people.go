package store

import "context"

// HasUsers reports whether anybody may sign in.
func (s *Store) HasUsers(ctx context.Context) (bool, error) {
	var n int
	_, err := s.one(ctx, &n, `SELECT COUNT(*) FROM users`)
	return n > 0, err
}

// SetUser stores a user's password hash.
func (s *Store) SetUser(ctx context.Context, name, hash string) error {
	return s.exec(ctx, `INSERT INTO users (name, password) VALUES (:name, :hash) ON CONFLICT (name) DO UPDATE SET password = :hash`, map[string]any{"name": name, "hash": hash})
}

// UserHash gives a user's password hash; "" when there is no such user.
func (s *Store) UserHash(ctx context.Context, name string) (hash string, err error) {
	_, err = s.one(ctx, &hash, `SELECT password FROM users WHERE name = ?`, name)
	return hash, err
}

// Session is a signed-in person or a one-time link, by the hash of its token.
type Session struct {
	Hash      string `db:"hash"`
	User      string `db:"user"`
	Once      bool   `db:"once"`
	ExpiresAt Stamp  `db:"expires_at"`
}

// AddSession stores a session and forgets those that expired.
func (s *Store) AddSession(ctx context.Context, session Session) error {
	if err := s.exec(ctx, `DELETE FROM sessions WHERE expires_at < :now`, map[string]any{"now": Now()}); err != nil {
		return err
	}
	return s.exec(ctx, `INSERT INTO sessions (hash, user, once, expires_at) VALUES (:hash, :user, :once, :expires_at)`, session)
}

// EndSessionsOf forgets every session of a user.
func (s *Store) EndSessionsOf(ctx context.Context, user string) error {
	return s.exec(ctx, `DELETE FROM sessions WHERE user = :user`, map[string]any{"user": user})
}

// Session finds a session that has not expired; ok is false when there is none.
func (s *Store) Session(ctx context.Context, hash string) (session Session, ok bool, err error) {
	ok, err = s.one(ctx, &session, `SELECT * FROM sessions WHERE hash = ? AND expires_at > ?`, hash, Now())
	return session, ok, err
}

// EndSession forgets a session.
func (s *Store) EndSession(ctx context.Context, hash string) error {
	return s.exec(ctx, `DELETE FROM sessions WHERE hash = :hash`, map[string]any{"hash": hash})
}
