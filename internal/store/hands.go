package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
)

// Acceptance says that a person accepted the terms of a model, for the whole site.
type Acceptance struct {
	Profile string     `db:"profile"`
	Terms   string     `db:"terms"`
	Who     string     `db:"who"`
	At      stamp.Time `db:"at"`
}

// Accepted gives who accepted terms of a model; ok is false while nobody did.
func (s *Site) Accepted(ctx context.Context, profile, terms string) (a Acceptance, ok bool, err error) {
	ok, err = s.in.one(ctx, &a, `SELECT profile, terms, who, at FROM terms WHERE site = ? AND profile = ? AND terms = ?`,
		s.ID, profile, terms)
	return a, ok, err
}

// AllAccepted gives all terms that were accepted at the site, the latest first.
func (s *Site) AllAccepted(ctx context.Context) ([]Acceptance, error) {
	list := []Acceptance{}
	err := s.in.all(ctx, &list, `SELECT profile, terms, who, at FROM terms WHERE site = ? ORDER BY at DESC`, s.ID)
	return list, err
}

// Accept notes that a person accepted terms. Who accepted them first stands.
func (s *Site) Accept(ctx context.Context, a Acceptance) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.Exec(`INSERT INTO terms (site, profile, terms, who, at) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT DO NOTHING`, s.ID, a.Profile, a.Terms, a.Who, a.At)
		return err
	})
}

// TakeHand notes who is at what devices of a run wait for; "": nobody any more. All or none.
func (s *Site) TakeHand(ctx context.Context, run int64, tags []string, who string) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		for _, tag := range tags {
			r, err := tx.Exec(`UPDATE run_devices SET hand_who = ? WHERE run = ? AND tag = ? AND state = ?`, who, run, tag,
				state.Parked)
			if err != nil {
				return err
			}
			if n, err := r.RowsAffected(); err != nil || n == 0 {
				return problem.New(problem.Conflict, "it waits for nobody's hand",
					"those that do: redstart commission hands").About(tag)
			}
		}
		return nil
	})
}
