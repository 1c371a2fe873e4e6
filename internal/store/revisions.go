package store

import (
	"context"
	"encoding/json"
	"math"
	"slices"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
)

// Revision is one act of a person on plan, subnets or policies.
type Revision struct {
	ID   int64      `db:"id"`
	At   stamp.Time `db:"at"`
	Who  string     `db:"who"`
	What string     `db:"what"`
	Name string     `db:"name"` // given by a person; "" for most
	// Undoes is the revision that this one takes back; 0 for none. One that takes back
	// an undoing is a redoing.
	Undoes int64 `db:"undoes"`
}

// Steps tells which revision an undoing takes back now, and which undoing a redoing
// does; 0 for none. list is latest first.
func Steps(list []Revision) (undo, redo int64) {
	dead, wasUndoing, mayRedo := map[int64]bool{}, map[int64]bool{}, true
	for _, r := range list {
		wasUndoing[r.ID] = r.Undoes != 0
	}
	for _, r := range list {
		switch {
		case dead[r.ID]:
			continue
		case r.Undoes != 0:
			dead[r.Undoes] = true
			if wasUndoing[r.Undoes] {
				continue // a redoing: what it brought back is in force
			}
			if mayRedo && redo == 0 {
				redo = r.ID
			}
			continue
		}
		if undo == 0 {
			undo = r.ID
		}
		mayRedo = false
	}
	return undo, redo
}

// Edit is one change of a revision: of the site's data (Site, with what was
// before in WasSite) or of an entry. A nil Before is a new entry, a nil After
// one that is gone.
type Edit struct {
	Site, WasSite *plan.Site
	Before, After *plan.Entry
	Position      int // of an entry that was removed; 0: at the end
}

// Changes are what one act of a person changes at once.
type Changes struct {
	Edits   []Edit
	Undoes  int64             // the revision that they take back
	Matches []Match           // of the entries as they are after the edits
	Columns map[string]string // to remember: how those of an imported file were mapped
}

// Revise makes changes and their revision, all or none.
func (s *Site) Revise(ctx context.Context, who, what string, c Changes) (Revision, error) {
	r := Revision{Who: who, What: what, Undoes: c.Undoes}
	err := s.in.write(ctx, func(tx *sqlx.Tx) (err error) {
		if r, err = s.revise(tx, r, c.Edits); err != nil {
			return err
		}
		if len(c.Columns) > 0 {
			if err := s.addColumns(tx, c.Columns); err != nil {
				return err
			}
		}
		return s.setMatches(tx, c.Matches, who)
	})
	return r, err
}

func (s *Site) revise(tx *sqlx.Tx, r Revision, edits []Edit) (Revision, error) {
	r.At = stamp.Now()
	result, err := tx.Exec(`INSERT INTO revisions (site, at, who, what, undoes) VALUES (?, ?, ?, ?, ?)`, s.ID, r.At,
		r.Who, r.What, r.Undoes)
	if err != nil {
		return r, err
	}
	if r.ID, err = result.LastInsertId(); err != nil {
		return r, err
	}
	var last int
	if err := tx.Get(&last, `SELECT COALESCE(MAX(position), 0) FROM entries WHERE site = ?`, s.ID); err != nil {
		return r, err
	}
	// Removals come first: a tag that becomes free may be taken in the same act.
	slices.SortStableFunc(edits, func(a, b Edit) int { return weight(a) - weight(b) })
	called := map[string]string{} // by its tag before, what an entry is called now
	for _, e := range edits {
		if e.Before != nil && e.After != nil {
			called[e.Before.Tag] = e.After.Tag
		}
	}
	for _, e := range edits {
		if err := s.edit(tx, r, e, &last); err != nil {
			return r, err
		}
		if e.Before != nil && e.After != nil {
			if err := s.elsewhere(tx, *e.Before, *e.After, called); err != nil {
				return r, err
			}
		}
	}
	return r, nil
}

// elsewhere lets go of what was seen of an entry that hangs behind another box than before, or is another
// part there; what it was given and the plan says otherwise is compared with that. called gives what an
// entry is called now, by its tag before.
func (s *Site) elsewhere(tx *sqlx.Tx, before, after plan.Entry, called map[string]string) error {
	if now, renamed := called[before.Behind]; renamed {
		before.Behind = now
	}
	given := "given = ''"
	switch {
	case before.Behind != after.Behind:
		given = "TRUE"
	case before.Behind == "" || before.Part == after.Part && before.Serial == after.Serial && before.Profile == after.Profile:
		return nil
	}
	r, err := tx.Exec(`UPDATE entries SET state = ?, reason = '', given = '', unseen = '[]', checked_at = 0
		WHERE site = ? AND tag = ? AND device = '' AND state <> ? AND `+given, state.Planned, s.ID, after.Tag, state.Configuring)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return err
	}
	_, err = tx.Exec(`DELETE FROM checks WHERE site = ? AND tag = ?`, s.ID, after.Tag)
	return err
}

func weight(e Edit) int {
	if e.Before != nil && e.After == nil {
		return 0
	}
	return 1
}

func docOf[T any](v *T) (string, error) {
	if v == nil {
		return "", nil
	}
	doc, err := json.Marshal(v)
	return string(doc), err
}

