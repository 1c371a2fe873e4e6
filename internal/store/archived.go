package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
)

// Snapshot writes the records as they are at one moment to a new file, while work goes on.
func (s *Store) Snapshot(ctx context.Context, path string) error {
	_, err := s.db.ExecContext(ctx, `VACUUM INTO ?`, path)
	return s.explained(err)
}

// KeepingFiles calls do while no file of a site goes away.
func (s *Store) KeepingFiles(do func(folder string) error) error {
	s.sweeping.Lock()
	defer s.sweeping.Unlock()
	return do(s.filesDir())
}

// moved are the tables that go with a site, each with the column that says of which site it is,
// or of which run or revision of the site.
var moved = []struct{ table, of string }{
	{"entries", "site"}, {"devices", "site"}, {"checks", "site"}, {"history", "site"}, {"files", "site"}, {"terms", "site"},
	{"host_ids", "site"}, {"surveys", "site"}, {"handovers", "site"}, {"findings", "site"}, {"revisions", "site"}, {"edits", "revision"}, {"runs", "site"},
	{"run_devices", "run"}, {"journal", "run"},
}

// ofBoxes are the tables that tell of boxes, whatever the site.
var ofBoxes = []string{"device_states", "servers"}

// boxesOf are the boxes that a site found, or has in its plan.
const boxesOf = `(SELECT mac FROM devices WHERE site = ? UNION SELECT device FROM entries WHERE site = ? AND device <> '')`

// Boxes lists the boxes that the site found, or has in its plan.
func (s *Site) Boxes(ctx context.Context) (list []address.MAC, err error) {
	err = s.in.all(ctx, &list, `SELECT mac FROM `+boxesOf+` ORDER BY mac`, s.ID, s.ID)
	return list, err
}

// SecretTokens lists what stands for the site's secrets.
func (s *Site) SecretTokens(ctx context.Context) (list []string, err error) {
	err = s.in.all(ctx, &list, `SELECT token FROM secrets WHERE site = ? ORDER BY token`, s.ID)
	return list, err
}

// Snapshot writes the records of the site alone to a new file: without people, secrets and
// other sites.
func (s *Site) Snapshot(ctx context.Context, path string) error {
	if err := s.in.Snapshot(ctx, path); err != nil {
		return err
	}
	db, err := openFile(path)
	if err != nil {
		return err
	}
	statements := []string{
		`DELETE FROM edits WHERE revision NOT IN (SELECT id FROM revisions WHERE site = :site)`,
		`DELETE FROM journal WHERE run NOT IN (SELECT id FROM runs WHERE site = :site)`,
		`DELETE FROM run_devices WHERE run NOT IN (SELECT id FROM runs WHERE site = :site)`,
		`UPDATE surveys SET capture = ''`, // they are sealed for this service
	}
	for _, table := range ofBoxes {
		statements = append(statements, `DELETE FROM `+table+` WHERE mac NOT IN (SELECT mac FROM devices WHERE site = :site
			UNION SELECT device FROM entries WHERE site = :site)`)
	}
	for _, table := range []string{"tokens", "sessions", "users", "credentials", "secrets", "keyring", "lost_keys", "signing", "captures", "lookouts"} {
		statements = append(statements, `DELETE FROM `+table)
	}
	for _, m := range slices.Backward(moved) {
		if m.of == "site" {
			statements = append(statements, `DELETE FROM `+m.table+` WHERE site <> :site`)
		}
	}
	statements = append(statements, `DELETE FROM sites WHERE id <> :site`, `VACUUM`)
	for _, statement := range statements {
		if _, err := db.NamedExecContext(ctx, statement, map[string]any{"site": s.ID}); err != nil {
			return errors.Join(fmt.Errorf("%s: %w", statement, plainly(err)), db.Close())
		}
	}
	return db.Close()
}

// openFile opens a file of records that no service uses. It leaves no other file beside it.
func openFile(path string) (*sqlx.DB, error) {
	db, err := sqlx.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(10000)&_pragma=foreign_keys(ON)&_pragma=secure_delete(ON)&_pragma=trusted_schema(OFF)")
	if err == nil {
		db.SetMaxOpenConns(1)
	}
	return db, err
}

// Archived are the records of one site that came in a file.
type Archived struct {
	*Site
	Name string
}

// Sound says whether a file holds records that this service, or a later one, can open.
func Sound(ctx context.Context, path string) error {
	db, err := openFile(path)
	if err != nil {
		return err
	}
	s := &Store{db: db}
	return errors.Join(s.sound(ctx), db.Close())
}

