package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/result"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
)

// Entry is a line of the plan with what became of it.
type Entry struct {
	plan.Entry
	State      string
	Reason     string      // why it needs attention
	Device     address.MAC // the matched box
	MatchedBy  string
	MatchedWhy string
	Locked     bool // its match stays until somebody unlocks it
	CheckedAt  stamp.Time
	// Unseen names the checks that nobody could take when its device was last
	// looked at.
	Unseen []string
	// Hand tells who marked its device as set by hand, and when.
	HandBy string
	HandAt stamp.Time
	// Given are the values that its device was last configured with; nil before that.
	Given *procedure.Values
}

// Set reports whether its device was configured.
func (e Entry) Set() bool { return e.State == state.Configured || e.State == state.Verified }

type entryRow struct {
	Tag, Doc, State, Reason, Given string
	Device                         address.MAC
	MatchedBy                      string `db:"matched_by"`
	MatchedWhy                     string `db:"matched_why"`
	Locked                         bool
	CheckedAt                      stamp.Time `db:"checked_at"`
	Unseen                         string
	HandBy                         string     `db:"hand_by"`
	HandAt                         stamp.Time `db:"hand_at"`
}

const entryColumns = `tag, doc, state, reason, given, device, matched_by, matched_why, locked, checked_at, unseen, hand_by, hand_at`

func (r entryRow) entry() (Entry, error) {
	e := Entry{State: r.State, Reason: r.Reason, Device: r.Device, MatchedBy: r.MatchedBy, MatchedWhy: r.MatchedWhy,
		Locked: r.Locked, CheckedAt: r.CheckedAt, HandBy: r.HandBy, HandAt: r.HandAt}
	if err := json.Unmarshal([]byte(r.Unseen), &e.Unseen); err != nil {
		return e, err
	}
	if r.Given != "" {
		e.Given = &procedure.Values{}
		if err := json.Unmarshal([]byte(r.Given), e.Given); err != nil {
			return e, err
		}
	}
	err := json.Unmarshal([]byte(r.Doc), &e.Entry)
	return e, err
}

// Entries lists the plan in its order. What the entries point at is shared with other readers.
func (s *Site) Entries(ctx context.Context) ([]Entry, error) {
	return listed(ctx, s.decoded().entries, func(r *placed) Entry { return r.Entry })
}

// EntriesSince gives the entries that were written since a version, as they were and as they are;
// not ok where that is not known any more, or entries came, went or moved.
func (s *Site) EntriesSince(version uint64) (before, after []Entry, ok bool) {
	was, is, ok := s.decoded().entries.since(version)
	for i := range is {
		before, after = append(before, was[i].Entry), append(after, is[i].Entry)
	}
	return before, after, ok
}

func (s *Site) entryRows() *rows[placed] {
	return &rows[placed]{order: func(a, b placed) int { return cmp.Or(cmp.Compare(a.position, b.position), cmp.Compare(a.Tag, b.Tag)) },
		read: func(ctx context.Context, ids []int64) ([]row[placed], error) {
			query, args := `SELECT rowid, position, `+entryColumns+` FROM entries WHERE site = ?`, []any{s.ID}
			if ids != nil {
				query, args = query+` AND rowid IN (SELECT value FROM json_each(?))`, append(args, named(ids))
			}
			var list []struct {
				entryRow
				ID       int64 `db:"rowid"`
				Position int
			}
			if err := s.in.all(ctx, &list, query, args...); err != nil {
				return nil, err
			}
			out := make([]row[placed], len(list))
			for i, r := range list {
				e, err := r.entry()
				if err != nil {
					return nil, err
				}
				out[i] = row[placed]{r.ID, placed{e, r.Position}}
			}
			return out, nil
		}}
}

// Entry gives one line of the plan.
func (s *Site) Entry(ctx context.Context, tag string) (Entry, error) {
	var r entryRow
	ok, err := s.in.one(ctx, &r, `SELECT `+entryColumns+` FROM entries WHERE site = ? AND tag = ?`, s.ID, tag)
	if err != nil {
		return Entry{}, err
	}
	if !ok {
		return Entry{}, problem.New(problem.Missing, "there is no such entry in the plan",
			"list the entries with: redstart plan list").About(tag)
	}
	return r.entry()
}