func (s *Site) edit(tx *sqlx.Tx, r Revision, e Edit, last *int) error {
	if e.Site != nil {
		before, err := docOf(e.WasSite)
		if err != nil {
			return err
		}
		after, err := docOf(e.Site)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(`UPDATE sites SET doc = ?, key = ? WHERE id = ?`, after, e.Site.Key, s.ID); err != nil {
			return err
		}
		_, err = tx.Exec(`INSERT INTO edits (revision, object, before, after) VALUES (?, 'site', ?, ?)`, r.ID, before,
			after)
		return err
	}
	before, err := docOf(e.Before)
	if err != nil {
		return err
	}
	after, err := docOf(e.After)
	if err != nil {
		return err
	}
	position := e.Position
	switch {
	case e.After == nil:
		if err := tx.Get(&position, `SELECT position FROM entries WHERE site = ? AND tag = ?`, s.ID,
			e.Before.Tag); err != nil {
			return err
		}
		for _, table := range []string{"entries", "checks"} {
			if _, err := tx.Exec(`DELETE FROM `+table+` WHERE site = ? AND tag = ?`, s.ID, e.Before.Tag); err != nil {
				return err
			}
		}
		err = note(tx, s.ID, e.Before.Tag, r.At, r.Who, "taken out of the plan: "+r.What)
	case e.Before == nil:
		if position == 0 {
			*last++
			position = *last
		}
		if _, err := tx.Exec(`INSERT INTO entries (site, tag, position, doc, state) VALUES (?, ?, ?, ?, ?)`, s.ID,
			e.After.Tag, position, after, state.Planned); err != nil {
			return err
		}
		where := "planned"
		if e.After.Address.IsValid() {
			where += " at " + e.After.Address.String()
		}
		err = note(tx, s.ID, e.After.Tag, r.At, r.Who, where)
	default:
		err = s.alter(tx, r, *e.Before, *e.After, after)
	}
	if err != nil {
		return err
	}
	_, err = tx.Exec(`INSERT INTO edits (revision, object, position, before, after) VALUES (?, 'entry', ?, ?, ?)`, r.ID,
		position, before, after)
	return err
}

// alter changes an entry; its records follow when its tag changes.
func (s *Site) alter(tx *sqlx.Tx, r Revision, before, after plan.Entry, doc string) error {
	if _, err := tx.Exec(`UPDATE entries SET tag = ?, doc = ? WHERE site = ? AND tag = ?`, after.Tag, doc, s.ID,
		before.Tag); err != nil {
		return err
	}
	if after.Tag != before.Tag {
		for _, statement := range []string{
			`UPDATE checks SET tag = ? WHERE site = ? AND tag = ?`,
			`UPDATE history SET tag = ? WHERE site = ? AND tag = ?`,
			`UPDATE journal SET tag = ? WHERE run IN (SELECT id FROM runs WHERE site = ?) AND tag = ?`,
			`UPDATE run_devices SET tag = ? WHERE run IN (SELECT id FROM runs WHERE site = ?) AND tag = ?`,
		} {
			if _, err := tx.Exec(statement, after.Tag, s.ID, before.Tag); err != nil {
				return err
			}
		}
	}
	for _, c := range plan.Differences(before, after) {
		if err := note(tx, s.ID, after.Tag, r.At, r.Who, c.String()); err != nil {
			return err
		}
	}
	return nil
}

// Revisions lists what was changed, latest first; limit 0 means all.
func (s *Site) Revisions(ctx context.Context, limit int) ([]Revision, error) {
	if limit <= 0 {
		limit = -1
	}
	list := []Revision{}
	err := s.in.all(ctx, &list,
		`SELECT id, at, who, what, name, undoes FROM revisions WHERE site = ? ORDER BY id DESC LIMIT ?`, s.ID, limit)
	return list, err
}

// LastRevision gives the number of the site's latest revision.
func (s *Site) LastRevision(ctx context.Context) (id int64, err error) {
	_, err = s.in.one(ctx, &id, `SELECT COALESCE(MAX(id), 0) FROM revisions WHERE site = ?`, s.ID)
	return id, err
}

// Revision gives one revision.
func (s *Site) Revision(ctx context.Context, id int64) (r Revision, err error) {
	ok, err := s.in.one(ctx, &r, `SELECT id, at, who, what, name, undoes FROM revisions WHERE site = ? AND id = ?`, s.ID,
		id)
	if err == nil && !ok {
		err = problem.New(problem.Missing, "there is no such revision", "list them with: redstart plan history")
	}
	return r, err
}

// NameRevision gives a revision a name, or takes it away.
func (s *Site) NameRevision(ctx context.Context, id int64, name string) error {
	return s.in.exec(ctx, `UPDATE revisions SET name = :name WHERE site = :site AND id = :id`,
		map[string]any{"name": name, "site": s.ID, "id": id})
}

// EditsBetween gives the edits of every revision after one, up to another, latest
// first; 0 as the last is now.
func (s *Site) EditsBetween(ctx context.Context, after, last int64) ([]Edit, error) {
	var rows []struct {
		Object, Before, After string
		Position              int
	}
	if last == 0 {
		last = math.MaxInt64
	}
	if err := s.in.all(ctx, &rows,
		`SELECT e.object, e.before, e.after, e.position FROM edits e JOIN revisions r ON r.id = e.revision
			WHERE r.site = ? AND r.id > ? AND r.id <= ?
			ORDER BY e.id DESC`, s.ID, after, last); err != nil {
		return nil, err
	}
	list := make([]Edit, len(rows))
	for i, row := range rows {
		e := &list[i]
		e.Position = row.Position
		var err error
		if row.Object == "site" {
			if e.WasSite, err = docTo[plan.Site](row.Before); err == nil {
				e.Site, err = docTo[plan.Site](row.After)
			}
		} else if e.Before, err = docTo[plan.Entry](row.Before); err == nil {
			e.After, err = docTo[plan.Entry](row.After)
		}
		if err != nil {
			return nil, err
		}
	}
	return list, nil
}

func docTo[T any](doc string) (*T, error) {
	if doc == "" {
		return nil, nil
	}
	v := new(T)
	return v, json.Unmarshal([]byte(doc), v)
}
