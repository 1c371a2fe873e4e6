package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
)

// MaxFile is the largest file of a site, in bytes.
const MaxFile = 512 << 20

// File is a file of the site, such as a licence. Its content is kept beside the
// database under its hash.
type File struct {
	Name   string     `db:"name"`
	SHA256 string     `db:"sha256"`
	Size   int64      `db:"size"` // in bytes
	At     stamp.Time `db:"at"`
	Who    string     `db:"who"`
	// Of a configuration that was kept from a device: its profile, its firmware, and the
	// address that it had.
	Profile  string `db:"model"`
	Firmware string `db:"firmware"`
	Held     string `db:"held"`
}

const fileColumns = `name, sha256, size, at, who, model, firmware, held`

func (s *Store) filesDir() string { return filepath.Join(s.dir, "files") }

// Files lists the site's files by name.
func (s *Site) Files(ctx context.Context) ([]File, error) {
	list := []File{}
	err := s.in.all(ctx, &list, `SELECT `+fileColumns+` FROM files WHERE site = ? ORDER BY name`, s.ID)
	return list, err
}

// File gives a file of the site, opened for reading.
func (s *Site) File(ctx context.Context, name string) (f File, content *os.File, err error) {
	if f, err = s.FileNamed(ctx, name); err != nil {
		return f, nil, err
	}
	content, err = os.Open(filepath.Join(s.in.filesDir(), f.SHA256))
	if err != nil {
		err = problem.Disk(err, "the file is listed, but its content cannot be read", name)
	}
	return f, content, err
}

// FileNamed tells of a file of the site without opening it.
func (s *Site) FileNamed(ctx context.Context, name string) (f File, err error) {
	ok, err := s.in.one(ctx, &f, `SELECT `+fileColumns+` FROM files WHERE site = ? AND name = ?`, s.ID, name)
	if err == nil && !ok {
		err = noFile.About(name)
	}
	return f, err
}

var noFile = problem.New(problem.Missing, "there is no such file", "list them with: redstart plan file list")

// PutFile takes in a file, whole or not at all, in place of one with the same
// name. It is on disk when this returns.
func (s *Site) PutFile(ctx context.Context, name string, content io.Reader, who string) (File, error) {
	return s.KeepFile(ctx, File{Name: name, Who: who}, content)
}

// KeepFile is PutFile for a configuration, with what is known of the device that it is of.
func (s *Site) KeepFile(ctx context.Context, f File, content io.Reader) (File, error) {
	name := f.Name
	f.At = stamp.Now()
	in, err := os.CreateTemp(s.in.filesDir(), "taking-in-*")
	if err != nil {
		return f, problem.Disk(err, "the file could not be stored", name)
	}
	defer os.Remove(in.Name()) // gone when all went well
	sum := sha256.New()
	f.Size, err = io.Copy(io.MultiWriter(in, sum), io.LimitReader(content, MaxFile+1))
	if err == nil {
		err = in.Sync()
	}
	switch err = errors.Join(err, in.Close()); {
	case err != nil:
		return f, problem.Disk(err, "the file did not arrive whole, so it was not stored", name)
	case f.Size > MaxFile:
		return f, problem.New(problem.Usage, fmt.Sprintf("the file is larger than %d MiB, so it was not stored",
			MaxFile>>20), "give a smaller one").About(name)
	case f.Size == 0:
		return f, problem.New(problem.Usage, "the file is empty", "").About(name)
	case ctx.Err() != nil:
		return f, ctx.Err()
	}
	f.SHA256 = hex.EncodeToString(sum.Sum(nil))
	// Nobody sweeps between the file's coming and its being listed.
	s.in.sweeping.Lock()
	defer s.in.sweeping.Unlock()
	if err := os.Rename(in.Name(), filepath.Join(s.in.filesDir(), f.SHA256)); err != nil {
		return f, problem.Disk(err, "the file could not be stored", name)
	}
	err = s.in.exec(ctx,
		`INSERT INTO files (site, name, sha256, size, at, who, model, firmware, held)
			VALUES (:site, :name, :sha256, :size, :at, :who, :model, :firmware, :held)
		ON CONFLICT (site, name) DO UPDATE SET sha256 = :sha256, size = :size, at = :at, who = :who, model = :model,
			firmware = :firmware, held = :held`,
		map[string]any{"site": s.ID, "name": f.Name, "sha256": f.SHA256, "size": f.Size, "at": f.At, "who": f.Who,
			"model": f.Profile, "firmware": f.Firmware, "held": f.Held})
	return f, errors.Join(err, s.in.sweep())
}