func (s *Store) sound(ctx context.Context) error {
	wrong := problem.New(problem.Usage, "the records in it cannot be read: they are damaged, or of a later version",
		"get the file anew, or take a newer Redstart")
	var sound string
	if err := s.db.GetContext(ctx, &sound, `PRAGMA quick_check(1)`); err != nil || sound != "ok" {
		return wrong.Because(fmt.Errorf("%s: %v", sound, err))
	}
	// What is in the file runs nowhere.
	var odd int
	if err := s.db.GetContext(ctx, &odd, `SELECT COUNT(*) FROM sqlite_master WHERE type IN ('trigger', 'view')`); err != nil || odd > 0 {
		return wrong.Because(fmt.Errorf("%d triggers and views: %v", odd, err))
	}
	version, newest, err := s.versions(ctx)
	if err != nil || version > newest {
		return wrong.Because(fmt.Errorf("records of version %d, this service has %d: %v", version, newest, err))
	}
	return nil
}

// OpenArchived opens records of one site, of this version or an earlier one.
func OpenArchived(ctx context.Context, path string) (*Archived, error) {
	db, err := openFile(path)
	if err != nil {
		return nil, err
	}
	aside := &Archived{Site: &Site{in: &Store{db: db, dir: filepath.Dir(path)}}}
	if err := aside.in.sound(ctx); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	damaged := func(err error) error {
		return errors.Join(problem.New(problem.Usage, "the site in it cannot be read", "get the file anew").Because(err), db.Close())
	}
	if err := aside.in.migrate(ctx); err != nil {
		return nil, damaged(err)
	}
	sites, err := aside.in.Sites(ctx)
	if err != nil || len(sites) != 1 {
		return nil, damaged(fmt.Errorf("it holds %d sites: %v", len(sites), err))
	}
	of, err := aside.in.At(ctx, sites[0].Key)
	if err != nil {
		return nil, damaged(err)
	}
	return &Archived{Site: of, Name: sites[0].Name}, nil
}

// Close closes the file.
func (a *Archived) Close() error { return a.in.db.Close() }

// Incoming is a site that comes with its secrets, which TakeIn has sealed.
type Incoming struct {
	Tokens      map[string]string // what stands for each secret there, and from now on
	Secrets     map[string][]byte // sealed, by what stands for them from now on
	KeyID       string            // of the vault
	Credentials []Credential      // sealed, with the numbers that they had
}

// TakeIn brings a site in with everything of it, all or nothing. sealed gives its secrets, sealed,
// once the number of the site is known.
func (s *Store) TakeIn(ctx context.Context, a *Archived, key string, who string,
	sealed func(site int64) (Incoming, error)) (*Site, error) {
	site := &Site{in: s, Key: key}
	return site, s.write(ctx, func(tx *sqlx.Tx) error {
		var doc, columns string
		if err := a.in.db.QueryRowxContext(ctx, `SELECT doc, columns FROM sites WHERE id = ?`, a.ID).Scan(&doc, &columns); err != nil {
			return err
		}
		done, err := tx.Exec(`INSERT INTO sites (key, doc, columns) VALUES (?, '{}', ?)`, key, columns)
		if err != nil {
			return err
		}
		if site.ID, err = done.LastInsertId(); err != nil {
			return err
		}
		comes, err := sealed(site.ID)
		if err != nil {
			return err
		}
		entries, err := a.Entries(ctx)
		if err != nil {
			return err
		}
		tags := map[address.MAC]string{}
		for _, e := range entries {
			tags[e.Device] = e.Tag
		}
		var pairs []string
		for _, token := range slices.Sorted(maps.Keys(comes.Tokens)) {
			pairs = append(pairs, token, comes.Tokens[token])
		}
		var opened []address.MAC
		if err := tx.Select(&opened, `SELECT DISTINCT mac FROM credentials WHERE state = ?`, state.Accepted); err != nil {
			return err
		}
		for _, c := range comes.Credentials {
			// What this service saw open a box goes on to count as that.
			if c.State == state.Accepted && slices.Contains(opened, c.MAC) {
				c.State = state.Pending
			}
			done, err := tx.NamedExec(addCredential, c)
			if err != nil {
				return err
			}
			number, err := done.LastInsertId()
			if err != nil {
				return err
			}
			pairs = append(pairs, renumbered(tags[c.MAC], c.ID, number)...)
		}
		anew := strings.NewReplacer(pairs...)
		if doc, err = withKey(anew.Replace(doc), key); err != nil {
			return err
		}
		if _, err := tx.Exec(`UPDATE sites SET doc = ? WHERE id = ?`, doc, site.ID); err != nil {
			return err
		}
		numbers := map[string]map[int64]int64{"site": {a.ID: site.ID}, "revision": {}, "run": {}}
		for _, m := range moved {
			if err := copyRows(ctx, a.in.db, tx, m.table, m.of, numbers, anew); err != nil {
				return fmt.Errorf("%s: %w", m.table, err)
			}
		}
		for from, to := range numbers["revision"] {
			if _, err := tx.Exec(`UPDATE revisions SET undoes = ? WHERE site = ? AND undoes = ?`, -to, site.ID, from); err != nil {
				return err
			}
		}
		for _, statement := range []string{`UPDATE revisions SET undoes = -undoes WHERE site = ? AND undoes < 0`,
			`UPDATE runs SET state = '` + state.Interrupted + `', cause = 'it came with the site from another service' WHERE site = ? AND state IN ('` + state.Running + `', '` + state.Parked + `')`} {
			if _, err := tx.Exec(statement, site.ID); err != nil {
				return err
			}
		}
		for token, secret := range comes.Secrets {
			if _, err := tx.Exec(`INSERT INTO secrets (token, site, sealed, made_at, key_id) VALUES (?, ?, ?, ?, ?)`, token, site.ID,
				secret, stamp.Now(), comes.KeyID); err != nil {
				return err
			}
		}
		for _, table := range ofBoxes {
			if err := copyRows(ctx, a.in.db, tx, table, "", nil, anew); err != nil {
				return fmt.Errorf("%s: %w", table, err)
			}
		}
		return note(tx, site.ID, "", stamp.Now(), who, "site taken in from another service")
	})
}

