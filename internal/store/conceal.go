package store

import (
	"context"
	"encoding/json"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/plan"
	"redstart/internal/core/procedure"
)

// Remembered is one record of the settings of an entry: as the plan has or had them, or as its
// device was given them.
type Remembered struct {
	Tag      string            `json:"tag"`
	Profile  string            `json:"profile"`
	Settings map[string]string `json:"settings"`
}

// remembered are the documents that hold settings of a site's entries; site is the only parameter.
const remembered = `SELECT tag, '' AS profile, doc FROM entries WHERE site = :site
	UNION ALL SELECT tag, '', given FROM entries WHERE site = :site AND given <> ''
	UNION ALL SELECT tag, profile, given FROM run_devices WHERE run IN (SELECT id FROM runs WHERE site = :site)
	UNION ALL SELECT '', '', before FROM edits WHERE object = 'entry' AND before <> ''
		AND revision IN (SELECT id FROM revisions WHERE site = :site)
	UNION ALL SELECT '', '', after FROM edits WHERE object = 'entry' AND after <> ''
		AND revision IN (SELECT id FROM revisions WHERE site = :site)`

// EverPlanned lists all records of settings of the site's entries.
func (s *Site) EverPlanned(ctx context.Context) ([]Remembered, error) {
	rows, err := s.in.db.NamedQueryContext(ctx, remembered, map[string]any{"site": s.ID})
	if err != nil {
		return nil, s.in.explained(err)
	}
	defer rows.Close()
	var list []Remembered
	for rows.Next() {
		var tag, of, doc string
		if err := rows.Scan(&tag, &of, &doc); err != nil {
			return nil, s.in.explained(err)
		}
		p := Remembered{Tag: tag, Profile: of}
		if err := json.Unmarshal([]byte(doc), &p); err != nil {
			return nil, err
		}
		if len(p.Settings) > 0 {
			list = append(list, p)
		}
	}
	return list, s.in.explained(rows.Err())
}

// Concealed is a setting of an entry that turned out to be, or to hold, a secret.
type Concealed struct {
	Tag, Key string
	Was, Now string // its text, and the one with what stands for the secret
	Whole    bool   // all of it is the secret: it is no table
}

// Conceal puts what stands for secrets in the place of their texts, in the plan, in its history
// and in whatever else is kept of the site. It is no change of the plan.
func (s *Site) Conceal(ctx context.Context, list []Concealed) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		for _, c := range list {
			if err := s.concealDocs(tx, c); err != nil {
				return err
			}
			if !c.Whole {
				continue
			}
			for _, statement := range []string{
				`UPDATE history SET what = REPLACE(what, ?, '•••') WHERE site = ? AND tag = ?`,
				`UPDATE checks SET expected = REPLACE(expected, ?, '•••') WHERE site = ? AND tag = ?`,
				`UPDATE checks SET observed = REPLACE(observed, ?, '•••') WHERE site = ? AND tag = ?`,
				`UPDATE entries SET reason = REPLACE(reason, ?, '•••') WHERE site = ? AND tag = ?`,
				`UPDATE journal SET detail = REPLACE(detail, ?, '•••') WHERE run IN (SELECT id FROM runs WHERE site = ?) AND tag = ?`,
			} {
				if _, err := tx.Exec(statement, c.Was, s.ID, c.Tag); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

func (s *Site) concealDocs(tx *sqlx.Tx, c Concealed) error {
	inPlan := func(doc string) (string, error) {
		var e plan.Entry
		if err := json.Unmarshal([]byte(doc), &e); err != nil {
			return "", err
		}
		if e.Tag != c.Tag || e.Settings[c.Key] != c.Was {
			return doc, nil
		}
		e.Settings[c.Key] = c.Now
		return docOf(&e)
	}
	given := func(doc string) (string, error) {
		var v procedure.Values
		if err := json.Unmarshal([]byte(doc), &v); err != nil {
			return "", err
		}
		if v.Settings[c.Key] != c.Was {
			return doc, nil
		}
		v.Settings[c.Key] = c.Now
		if c.Whole {
			delete(v.Settings, c.Key)
			if v.Secrets == nil {
				v.Secrets = map[string]string{}
			}
			v.Secrets[c.Key] = c.Now
		}
		return docOf(&v)
	}
	const ofRevisions = ` WHERE object = 'entry' AND revision IN (SELECT id FROM revisions WHERE site = ?) AND `
	for _, d := range []struct {
		table, column, where string
		args                 []any
		with                 func(string) (string, error)
	}{
		{"entries", "doc", ` WHERE site = ? AND tag = ?`, []any{s.ID, c.Tag}, inPlan},
		{"entries", "given", ` WHERE given <> '' AND site = ? AND tag = ?`, []any{s.ID, c.Tag}, given},
		{"run_devices", "given", ` WHERE run IN (SELECT id FROM runs WHERE site = ?) AND tag = ?`, []any{s.ID, c.Tag}, given},
		{"edits", "before", ofRevisions + `before <> ''`, []any{s.ID}, inPlan},
		{"edits", "after", ofRevisions + `after <> ''`, []any{s.ID}, inPlan},
	} {
		var docs []struct {
			Row int64  `db:"at_row"`
			Doc string `db:"doc"`
		}
		if err := tx.Select(&docs, `SELECT rowid AS at_row, `+d.column+` AS doc FROM `+d.table+d.where, d.args...); err != nil {
			return err
		}
		for _, doc := range docs {
			text, err := d.with(doc.Doc)
			if err != nil {
				return err
			}
			if text == doc.Doc {
				continue
			}
			if _, err := tx.Exec(`UPDATE `+d.table+` SET `+d.column+` = ? WHERE rowid = ?`, text, doc.Row); err != nil {
				return err
			}
		}
	}
	return nil
}
