package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/stamp"
)

// Finding is what was found of a site or its segment, and with what it went away.
type Finding struct {
	ID     int64      `db:"id"`
	Of     string     `db:"of"`   // the entry, box or profile; "" for the site
	Code   string     `db:"code"` // with the field, where it is of one
	Level  string     `db:"level"`
	Text   string     `db:"text"`
	Since  stamp.Time `db:"since"`
	GoneAt stamp.Time `db:"gone_at"` // zero while it stands open
	Who    string     `db:"who"`     // did what took it away; "" if nobody knows
	What   string     `db:"what"`
}

// mostFindings are kept of a site; of more, the oldest that went away are forgotten.
const mostFindings = 5000

// Findings lists what was found, the oldest first.
func (s *Site) Findings(ctx context.Context) (list []Finding, err error) {
	err = s.in.all(ctx, &list, `SELECT id, of, code, level, text, since, gone_at, who, what FROM findings WHERE site = ? ORDER BY id`, s.ID)
	return list, err
}

// NoteFindings keeps what is found now: what is new, and that what is not found any more went
// with what somebody did.
func (s *Site) NoteFindings(ctx context.Context, now []Finding, who, what string) error {
	type mark struct{ of, code string }
	var open []Finding
	err := s.in.all(ctx, &open, `SELECT id, of, code, level, text FROM findings WHERE site = ? AND gone_at = 0`, s.ID)
	if err != nil {
		return err
	}
	was, is := map[mark]Finding{}, map[mark]bool{}
	for _, f := range open {
		was[mark{f.Of, f.Code}] = f
	}
	var fresh, changed, gone []Finding
	for _, f := range now {
		m := mark{f.Of, f.Code}
		before, known := was[m]
		switch {
		case is[m]: // one of a kind tells of all
		case !known:
			fresh = append(fresh, f)
		case before.Text != f.Text || before.Level != f.Level:
			f.ID = before.ID
			changed = append(changed, f)
		}
		is[m] = true
	}
	for _, f := range open {
		if !is[mark{f.Of, f.Code}] {
			gone = append(gone, f)
		}
	}
	if len(fresh)+len(changed)+len(gone) == 0 {
		return nil
	}
	at := stamp.Now()
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		for _, f := range gone {
			if _, err := tx.Exec(`UPDATE findings SET gone_at = ?, who = ?, what = ? WHERE id = ?`, at, who, what, f.ID); err != nil {
				return err
			}
		}
		for _, f := range changed {
			if _, err := tx.Exec(`UPDATE findings SET level = ?, text = ? WHERE id = ?`, f.Level, f.Text, f.ID); err != nil {
				return err
			}
		}
		for _, f := range fresh {
			if _, err := tx.Exec(`INSERT INTO findings (site, of, code, level, text, since) VALUES (?, ?, ?, ?, ?, ?)`, s.ID, f.Of, f.Code,
				f.Level, f.Text, at); err != nil {
				return err
			}
		}
		_, err := tx.Exec(`DELETE FROM findings WHERE gone_at <> 0 AND site = ? AND id <= (SELECT id FROM findings WHERE site = ?
			ORDER BY id DESC LIMIT 1 OFFSET ?)`, s.ID, s.ID, mostFindings)
		return err
	})
}
