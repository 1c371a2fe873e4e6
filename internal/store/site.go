package store

import (
	"context"
	"encoding/json"
	"maps"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
)

// Site is the records of one site. What belongs to boxes whatever the site,
// such as their credentials, is the Store's.
type Site struct {
	in  *Store
	ID  int64
	Key string
}

// Sites lists the sites' data, oldest first.
func (s *Store) Sites(ctx context.Context) ([]plan.Site, error) {
	var docs []string
	if err := s.all(ctx, &docs, `SELECT doc FROM sites ORDER BY id`); err != nil {
		return nil, err
	}
	list := make([]plan.Site, len(docs))
	for i, doc := range docs {
		if err := json.Unmarshal([]byte(doc), &list[i]); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// At opens the records of a site by its key.
func (s *Store) At(ctx context.Context, key string) (*Site, error) {
	site := &Site{in: s, Key: key}
	ok, err := s.one(ctx, &site.ID, `SELECT id FROM sites WHERE key = ?`, key)
	if err == nil && !ok {
		err = problem.New(problem.Missing, "there is no such site",
			"list the sites with: redstart site list").About(key)
	}
	return site, err
}

// Watched lists the keys of the sites whose segment is to be watched.
func (s *Store) Watched(ctx context.Context) (keys []string, err error) {
	err = s.all(ctx, &keys, `SELECT key FROM sites WHERE watched ORDER BY id`)
	return keys, err
}

// SetWatched keeps whether the site's segment is to be watched.
func (s *Site) SetWatched(ctx context.Context, on bool) error {
	return s.in.exec(ctx, `UPDATE sites SET watched = :on WHERE id = :site`, map[string]any{"site": s.ID, "on": on})
}

// Use is which segment a site names; "" for none.
type Use struct {
	Site    int64 `db:"id"`
	Key     string
	Segment string
}

// Uses gives the segment that each site names.
func (s *Store) Uses(ctx context.Context) (list []Use, err error) {
	err = s.all(ctx, &list, `SELECT id, key, segment FROM sites ORDER BY id`)
	return list, err
}

// SetUse has a site use a segment.
func (s *Store) SetUse(ctx context.Context, site int64, segment string) error {
	return s.exec(ctx, `UPDATE sites SET segment = :name WHERE id = :site`, map[string]any{"site": site, "name": segment})
}

// Of opens the records of the site that a run belongs to.
func (s *Store) Of(ctx context.Context, run int64) (*Site, error) {
	site := &Site{in: s}
	var row struct {
		ID  int64
		Key string
	}
	ok, err := s.one(ctx, &row, `SELECT id, key FROM sites WHERE id = (SELECT site FROM runs WHERE id = ?)`, run)
	if err == nil && !ok {
		err = problem.New(problem.Missing, "there is no such run", "")
	}
	site.ID, site.Key = row.ID, row.Key
	return site, err
}

// SiteMade is the revision with which every site begins.
const SiteMade = "site made"

// AddSite makes a new site. Its key must be new.
func (s *Store) AddSite(ctx context.Context, data plan.Site, who string) (*Site, error) {
	if _, err := s.At(ctx, data.Key); problem.KindOf(err) != problem.Missing {
		return nil, problem.New(problem.Conflict, "there is a site with this key already",
			"choose another key").About(data.Key).Because(err)
	}
	site := &Site{in: s, Key: data.Key}
	return site, s.write(ctx, func(tx *sqlx.Tx) error {
		result, err := tx.Exec(`INSERT INTO sites (key, doc) VALUES (?, '{}')`, data.Key)
		if err != nil {
			return err
		}
		if site.ID, err = result.LastInsertId(); err != nil {
			return err
		}
		_, err = site.revise(tx, Revision{Who: who, What: SiteMade}, []Edit{{Site: &data}})
		return err
	})
}

// Remove forgets a site with everything of it. Credentials of boxes stay.
func (s *Site) Remove(ctx context.Context) error {
	s.in.sweeping.Lock()
	defer s.in.sweeping.Unlock()
	err := s.in.write(ctx, func(tx *sqlx.Tx) error {
		for _, statement := range []string{
			`DELETE FROM edits WHERE revision IN (SELECT id FROM revisions WHERE site = ?)`,
			`DELETE FROM journal WHERE run IN (SELECT id FROM runs WHERE site = ?)`,
			`DELETE FROM run_devices WHERE run IN (SELECT id FROM runs WHERE site = ?)`,
			`DELETE FROM revisions WHERE site = ?`, `DELETE FROM runs WHERE site = ?`,
			`DELETE FROM checks WHERE site = ?`,
			`DELETE FROM history WHERE site = ?`, `DELETE FROM entries WHERE site = ?`,
			`DELETE FROM devices WHERE site = ?`, `DELETE FROM surveys WHERE site = ?`,
			`DELETE FROM files WHERE site = ?`, `DELETE FROM terms WHERE site = ?`,
			`DELETE FROM host_ids WHERE site = ?`, `DELETE FROM handovers WHERE site = ?`, `DELETE FROM captures WHERE site = ?`, `DELETE FROM lookouts WHERE site = ?`,
			`DELETE FROM findings WHERE site = ?`, `DELETE FROM secrets WHERE site = ?`, `DELETE FROM sites WHERE id = ?`,
		} {
			if _, err := tx.Exec(statement, s.ID); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return s.in.sweep()
}

// Data gives the site's own data.
func (s *Site) Data(ctx context.Context) (data plan.Site, err error) {
	var doc string
	ok, err := s.in.one(ctx, &doc, `SELECT doc FROM sites WHERE id = ?`, s.ID)
	if err == nil && !ok {
		err = problem.New(problem.Missing, "the site is gone", "").About(s.Key)
	}
	if err != nil {
		return data, err
	}
	err = json.Unmarshal([]byte(doc), &data)
	return data, err
}

// Columns gives how the columns of imported files were mapped before: header to field.
func (s *Site) Columns(ctx context.Context) (map[string]string, error) {
	var doc string
	m := map[string]string{}
	if _, err := s.in.one(ctx, &doc, `SELECT columns FROM sites WHERE id = ?`, s.ID); err != nil {
		return nil, err
	}
	err := json.Unmarshal([]byte(doc), &m)
	return m, err
}

// addColumns remembers how columns were mapped, beside what is remembered.
func (s *Site) addColumns(tx *sqlx.Tx, columns map[string]string) error {
	var doc string
	if err := tx.Get(&doc, `SELECT columns FROM sites WHERE id = ?`, s.ID); err != nil {
		return err
	}
	known := map[string]string{}
	if err := json.Unmarshal([]byte(doc), &known); err != nil {
		return err
	}
	maps.Copy(known, columns)
	all, err := json.Marshal(known)
	if err != nil {
		return err
	}
	_, err = tx.Exec(`UPDATE sites SET columns = ? WHERE id = ?`, string(all), s.ID)
	return err
}
