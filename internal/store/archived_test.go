package store_test

import (
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"redstart/internal/core/plan"
	"redstart/internal/store"
)

// left gives the records of one site in a file of their own.
func left(t *testing.T) string {
	t.Helper()
	s := open(t, t.TempDir())
	site := at(t, s, "quay")
	if err := add(site, []plan.Entry{{Tag: "CAM-1"}, {Tag: "CAM-2"}}); err != nil {
		t.Fatal(err)
	}
	if err := add(at(t, s, "other"), []plan.Entry{{Tag: "DOOR-1"}}); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "left.db")
	if err := site.Snapshot(ctx, path); err != nil {
		t.Fatal(err)
	}
	return path
}

// A site that comes in a file holds itself alone, and comes whole; records that mean harm do not
// come at all.
func TestRecordsThatComeInAFile(t *testing.T) {
	path := left(t)
	content, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(string(content), "DOOR-1") {
		t.Error("another site is in it")
	}
	here := open(t, t.TempDir())
	take := func(path, key string) error {
		a, err := store.OpenArchived(ctx, path)
		if err != nil {
			return err
		}
		_, err = here.TakeIn(ctx, a, key, "ida", func(int64) (store.Incoming, error) { return store.Incoming{}, nil })
		return errors.Join(err, a.Close())
	}
	if err := take(path, "quay"); err != nil {
		t.Fatal(err)
	}
	if list, err := at(t, here, "quay").Entries(ctx); err != nil || len(list) != 2 || list[1].Tag != "CAM-2" {
		t.Errorf("%v, %v", list, err)
	}
	for name, statement := range map[string]string{
		"a trigger":        `CREATE TRIGGER t AFTER INSERT ON history BEGIN DELETE FROM entries; END`,
		"a view":           `CREATE VIEW v AS SELECT 1`,
		"another column":   `ALTER TABLE entries ADD COLUMN "state) SELECT 1 --" TEXT NOT NULL DEFAULT ''`,
		"a row of nobody":  `PRAGMA foreign_keys = OFF; UPDATE entries SET site = 77`,
		"no site":          `PRAGMA foreign_keys = OFF; DELETE FROM sites`,
		"a later version":  `INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)`,
		"a table too few":  `PRAGMA foreign_keys = OFF; DROP TABLE checks`,
		"a site of no doc": `UPDATE sites SET doc = 'nonsense'`,
	} {
		bad := left(t)
		db, err := sql.Open("sqlite", bad)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := db.Exec(statement); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if err := db.Close(); err != nil {
			t.Fatal(err)
		}
		if err := take(bad, "bad"); err == nil {
			t.Errorf("%s is taken in", name)
		}
		if _, err := here.At(ctx, "bad"); err == nil {
			t.Errorf("%s: something half made is left", name)
		}
	}
	for name, text := range map[string]string{"no records": "tag,kind", "half of them": string(content[:len(content)/2]), "nothing": ""} {
		bad := filepath.Join(t.TempDir(), "bad.db")
		if err := os.WriteFile(bad, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := take(bad, "bad"); err == nil {
			t.Errorf("%s: taken in", name)
		}
	}
}