// Match says which box an entry is from now on; the zero MAC undoes that.
type Match struct {
	Tag string
	Was address.MAC // the box that it was when this was decided
	MAC address.MAC
	By  string // one of match.Reasons
	Why string
}

// SetMatches changes matches, all or none. One that was changed by somebody else
// since refuses them all. What an earlier box was given and showed goes with it.
func (s *Site) SetMatches(ctx context.Context, list []Match, who string) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error { return s.setMatches(tx, list, who) })
}

func (s *Site) setMatches(tx *sqlx.Tx, list []Match, who string) error {
	// First everything is undone: boxes may change places.
	for _, m := range list {
		if err := touched(m.Tag)(tx.Exec(`UPDATE entries SET device = '', matched_by = '', matched_why = '', state = ?, reason = '', given = '', unseen = '[]', hand_by = '', hand_at = 0, checked_at = 0
			WHERE site = ? AND tag = ? AND device = ? AND state <> ?`,
			state.Planned, s.ID, m.Tag, m.Was, state.Configuring)); err != nil {
			return err
		}
		if _, err := tx.Exec(`DELETE FROM checks WHERE site = ? AND tag = ?`, s.ID, m.Tag); err != nil {
			return err
		}
	}
	if err := s.partsAnew(tx, list); err != nil {
		return err
	}
	now := stamp.Now()
	for _, m := range list {
		what := "match undone"
		if m.MAC.IsZero() { // by a person, who may say so that it shows another identity than before
			if _, err := tx.Exec(`DELETE FROM servers WHERE mac = ?`, m.Was); err != nil {
				return err
			}
		} else {
			what = "matched with " + m.MAC.String() + ": " + m.Why
			if _, err := tx.Exec(`UPDATE entries SET device = ?, matched_by = ?, matched_why = ?, state = ?
			WHERE site = ? AND tag = ?`, m.MAC, m.By, m.Why, state.Matched, s.ID, m.Tag); err != nil {
				return err
			}
		}
		if err := note(tx, s.ID, m.Tag, now, who, what); err != nil {
			return err
		}
	}
	return nil
}

// partsAnew forgets what the earlier boxes of entries showed of what hangs behind them.
func (s *Site) partsAnew(tx *sqlx.Tx, list []Match) error {
	var tags []string
	for _, m := range list {
		if !m.Was.IsZero() {
			tags = append(tags, m.Tag)
		}
	}
	if len(tags) == 0 {
		return nil
	}
	boxes, err := json.Marshal(tags)
	if err != nil {
		return err
	}
	const behind = `site = ? AND json_extract(doc, '$.behind') IN (SELECT value FROM json_each(?))`
	if _, err := tx.Exec(`DELETE FROM checks WHERE site = ? AND tag IN (SELECT tag FROM entries WHERE `+behind+`)`, s.ID,
		s.ID, string(boxes)); err != nil {
		return err
	}
	_, err = tx.Exec(`UPDATE entries SET state = ?, reason = '', given = '', unseen = '[]', checked_at = 0 WHERE `+behind,
		state.Planned, s.ID, string(boxes))
	return err
}

// SetLocked keeps matches from being changed, or lets them be changed again, all
// or none.
func (s *Site) SetLocked(ctx context.Context, tags []string, locked bool, who string) error {
	what := "match unlocked"
	if locked {
		what = "match locked"
	}
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		for _, tag := range tags {
			if err := touched(tag)(tx.Exec(`UPDATE entries SET locked = ? WHERE site = ? AND tag = ? AND (device <> '' OR NOT ?)`, locked, s.ID, tag, locked)); err != nil {
				return err
			}
			if err := note(tx, s.ID, tag, stamp.Now(), who, what); err != nil {
				return err
			}
		}
		return nil
	})
}

// errAnew is returned, about an entry, when it does not have the box any more
// that was looked at or set.
var errAnew = problem.New(problem.Conflict, "the entry was changed or matched anew meanwhile",
	"look at it, and do it again")

