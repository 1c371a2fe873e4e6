// Package storetest is for tests: to bring records through every version of theirs takes longer
// than many a test, so it is done once per process.
package storetest

import (
	"context"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"redstart/internal/store"
)

const name = "redstart.db"

var empty = sync.OnceValues(func() ([]byte, error) {
	dir, err := os.MkdirTemp("", "redstart-empty-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	records, err := store.Open(context.Background(), dir)
	if err != nil {
		return nil, err
	}
	if err := records.Close(); err != nil {
		return nil, err
	}
	return os.ReadFile(filepath.Join(dir, name))
})

// Begin puts empty records into a folder that has none.
func Begin(t testing.TB, dir string) {
	t.Helper()
	if _, err := os.Stat(filepath.Join(dir, name)); err == nil {
		return
	}
	content, err := empty()
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, name), content, 0o600); err != nil {
		t.Fatal(err)
	}
}

// Open opens empty records that are closed with the test.
func Open(t testing.TB) *store.Store {
	t.Helper()
	dir := t.TempDir()
	Begin(t, dir)
	records, err := store.Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { records.Close() })
	return records
}
