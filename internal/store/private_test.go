package store_test

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"redstart/internal/store"
)

// The data folder and what is in it can be read by their owner alone, also where they were
// there before with other rights; a folder that everybody may write into is not taken.
func TestTheDataFolderIsPrivate(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "data")
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "redstart.db"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	records, err := store.Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer records.Close()
	err = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err == nil && info.Mode().Perm()&0o077 != 0 {
			t.Errorf("%s is %v", path, info.Mode())
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
	folder := filepath.Join(t.TempDir(), "new")
	fresh, err := store.Open(context.Background(), folder)
	if err != nil {
		t.Fatal(err)
	}
	defer fresh.Close()
	if info, err := os.Stat(filepath.Join(folder, "redstart.db")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("new records are %v, %v", info.Mode(), err)
	}
	open := filepath.Join(t.TempDir(), "open")
	if err := os.Mkdir(open, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(open, 0o777|fs.ModeSticky); err != nil {
		t.Fatal(err)
	}
	if _, err := store.Open(context.Background(), open); err == nil || !strings.Contains(err.Error(), "everybody may write") {
		t.Errorf("%v", err)
	}
}
