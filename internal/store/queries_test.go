package store

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

var statement = regexp.MustCompile("(?s)`((?:SELECT|UPDATE|DELETE|INSERT)[^`]*)`")

// small are tables that have a few rows whatever the size of a site.
var small = map[string]bool{"sites": true, "users": true, "sessions": true, "tokens": true, "keyring": true, "lost_keys": true,
	"signing": true, "probe": true, "lookouts": true}

// No query that is written here scans a table that grows: each finds its rows by an index.
func TestQueriesGoByAnIndex(t *testing.T) {
	ctx := context.Background()
	s, err := Open(ctx, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	looked := 0
	for _, file := range files {
		// What is read of a file that was opened aside is read once, whole.
		if strings.HasSuffix(file, "_test.go") || file == "archived.go" {
			continue
		}
		source, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		text := strings.ReplaceAll(string(source), "`+entryColumns+`", entryColumns)
		for _, m := range statement.FindAllStringSubmatch(text, -1) {
			query := m[1]
			rows, err := s.db.Queryx("EXPLAIN QUERY PLAN "+query, make([]any, strings.Count(query, "?"))...)
			if err != nil {
				continue // one with names, or put together from parts
			}
			looked++
			for rows.Next() {
				var id, parent, unused int
				var detail string
				if err := rows.Scan(&id, &parent, &unused, &detail); err != nil {
					t.Fatal(err)
				}
				table, scans := strings.CutPrefix(detail, "SCAN ")
				table, _, _ = strings.Cut(table, " ")
				if scans && !strings.Contains(detail, "INDEX") && !small[table] && known(s, table) {
					t.Errorf("%s: %s: %s", file, strings.Join(strings.Fields(query), " "), detail)
				}
			}
			if err := rows.Close(); err != nil {
				t.Fatal(err)
			}
		}
	}
	if looked < 60 {
		t.Errorf("only %d queries were looked at", looked)
	}
}

// known reports whether a table is one of the records, and not one that a query makes.
func known(s *Store, table string) bool {
	var n int
	err := s.db.Get(&n, fmt.Sprintf(`SELECT COUNT(*) FROM sqlite_master WHERE type = 'table' AND name = '%s'`, table))
	return err == nil && n > 0
}
