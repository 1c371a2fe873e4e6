package store

import (
	"context"
	"encoding/json"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/address"
	"redstart/internal/core/check"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
)

// States of an entry.
const (
	Planned     = "planned"
	Matched     = "matched"
	Configuring = "configuring"
	Configured  = "configured"
	Verified    = "verified"
	Attention   = "needs attention"
)

// Entry is a line of the plan with what became of it.
type Entry struct {
	plan.Entry
	State      string      `json:"state"`
	Reason     string      `json:"reason"` // why it needs attention
	Device     address.MAC `json:"device"` // the matched box
	MatchedBy  string      `json:"matchedBy"`
	MatchedWhy string      `json:"matchedWhy"`
	Locked     bool        `json:"locked,omitempty"` // its match stays until somebody unlocks it
	CheckedAt  Stamp       `json:"checkedAt"`
	// Given are the values that its device was last configured with; nil before that.
	Given *procedure.Values `json:"-"`
}

// Set reports whether its device was configured.
func (e Entry) Set() bool { return e.State == Configured || e.State == Verified }

type entryRow struct {
	Tag, Doc, State, Reason, Given string
	Device                         address.MAC
	MatchedBy                      string `db:"matched_by"`
	MatchedWhy                     string `db:"matched_why"`
	Locked                         bool
	CheckedAt                      Stamp `db:"checked_at"`
}

const entryColumns = `tag, doc, state, reason, given, device, matched_by, matched_why, locked, checked_at`

func (r entryRow) entry() (Entry, error) {
	e := Entry{State: r.State, Reason: r.Reason, Device: r.Device, MatchedBy: r.MatchedBy, MatchedWhy: r.MatchedWhy, Locked: r.Locked, CheckedAt: r.CheckedAt}
	if r.Given != "" {
		e.Given = &procedure.Values{}
		if err := json.Unmarshal([]byte(r.Given), e.Given); err != nil {
			return e, err
		}
	}
	err := json.Unmarshal([]byte(r.Doc), &e.Entry)
	return e, err
}

// Entries lists the plan in its order.
func (s *Site) Entries(ctx context.Context) ([]Entry, error) {
	var rows []entryRow
	if err := s.db.SelectContext(ctx, &rows, `SELECT `+entryColumns+` FROM entries WHERE site = ? ORDER BY position`, s.ID); err != nil {
		return nil, err
	}
	list := make([]Entry, len(rows))
	for i, r := range rows {
		var err error
		if list[i], err = r.entry(); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// Entry gives one line of the plan.
func (s *Site) Entry(ctx context.Context, tag string) (Entry, error) {
	var r entryRow
	ok, err := s.one(ctx, &r, `SELECT `+entryColumns+` FROM entries WHERE site = ? AND tag = ?`, s.ID, tag)
	if err != nil {
		return Entry{}, err
	}
	if !ok {
		return Entry{}, problem.New(problem.Missing, "there is no such entry in the plan", "list the entries with: redstart plan list").About(tag)
	}
	return r.entry()
}

// SetMatch says which box an entry is; the zero MAC undoes that.
func (s *Site) SetMatch(ctx context.Context, tag string, mac address.MAC, by, why, who string) error {
	what, state := "matched with "+mac.String()+": "+why, Matched
	if mac.IsZero() {
		what, state = "match undone", Planned
	}
	return s.write(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.Exec(`UPDATE entries SET device = ?, matched_by = ?, matched_why = ?, state = ?, reason = '' WHERE site = ? AND tag = ?`, mac, by, why, state, s.ID, tag); err != nil {
			return err
		}
		return note(tx, s.ID, tag, Now(), who, what)
	})
}

// SetLocked keeps a match from being changed, or lets it be changed again.
func (s *Site) SetLocked(ctx context.Context, tag string, locked bool, who string) error {
	what := "match unlocked"
	if locked {
		what = "match locked"
	}
	return s.write(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.Exec(`UPDATE entries SET locked = ? WHERE site = ? AND tag = ?`, locked, s.ID, tag); err != nil {
			return err
		}
		return note(tx, s.ID, tag, Now(), who, what)
	})
}

