// Package archive packs files into one sealed archive, and takes them out again: tar (POSIX.1,
// pax) inside age (age-encryption.org/v1). The first member says what form it is of, the last
// one that it is whole.
package archive

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"filippo.io/age"

	"redstart/internal/core/problem"
)

// Members besides the files.
const (
	formName = "redstart.form"
	endName  = "redstart.end"
)

// What an archive may hold at most.
const (
	mostFiles = 200_000
	mostBytes = 64 << 30
)

// Writer packs an archive.
type Writer struct {
	sealed io.WriteCloser
	tar    *tar.Writer
	files  int
	err    error
}

// Seal begins an archive of a form that is sealed for somebody.
func Seal(out io.Writer, form string, to ...age.Recipient) (*Writer, error) {
	sealed, err := age.Encrypt(out, to...)
	if err != nil {
		return nil, err
	}
	w := &Writer{sealed: sealed, tar: tar.NewWriter(sealed)}
	w.member(formName, int64(len(form)), strings.NewReader(form))
	return w, w.err
}

func (w *Writer) member(name string, size int64, content io.Reader) {
	if w.err != nil {
		return
	}
	if w.err = w.tar.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, Format: tar.FormatPAX}); w.err != nil {
		return
	}
	switch n, err := io.Copy(w.tar, content); {
	case err != nil:
		w.err = err
	case n != size:
		w.err = fmt.Errorf("%s became shorter while it was read", name)
	}
}

// Add packs a file with a content.
func (w *Writer) Add(name, content string) {
	w.member(name, int64(len(content)), strings.NewReader(content))
	w.files++
}

// File packs a file of the disk.
func (w *Writer) File(name, path string) {
	file, err := os.Open(path)
	if err != nil {
		w.err = errors.Join(w.err, err)
		return
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		w.err = errors.Join(w.err, err)
		return
	}
	w.member(name, info.Size(), io.LimitReader(file, info.Size()))
	w.files++
}

// Folder packs the plain files of a folder; one that is not there is empty.
func (w *Writer) Folder(name, path string) {
	list, err := os.ReadDir(path)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		w.err = errors.Join(w.err, err)
	}
	for _, f := range list {
		if f.Type().IsRegular() && nameForm.MatchString(f.Name()) {
			w.File(name+"/"+f.Name(), filepath.Join(path, f.Name()))
		}
	}
}

// Close makes the archive whole, and tells the first error there was.
func (w *Writer) Close() error {
	end := fmt.Sprint(w.files)
	w.member(endName, int64(len(end)), strings.NewReader(end))
	if w.err != nil {
		return w.err
	}
	return errors.Join(w.tar.Close(), w.sealed.Close())
}

// Opened is what was sealed, opened.
type Opened struct{ source }

// Err says that it was damaged, once that was come upon; nil before.
func (o *Opened) Err() error {
	if o.err == nil {
		return nil
	}
	return damaged(o.err)
}

// Open opens what was sealed.
func Open(in io.Reader, keys ...age.Identity) (*Opened, error) {
	open, err := age.Decrypt(in, keys...)
	var nobody *age.NoIdentityMatchError
	switch {
	case errors.As(err, &nobody):
		return nil, problem.New(problem.Usage, "this key or passphrase does not open the file", "give the one that it was sealed for").Because(err)
	case err != nil:
		return nil, problem.New(problem.Usage, "the file cannot be opened: it is not sealed with age, or damaged", "give a file that Redstart wrote").Because(err)
	}
	return &Opened{source{Reader: open}}, nil
}

// nameForm is what a file or folder in an archive may be called.
var nameForm = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9._-]{0,199}$`)

// Unpack takes an archive of a form, opened, into a new folder. Whatever is wrong with it, the
// folder is not there afterwards.
func Unpack(in io.Reader, form, dir string) (err error) {
	if err := os.Mkdir(dir, 0o700); err != nil {
		return problem.Disk(err, "the folder cannot be made", dir)
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.RemoveAll(dir))
		}
	}()
	r, files, left := tar.NewReader(in), 0, int64(mostBytes)
	for first := true; ; first = false {
		h, err := r.Next()
		switch {
		case first && (err != nil || h.Name != formName):
			return problem.New(problem.Usage, "this is no archive that Redstart wrote", "give one that it did").Because(err)
		case err != nil:
			return damaged(err)
		case h.Typeflag != tar.TypeReg:
			return damaged(errors.New("it holds more than plain files"))
		case h.Name == formName || h.Name == endName:
			text, err := io.ReadAll(io.LimitReader(r, 100))
			switch {
			case err != nil:
				return damaged(err)
			case first && string(text) != form:
				return problem.New(problem.Usage, fmt.Sprintf("this is %s, and %s is needed", what(string(text)), what(form)), "give the other file")
			case first:
				continue
			case h.Name == endName && string(text) == fmt.Sprint(files):
				_, err := io.Copy(io.Discard, io.LimitReader(in, 1<<20)) // so that a cut is noticed
				if err != nil {
					return damaged(err)
				}
				return nil
			}
			return damaged(errors.New("it does not hold what it says"))
		}
		folder, name := filepath.Split(h.Name)
		folder = strings.TrimSuffix(folder, "/")
		if files++; files > mostFiles || h.Size > left || !nameForm.MatchString(name) || folder != "" && !nameForm.MatchString(folder) {
			return damaged(errors.New("it holds too much, or files that it may not hold"))
		}
		left -= h.Size
		if err := put(filepath.Join(dir, folder), name, r); err != nil {
			return err
		}
	}
}

// source remembers the error of what is read, to tell it from one of the disk.
type source struct {
	io.Reader
	err error
}

func (s *source) Read(p []byte) (int, error) {
	n, err := s.Reader.Read(p)
	if err != nil && err != io.EOF {
		s.err = err
	}
	return n, err
}

func put(folder, name string, content io.Reader) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return problem.Disk(err, "the folder cannot be made", folder)
	}
	file, err := os.OpenFile(filepath.Join(folder, name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, os.ErrExist) {
		return damaged(err)
	}
	if err != nil {
		return problem.Disk(err, "the file cannot be written", name)
	}
	from := &source{Reader: content}
	_, err = io.Copy(file, from)
	if err == nil {
		err = file.Sync()
	}
	switch err = errors.Join(err, file.Close()); {
	case from.err != nil:
		return damaged(from.err)
	case err != nil:
		return problem.Disk(err, "the file cannot be written", name)
	}
	return nil
}

func damaged(err error) error {
	return problem.New(problem.Usage, "the archive is damaged or cut off", "get it anew").Because(err)
}

// what says in words what an archive is, by its form.
func what(form string) string {
	switch {
	case strings.HasPrefix(form, "redstart/site/"):
		return "a site"
	case strings.HasPrefix(form, "redstart/backup/"):
		return "a backup"
	}
	return "an archive of another version"
}