// BringFile copies the content of a file into the folder that KeepingFiles gives, whole, when its
// sum is what it says.
func BringFile(from, folder, sum string) error {
	in, err := os.Open(from)
	if err != nil {
		return problem.Disk(err, "the file cannot be read", from)
	}
	defer in.Close()
	out, err := os.CreateTemp(folder, "taking-in-*")
	if err != nil {
		return problem.Disk(err, "the file could not be stored", folder)
	}
	defer os.Remove(out.Name()) // gone when all went well
	hash := sha256.New()
	_, err = io.Copy(io.MultiWriter(out, hash), in)
	if err == nil {
		err = out.Sync()
	}
	if err = errors.Join(err, out.Close()); err != nil {
		return problem.Disk(err, "the file could not be stored", folder)
	}
	if hex.EncodeToString(hash.Sum(nil)) != sum {
		return problem.New(problem.Usage, "a file in the archive is not the one that it says", "get the archive anew").About(sum)
	}
	if err := os.Rename(out.Name(), filepath.Join(folder, sum)); err != nil {
		return problem.Disk(err, "the file could not be stored", sum)
	}
	return nil
}

// RemoveFile forgets a file.
func (s *Site) RemoveFile(ctx context.Context, name string) error {
	s.in.sweeping.Lock()
	defer s.in.sweeping.Unlock()
	if err := s.in.exec(ctx, `DELETE FROM files WHERE site = :site AND name = :name`,
		map[string]any{"site": s.ID, "name": name}); err != nil {
		return err
	}
	return s.in.sweep()
}

// sweep deletes what no site lists. The caller holds sweeping.
func (s *Store) sweep() error {
	var listed []string
	if err := s.db.Select(&listed, `SELECT DISTINCT sha256 FROM files`); err != nil {
		return err
	}
	wanted := map[string]bool{}
	for _, sum := range listed {
		wanted[sum] = true
	}
	there, err := os.ReadDir(s.filesDir())
	if err != nil {
		return err
	}
	for _, f := range there {
		if len(f.Name()) == 2*sha256.Size && !wanted[f.Name()] {
			err = errors.Join(err, os.Remove(filepath.Join(s.filesDir(), f.Name())))
		}
	}
	return err
}

// arrange makes the folder of files, moves into it what an earlier version kept
// in the database, and deletes what was cut off while it came in.
func (s *Store) arrange() error {
	if err := os.MkdirAll(s.filesDir(), 0o700); err != nil {
		return err
	}
	var sums []string
	if err := s.db.Select(&sums, `SELECT DISTINCT sha256 FROM files WHERE content IS NOT NULL`); err != nil {
		return err
	}
	for _, sum := range sums {
		var content []byte
		if err := s.db.Get(&content, `SELECT content FROM files WHERE sha256 = ? AND content IS NOT NULL LIMIT 1`,
			sum); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(s.filesDir(), sum), content, 0o600); err != nil {
			return err
		}
		if _, err := s.db.Exec(`UPDATE files SET content = NULL WHERE sha256 = ?`, sum); err != nil {
			return err
		}
	}
	cut, err := filepath.Glob(filepath.Join(s.filesDir(), "taking-in-*"))
	for _, f := range cut {
		err = errors.Join(err, os.Remove(f))
	}
	return errors.Join(err, s.sweep())
}
