package store

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"
	"errors"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
)

// Handover is something that was handed over.
type Handover struct {
	ID       int64      `db:"id"`
	At       stamp.Time `db:"at"`
	Who      string     `db:"who"`
	Taker    string     `db:"taker"`
	What     string     `db:"what"`
	SHA256   string     `db:"sha256"` // of the file, in hexadecimal digits
	Register []byte     `db:"register"`
}

// AddHandover keeps what was handed over.
func (s *Site) AddHandover(ctx context.Context, h Handover) (id int64, err error) {
	err = s.in.write(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.Exec(`INSERT INTO handovers (site, at, who, taker, what, sha256, register) VALUES (?, ?, ?, ?, ?, ?, ?)`,
			s.ID, h.At, h.Who, h.Taker, h.What, h.SHA256, h.Register)
		if err != nil {
			return err
		}
		id, err = done.LastInsertId()
		return err
	})
	return id, err
}

// Handovers lists what was handed over of the site, the latest first, without the values of then.
func (s *Site) Handovers(ctx context.Context) (list []Handover, err error) {
	err = s.in.all(ctx, &list, `SELECT id, at, who, taker, what, sha256, x'' AS register FROM handovers WHERE site = ? ORDER BY id DESC`,
		s.ID)
	return list, err
}

// Handover gives one of them; 0 is the latest.
func (s *Site) Handover(ctx context.Context, id int64) (h Handover, err error) {
	ok, err := s.in.one(ctx, &h, `SELECT id, at, who, taker, what, sha256, register FROM handovers
		WHERE site = ? AND (id = ? OR ? = 0) ORDER BY id DESC LIMIT 1`, s.ID, id, id)
	switch {
	case err != nil || ok:
	case id == 0:
		err = problem.New(problem.Missing, "nothing was handed over yet", "hand over: redstart handover package FILE --to NAME")
	default:
		err = problem.New(problem.Missing, "there is no such hand-over of this site", "list them: redstart handover given")
	}
	return h, err
}

// SigningKey gives the key that records are signed with (Ed25519, RFC 8032), made when there
// is none.
func (s *Store) SigningKey(ctx context.Context) (ed25519.PrivateKey, error) {
	var seed []byte
	ok, err := s.one(ctx, &seed, `SELECT seed FROM signing`)
	if err != nil {
		return nil, err
	}
	if !ok {
		err = s.write(ctx, func(tx *sqlx.Tx) error {
			switch err := tx.Get(&seed, `SELECT seed FROM signing`); {
			case err == nil:
				return nil
			case !errors.Is(err, sql.ErrNoRows):
				return err
			}
			seed = make([]byte, ed25519.SeedSize)
			_, _ = rand.Read(seed) // never fails
			_, err := tx.Exec(`INSERT INTO signing (id, seed) VALUES (1, ?)`, seed)
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	if len(seed) != ed25519.SeedSize {
		return nil, errors.New("the key that records are signed with is damaged")
	}
	return ed25519.NewKeyFromSeed(seed), nil
}

// LastLine tells when the journal of the site was written last.
func (s *Site) LastLine(ctx context.Context) (at stamp.Time, err error) {
	_, err = s.in.one(ctx, &at, `SELECT at FROM journal WHERE run IN (SELECT id FROM runs WHERE site = ?) ORDER BY id DESC LIMIT 1`, s.ID)
	return at, err
}

// Lines gives the journal of all runs of the site, oldest first.
func (s *Site) Lines(ctx context.Context) (list []Line, err error) {
	err = s.in.all(ctx, &list, `SELECT run, tag, mac, step, phase, detail, at FROM journal
		WHERE run IN (SELECT id FROM runs WHERE site = ?) ORDER BY id`, s.ID)
	return list, err
}
