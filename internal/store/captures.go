package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
)

// Capture is the packets of a run or a verification that kept them.
type Capture struct {
	ID   int64      `db:"id"`
	At   stamp.Time `db:"at"`
	Who  string     `db:"who"`
	What string     `db:"what"`
	File string     `db:"file"` // its name in the folder of captures
}

// AddCapture keeps that there is one.
func (s *Site) AddCapture(ctx context.Context, c Capture) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.Exec(`INSERT INTO captures (site, at, who, what, file) VALUES (?, ?, ?, ?, ?)`, s.ID, c.At, c.Who, c.What, c.File)
		return err
	})
}

// Captures lists them, the latest first.
func (s *Site) Captures(ctx context.Context) (list []Capture, err error) {
	err = s.in.all(ctx, &list, `SELECT id, at, who, what, file FROM captures WHERE site = ? ORDER BY id DESC`, s.ID)
	return list, err
}

// Capture gives one of them.
func (s *Site) Capture(ctx context.Context, id int64) (c Capture, err error) {
	ok, err := s.in.one(ctx, &c, `SELECT id, at, who, what, file FROM captures WHERE site = ? AND id = ?`, s.ID, id)
	if err == nil && !ok {
		err = problem.New(problem.Missing, "no packets are kept with this number", "list them: redstart handover packets")
	}
	return c, err
}

// ForgetCapture forgets that there is one.
func (s *Site) ForgetCapture(ctx context.Context, id int64) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.Exec(`DELETE FROM captures WHERE site = ? AND id = ?`, s.ID, id)
		return err
	})
}