// touched makes a statement that changed no row the error that its entry is no
// longer what it was.
func touched(tag string) func(sql.Result, error) error {
	return func(r sql.Result, err error) error {
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); n > 0 || err != nil {
			return err
		}
		return errAnew.About(tag)
	}
}

func stated(to, reason string) string {
	if reason != "" {
		return to + ": " + reason
	}
	return to
}

// SetState moves an entry that has a box to a state; reason says why it needs
// attention. Nothing is written when it has another box by now.
func (s *Site) SetState(ctx context.Context, tag string, mac address.MAC, to, reason, who string) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		if err := touched(tag)(tx.Exec(`UPDATE entries SET state = ?, reason = ? WHERE site = ? AND tag = ? AND device = ?`, to, reason, s.ID, tag, mac)); err != nil {
			return err
		}
		return note(tx, s.ID, tag, stamp.Now(), who, stated(to, reason))
	})
}

// SetConfigured moves an entry to configured and keeps what its box was given.
// Nothing is written when it has another box by now.
func (s *Site) SetConfigured(ctx context.Context, tag string, mac address.MAC, given procedure.Values,
	who string) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		return s.configured(tx, HandSet{tag, mac, given}, "", stamp.Time{}, state.Configured, who)
	})
}

// HandSet is an entry whose box a person set by hand, to what is given.
type HandSet struct {
	Tag   string
	MAC   address.MAC
	Given procedure.Values
}

// SetByHand moves entries to configured that a person set by hand, all or none.
func (s *Site) SetByHand(ctx context.Context, list []HandSet, who string) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		for _, h := range list {
			if err := s.configured(tx, h, who, stamp.Now(), "marked as set by hand", who); err != nil {
				return err
			}
		}
		return nil
	})
}

func (s *Site) configured(tx *sqlx.Tx, h HandSet, by string, at stamp.Time, what, who string) error {
	doc, err := json.Marshal(h.Given)
	if err != nil {
		return err
	}
	if err := touched(h.Tag)(tx.Exec(`UPDATE entries SET state = ?, reason = '', unseen = '[]', given = ?, hand_by = ?, hand_at = ?
			WHERE site = ? AND tag = ? AND device = ?`, state.Configured, string(doc), by, at, s.ID, h.Tag, h.MAC)); err != nil {
		return err
	}
	return note(tx, s.ID, h.Tag, stamp.Now(), who, what)
}

