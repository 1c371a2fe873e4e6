package store

import (
	"context"
	"encoding/json"
	"net/netip"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/address"
	"redstart/internal/core/check"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
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
	CheckedAt  Stamp       `json:"checkedAt"`
}

type entryRow struct {
	Tag, Kind, Profile, Place, Address, Name, Serial, State, Reason string
	Position                                                        int
	MAC                                                             address.MAC `db:"mac"`
	Device                                                          address.MAC
	MatchedBy                                                       string `db:"matched_by"`
	MatchedWhy                                                      string `db:"matched_why"`
	CheckedAt                                                       Stamp  `db:"checked_at"`
}

func (r entryRow) entry() Entry {
	a, _ := netip.ParseAddr(r.Address)
	return Entry{plan.Entry{Tag: r.Tag, Kind: r.Kind, Profile: r.Profile, Place: r.Place, Address: a, Name: r.Name, MAC: r.MAC, Serial: r.Serial},
		r.State, r.Reason, r.Device, r.MatchedBy, r.MatchedWhy, r.CheckedAt}
}

// Site gives the site's data; the zero Site before any was set.
func (s *Store) Site(ctx context.Context) (site plan.Site, err error) {
	var doc string
	ok, err := s.one(ctx, &doc, `SELECT doc FROM sites WHERE id = 1`)
	if !ok || err != nil {
		return site, err
	}
	return site, json.Unmarshal([]byte(doc), &site)
}

// SetSite stores the site's data.
func (s *Store) SetSite(ctx context.Context, site plan.Site) error {
	doc, err := json.Marshal(site)
	if err != nil {
		return err
	}
	return s.exec(ctx, `INSERT INTO sites (id, doc) VALUES (1, :doc) ON CONFLICT (id) DO UPDATE SET doc = :doc`, map[string]any{"doc": string(doc)})
}

// Entries lists the plan in its order.
func (s *Store) Entries(ctx context.Context) ([]Entry, error) {
	var rows []entryRow
	if err := s.db.SelectContext(ctx, &rows, `SELECT * FROM entries ORDER BY position`); err != nil {
		return nil, err
	}
	list := make([]Entry, len(rows))
	for i, r := range rows {
		list[i] = r.entry()
	}
	return list, nil
}

// Entry gives one line of the plan.
func (s *Store) Entry(ctx context.Context, tag string) (Entry, error) {
	var r entryRow
	ok, err := s.one(ctx, &r, `SELECT * FROM entries WHERE tag = ?`, tag)
	if err == nil && !ok {
		err = problem.New(problem.Missing, "there is no such entry in the plan", "list the entries with: redstart plan list").About(tag)
	}
	return r.entry(), err
}

// AddEntries appends entries to the plan, all or none; with replace, the old
// plan goes first.
func (s *Store) AddEntries(ctx context.Context, entries []plan.Entry, replace bool, who string) error {
	now := Now()
	return s.write(ctx, func(tx *sqlx.Tx) error {
		if replace {
			if _, err := tx.Exec(`DELETE FROM entries`); err != nil {
				return err
			}
		}
		var last int
		if err := tx.Get(&last, `SELECT COALESCE(MAX(position), 0) FROM entries`); err != nil {
			return err
		}
		for i, e := range entries {
			row := entryRow{Tag: e.Tag, Kind: e.Kind, Profile: e.Profile, Place: e.Place, Address: e.Address.String(), Name: e.Name, MAC: e.MAC, Serial: e.Serial, State: Planned, Position: last + 1 + i}
			if _, err := tx.NamedExec(`INSERT INTO entries (tag, position, kind, profile, place, address, name, mac, serial, state)
				VALUES (:tag, :position, :kind, :profile, :place, :address, :name, :mac, :serial, :state)`, row); err != nil {
				return err
			}
			if err := note(tx, e.Tag, now, who, "planned at "+e.Address.String()); err != nil {
				return err
			}
		}
		return nil
	})
}

// SetMatch says which box an entry is; the zero MAC undoes that.
func (s *Store) SetMatch(ctx context.Context, tag string, mac address.MAC, by, why, who string) error {
	what, state := "matched with "+mac.String()+": "+why, Matched
	if mac.IsZero() {
		what, state = "match undone", Planned
	}
	return s.write(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.Exec(`UPDATE entries SET device = ?, matched_by = ?, matched_why = ?, state = ?, reason = '' WHERE tag = ?`, mac, by, why, state, tag); err != nil {
			return err
		}
		return note(tx, tag, Now(), who, what)
	})
}

// SetState moves an entry to a state; reason says why it needs attention.
func (s *Store) SetState(ctx context.Context, tag, state, reason, who string) error {
	what := state
	if reason != "" {
		what += ": " + reason
	}
	return s.write(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.Exec(`UPDATE entries SET state = ?, reason = ? WHERE tag = ?`, state, reason, tag); err != nil {
			return err
		}
		return note(tx, tag, Now(), who, what)
	})
}

// SetChecks stores the checks of one verification and the state it leads to.
func (s *Store) SetChecks(ctx context.Context, tag string, list []check.Check, state, reason, who string) error {
	now := Now()
	what := state
	if reason != "" {
		what += ": " + reason
	}
	return s.write(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.Exec(`DELETE FROM checks WHERE tag = ?`, tag); err != nil {
			return err
		}
		for i, c := range list {
			if _, err := tx.Exec(`INSERT INTO checks (tag, position, name, expected, observed, verdict, at) VALUES (?, ?, ?, ?, ?, ?, ?)`,
				tag, i, c.Name, c.Expected, c.Observed, c.Verdict, Stamp{c.At}); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(`UPDATE entries SET state = ?, reason = ?, checked_at = ? WHERE tag = ?`, state, reason, now, tag); err != nil {
			return err
		}
		return note(tx, tag, now, who, what)
	})
}

// Checks gives an entry's last verification.
func (s *Store) Checks(ctx context.Context, tag string) ([]check.Check, error) {
	var rows []struct {
		Name, Expected, Observed, Verdict string
		At                                Stamp
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT name, expected, observed, verdict, at FROM checks WHERE tag = ? ORDER BY position`, tag); err != nil {
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

func note(tx *sqlx.Tx, tag string, at Stamp, who, what string) error {
	_, err := tx.Exec(`INSERT INTO history (tag, at, who, what) VALUES (?, ?, ?, ?)`, tag, at, who, what)
	return err
}

// AddNote adds a line to an entry's history.
func (s *Store) AddNote(ctx context.Context, tag, who, what string) error {
	return s.write(ctx, func(tx *sqlx.Tx) error { return note(tx, tag, Now(), who, what) })
}

// History gives an entry's notes and journal, oldest first.
func (s *Store) History(ctx context.Context, tag string) ([]Note, error) {
	list := []Note{}
	err := s.db.SelectContext(ctx, &list, `SELECT at, who, what FROM (
		SELECT at, who, what, id, 0 AS sort FROM history WHERE tag = ?
		UNION ALL SELECT at, 'run ' || run, step || ' ' || phase || CASE detail WHEN '' THEN '' ELSE ': ' || detail END, id, 1 FROM journal WHERE tag = ?)
		ORDER BY at, sort, id`, tag, tag)
	return list, err
}