// SetState moves an entry to a state; reason says why it needs attention.
func (s *Site) SetState(ctx context.Context, tag, state, reason, who string) error {
	what := state
	if reason != "" {
		what += ": " + reason
	}
	return s.write(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.Exec(`UPDATE entries SET state = ?, reason = ? WHERE site = ? AND tag = ?`, state, reason, s.ID, tag); err != nil {
			return err
		}
		return note(tx, s.ID, tag, Now(), who, what)
	})
}

// SetConfigured moves an entry to configured and keeps what its device was given.
func (s *Site) SetConfigured(ctx context.Context, tag string, given procedure.Values, who string) error {
	doc, err := json.Marshal(given)
	if err != nil {
		return err
	}
	return s.write(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.Exec(`UPDATE entries SET state = ?, reason = '', given = ? WHERE site = ? AND tag = ?`, Configured, string(doc), s.ID, tag); err != nil {
			return err
		}
		return note(tx, s.ID, tag, Now(), who, Configured)
	})
}

// SetChecks stores the checks of one verification and the state it leads to.
func (s *Site) SetChecks(ctx context.Context, tag string, list []check.Check, state, reason, who string) error {
	now := Now()
	what := state
	if reason != "" {
		what += ": " + reason
	}
	return s.write(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.Exec(`DELETE FROM checks WHERE site = ? AND tag = ?`, s.ID, tag); err != nil {
			return err
		}
		for i, c := range list {
			if _, err := tx.Exec(`INSERT INTO checks (site, tag, position, name, expected, observed, verdict, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
				s.ID, tag, i, c.Name, c.Expected, c.Observed, c.Verdict, Stamp{c.At}); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(`UPDATE entries SET state = ?, reason = ?, checked_at = ? WHERE site = ? AND tag = ?`, state, reason, now, s.ID, tag); err != nil {
			return err
		}
		return note(tx, s.ID, tag, now, who, what)
	})
}

// Checks gives an entry's last verification.
func (s *Site) Checks(ctx context.Context, tag string) ([]check.Check, error) {
	var rows []struct {
		Name, Expected, Observed, Verdict string
		At                                Stamp
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT name, expected, observed, verdict, at FROM checks WHERE site = ? AND tag = ? ORDER BY position`, s.ID, tag); err != nil {
		return nil, err
	}
	list := make([]check.Check, len(rows))
	for i, r := range rows {
		list[i] = check.Check{Name: r.Name, Expected: r.Expected, Observed: r.Observed, Verdict: r.Verdict, At: r.At.Time}
	}
	return list, nil
}

// Note is one line of an entry's history.
type Note struct {
	At   Stamp  `json:"at"`
	Who  string `json:"who"`
	What string `json:"what"`
}

func note(tx *sqlx.Tx, site int64, tag string, at Stamp, who, what string) error {
	_, err := tx.Exec(`INSERT INTO history (site, tag, at, who, what) VALUES (?, ?, ?, ?, ?)`, site, tag, at, who, what)
	return err
}

// AddNote adds a line to an entry's history.
func (s *Site) AddNote(ctx context.Context, tag, who, what string) error {
	return s.write(ctx, func(tx *sqlx.Tx) error { return note(tx, s.ID, tag, Now(), who, what) })
}

// History gives an entry's notes and journal, oldest first.
func (s *Site) History(ctx context.Context, tag string) ([]Note, error) {
	list := []Note{}
	err := s.db.SelectContext(ctx, &list, `SELECT at, who, what FROM (
		SELECT at, who, what, id, 0 AS sort FROM history WHERE site = ? AND tag = ?
		UNION ALL SELECT at, 'run ' || run, step || ' ' || phase || CASE detail WHEN '' THEN '' ELSE ': ' || detail END, id, 1 FROM journal WHERE run IN (SELECT id FROM runs WHERE site = ?) AND tag = ?)
		ORDER BY at, sort, id`, s.ID, tag, s.ID, tag)
	return list, err
}
