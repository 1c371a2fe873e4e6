package store

import (
	"context"

	"redstart/internal/core/stamp"
)

// Lookout is when the service looks by itself whether a site is as it was, and what it found.
type Lookout struct {
	Doc      string     `db:"doc"`      // when, at what, whom to tell; JSON
	Register []byte     `db:"register"` // the values that are compared with where nothing was handed over
	Seen     string     `db:"seen"`     // the devices on the segment then; JSON
	LookedAt stamp.Time `db:"looked_at"`
	Changed  string     `db:"changed"` // what is not as it was; JSON
	HookSum  string     `db:"told"`    // sum of what the hook was told last
}

// Lookout gives that of the site; ok is false where there is none.
func (s *Site) Lookout(ctx context.Context) (l Lookout, ok bool, err error) {
	ok, err = s.in.one(ctx, &l, `SELECT doc, register, seen, looked_at, changed, told FROM lookouts WHERE site = ?`, s.ID)
	return l, ok, err
}

// SetLookout keeps one in the place of the one before.
func (s *Site) SetLookout(ctx context.Context, l Lookout) error {
	return s.in.exec(ctx, `INSERT INTO lookouts (site, doc, register, seen, looked_at, changed, told)
			VALUES (:site, :doc, :register, :seen, :at, :changed, :told)
		ON CONFLICT (site) DO UPDATE SET doc = :doc, register = :register, seen = :seen, looked_at = :at, changed = :changed, told = :told`,
		map[string]any{"site": s.ID, "doc": l.Doc, "register": l.Register, "seen": l.Seen, "at": l.LookedAt, "changed": l.Changed,
			"told": l.HookSum})
}

// ForgetLookout ends it.
func (s *Site) ForgetLookout(ctx context.Context) error {
	return s.in.exec(ctx, `DELETE FROM lookouts WHERE site = :site`, map[string]any{"site": s.ID})
}