// SetChecks stores the checks of one verification of a box and the state they
// lead to, with the names of those that nobody could take. Nothing is written
// when the entry has another box by now.
func (s *Site) SetChecks(ctx context.Context, tag string, mac address.MAC, list []result.Check, to, reason,
	who string) error {
	now := stamp.Now()
	unseen, err := json.Marshal(result.NotLooked(list))
	if err != nil {
		return err
	}
	what := stated(to, reason)
	if n := len(result.NotLooked(list)); n > 0 && to != state.Attention {
		what += "; not looked at: " + strings.Join(result.NotLooked(list), ", ")
	}
	insert, err := keep(s.in,
		`INSERT INTO checks (site, tag, position, name, expected, observed, verdict, rests_on, at, untold)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, s.in.db.Preparex)
	if err != nil {
		return err
	}
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		if err := touched(tag)(tx.Exec(`UPDATE entries SET state = ?, reason = ?, unseen = ?, checked_at = ?
			WHERE site = ? AND tag = ? AND device = ? AND state <> ?`,
			to, reason, string(unseen), now, s.ID, tag, mac, state.Configuring)); err != nil {
			return err
		}
		if _, err := tx.Exec(`DELETE FROM checks WHERE site = ? AND tag = ?`, s.ID, tag); err != nil {
			return err
		}
		for i, c := range list {
			if _, err := tx.Stmtx(insert).Exec(s.ID, tag, i, c.Name, c.Expected, c.Observed, c.Verdict.String(), c.By,
				stamp.Time{Time: c.At}, c.Untold); err != nil {
				return err
			}
		}
		if who == TheService {
			return noteAgain(tx, s.ID, tag, now, what)
		}
		return note(tx, s.ID, tag, now, who, what)
	})
}

// Say notes that somebody says of a check that nothing can look at that it is so, or takes it back,
// and gives the state that follows.
func (s *Site) Say(ctx context.Context, tag string, mac address.MAC, check, word string, so bool, who string) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		var rows []checkRow
		if err := tx.Select(&rows, checksOf, s.ID, tag, tag); err != nil {
			return err
		}
		list := byTag(rows)[tag]
		at := slices.IndexFunc(list, func(c result.Check) bool { return c.Name == check })
		switch {
		case at < 0:
			return problem.New(problem.Missing, "it has no such check",
				"look which there are: redstart verify "+tag).About(tag + ", " + check)
		case !list[at].Untold || list[at].Verdict == result.Passed || list[at].Verdict == result.Failed:
			return problem.New(problem.Conflict, "that can be looked at, and a word does not stand above a look",
				"look: redstart verify "+tag).About(tag + ", " + check)
		}
		now, what := stamp.Now(), "takes back what was said of "+check
		list[at].Verdict, list[at].By = result.NotLookedAt, ""
		if so {
			list[at].Verdict, list[at].By, what = result.Said, word, fmt.Sprintf("says that %s is %s", check, list[at].Expected)
		}
		if _, err := tx.Exec(`UPDATE checks SET verdict = ?, rests_on = ?, at = ? WHERE site = ? AND tag = ? AND name = ?`,
			list[at].Verdict.String(), list[at].By, now, s.ID, tag, check); err != nil {
			return err
		}
		unseen, err := json.Marshal(result.NotLooked(list))
		if err != nil {
			return err
		}
		to := state.Configured
		if result.Verified(list) {
			to = state.Verified
		}
		if err := touched(tag)(tx.Exec(`UPDATE entries SET unseen = ?, state = CASE WHEN state IN (?, ?) THEN ? ELSE state END
			WHERE site = ? AND tag = ? AND device = ? AND state <> ?`, string(unseen), state.Configured, state.Verified, to,
			s.ID, tag, mac, state.Configuring)); err != nil {
			return err
		}
		return note(tx, s.ID, tag, now, who, what)
	})
}

// unsay lets go of what was said of an entry whose box is set anew.
func (s *Site) unsay(tx *sqlx.Tx, tag string) error {
	_, err := tx.Exec(`UPDATE checks SET verdict = ?, rests_on = '' WHERE site = ? AND tag = ? AND verdict = ?`,
		result.NotLookedAt.String(), s.ID, tag, result.Said.String())
	return err
}

// SayDone notes by whose word something was done that nothing can look at, before it is verified.
func (s *Site) SayDone(ctx context.Context, tag string, mac address.MAC, c result.Check) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.Exec(`DELETE FROM checks WHERE site = ? AND tag = ? AND name = ?`, s.ID, tag, c.Name); err != nil {
			return err
		}
		return touched(tag)(tx.Exec(`INSERT INTO checks (site, tag, position, name, expected, observed, verdict, rests_on, at, untold)
			SELECT site, tag, 1 + COALESCE((SELECT MAX(position) FROM checks c WHERE c.site = e.site AND c.tag = e.tag), 0), ?, ?, ?, ?, ?, ?, ?
			FROM entries e WHERE site = ? AND tag = ? AND device = ?`, c.Name, c.Expected, c.Observed, c.Verdict.String(), c.By,
			stamp.Time{Time: c.At}, c.Untold, s.ID, tag, mac))
	})
}

// Checks gives an entry's last verification.
func (s *Site) Checks(ctx context.Context, tag string) ([]result.Check, error) {
	all, err := s.checks(ctx, tag)
	return append([]result.Check{}, all[tag]...), err
}

// AllChecks gives the last verification of every entry, by tag.
func (s *Site) AllChecks(ctx context.Context) (map[string][]result.Check, error) {
	return s.checks(ctx, "")
}

// checks gives the last verification of an entry, or of all for "".
func (s *Site) checks(ctx context.Context, tag string) (map[string][]result.Check, error) {
	var rows []checkRow
	if err := s.in.all(ctx, &rows, checksOf, s.ID, tag, tag); err != nil {
		return nil, err
	}
	return byTag(rows), nil
}

const checksOf = `SELECT tag, name, expected, observed, verdict, rests_on, at, untold FROM checks
	WHERE site = ? AND (tag = ? OR ? = '') ORDER BY tag, position`

type checkRow struct {
	Tag, Name, Expected, Observed, Verdict string
	By                                     string `db:"rests_on"`
	At                                     stamp.Time
	Untold                                 bool
}

func byTag(rows []checkRow) map[string][]result.Check {
	list := map[string][]result.Check{}
	for _, r := range rows {
		c := result.Check{Name: r.Name, Expected: r.Expected, Observed: r.Observed, By: r.By, At: r.At.Time, Untold: r.Untold}
		_ = c.Verdict.UnmarshalText([]byte(r.Verdict)) // what it does not know was not looked at
		list[r.Tag] = append(list[r.Tag], c)
	}
	return list
}

// Note is one line of an entry's history.
type Note struct {
	At   stamp.Time
	Who  string
	What string
	// Wrong says that it tells of something that failed.
	Wrong bool
}

func note(tx *sqlx.Tx, site int64, tag string, at stamp.Time, who, what string) error {
	_, err := tx.Exec(`INSERT INTO history (site, tag, at, who, what) VALUES (?, ?, ?, ?, ?)`, site, tag, at, who, what)
	return err
}

// TheService is who acts when nobody asked.
const TheService = "the service"

// noteAgain notes what the service saw by itself. While it sees the same night after night that is
// one line, of the last time.
func noteAgain(tx *sqlx.Tx, site int64, tag string, at stamp.Time, what string) error {
	r, err := tx.Exec(`UPDATE history SET at = ? WHERE id = (SELECT MAX(id) FROM history WHERE site = ? AND tag = ?) AND who = ? AND what = ?`,
		at, site, tag, TheService, what)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return note(tx, site, tag, at, TheService, what)
}

// AddNote adds a line to an entry's history.
func (s *Site) AddNote(ctx context.Context, tag, who, what string) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error { return note(tx, s.ID, tag, stamp.Now(), who, what) })
}

// AddNotes notes the same of several entries, all or none.
func (s *Site) AddNotes(ctx context.Context, tags []string, who, what string) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		now := stamp.Now()
		for _, tag := range tags {
			if err := note(tx, s.ID, tag, now, who, what); err != nil {
				return err
			}
		}
		return nil
	})
}

// Act is what somebody did about an entry.
type Act struct {
	At   stamp.Time `db:"at"`
	Tag  string     `db:"tag"`
	Who  string     `db:"who"`
	What string     `db:"what"`
}

// Acts lists what people did about entries, oldest first, without what runs and revisions tell.
func (s *Site) Acts(ctx context.Context) (list []Act, err error) {
	err = s.in.all(ctx, &list, `SELECT at, tag, who, what FROM history h WHERE site = ? AND who NOT LIKE 'run %' AND NOT EXISTS
		(SELECT 1 FROM revisions r WHERE r.site = h.site AND r.at = h.at AND r.who = h.who) ORDER BY at, id`, s.ID)
	return list, err
}

// History gives an entry's notes and journal, oldest first.
func (s *Site) History(ctx context.Context, tag string) ([]Note, error) {
	list := []Note{}
	err := s.in.all(ctx, &list, `SELECT at, who, what, wrong FROM (
		SELECT at, who, what, what LIKE '`+state.Attention+`%' AS wrong, id, 0 AS sort FROM history WHERE site = ? AND tag = ?
		UNION ALL SELECT at, 'run ' || run, step || ' ' || phase || CASE detail WHEN '' THEN '' ELSE ': ' || detail END, phase = 'failed', id, 1 FROM journal WHERE run IN (SELECT id FROM runs WHERE site = ?) AND tag = ?)
		ORDER BY at, sort, id`, s.ID, tag, s.ID, tag)
	return list, err
}