// renumbered says how what stands for a login of an entry's device is written from now on, in
// settings and in tables, which are JSON in JSON.
func renumbered(tag string, from, to int64) (pairs []string) {
	if tag == "" {
		return nil
	}
	// With the quotation mark at its end: 1 is not 12.
	was, is := fmt.Sprintf(`%s%s %d"`, plan.EntryLogin, tag, from), fmt.Sprintf(`%s%s %d"`, plan.EntryLogin, tag, to)
	for range 3 {
		pairs = append(pairs, was, is)
		a, errA := json.Marshal(was)
		b, errB := json.Marshal(is)
		if errA != nil || errB != nil {
			return pairs
		}
		was, is = string(a[1:len(a)-1]), string(b[1:len(b)-1])
	}
	return pairs
}

// withKey gives a site's document another key.
func withKey(doc, key string) (string, error) {
	var all map[string]json.RawMessage
	if err := json.Unmarshal([]byte(doc), &all); err != nil {
		return "", err
	}
	text, err := json.Marshal(key)
	if err != nil {
		return "", err
	}
	all["key"] = text
	out, err := json.Marshal(all)
	return string(out), err
}

// copyRows copies the rows of a table in their order, under the new numbers of what they belong
// to; rows that have a number get one, which numbers remembers. What is there already of a box
// stays as it is.
func copyRows(ctx context.Context, from *sqlx.DB, to *sqlx.Tx, table, of string, numbers map[string]map[int64]int64,
	anew *strings.Replacer) error {
	rows, err := from.QueryxContext(ctx, `SELECT * FROM `+table+` ORDER BY rowid`)
	if err != nil {
		return err
	}
	defer rows.Close()
	// The file may have columns of any name: none but ours go into a statement.
	var ours []string
	if err := to.Select(&ours, `SELECT name FROM pragma_table_info(?)`, table); err != nil {
		return err
	}
	for rows.Next() {
		row := map[string]any{}
		if err := rows.MapScan(row); err != nil {
			return err
		}
		if of != "" {
			old, _ := row[of].(int64)
			number, known := numbers[of][old]
			if !known {
				return fmt.Errorf("a row of %s %d, which is not there", of, old)
			}
			row[of] = number
		}
		id, numbered := row["id"].(int64)
		if numbered {
			delete(row, "id")
		}
		var names []string
		var values []any
		for _, name := range slices.Sorted(maps.Keys(row)) {
			if !slices.Contains(ours, name) {
				return fmt.Errorf("a column %.40q, which is none", name)
			}
			value := row[name]
			if text, ok := value.(string); ok {
				value = anew.Replace(text)
			}
			names, values = append(names, name), append(values, value)
		}
		or := ""
		if of == "" {
			or = " OR IGNORE"
		}
		done, err := to.Exec(`INSERT`+or+` INTO `+table+` (`+strings.Join(names, ", ")+`) VALUES (?`+
			strings.Repeat(", ?", len(names)-1)+`)`, values...)
		if err != nil {
			return err
		}
		if kind := map[string]string{"revisions": "revision", "runs": "run"}[table]; kind != "" && numbered {
			if numbers[kind][id], err = done.LastInsertId(); err != nil {
				return err
			}
		}
	}
	return rows.Err()
}
