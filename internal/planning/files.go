package planning

import (
	"context"
	"io"
	"regexp"
	"strconv"

	"redstart/internal/api"
	"redstart/internal/core/problem"
)

// Download is a file that is given out whole.
type Download struct {
	Name    string
	Kind    string // media type
	Content []byte
}

// Stored is a file of the site that is given out.
type Stored struct {
	Name    string
	Content io.ReadCloser // belongs to whoever answers
}

// Number reads the number of something that has one.
func Number(text, what string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, problem.New(problem.Missing, "there is no such "+what, "").About(text)
	}
	return n, nil
}

// fileSums gives the SHA-256 of the site's files, by name.
func (s *Site) fileSums(ctx context.Context) (map[string]string, error) {
	files, err := s.store.Files(ctx)
	sums := map[string]string{}
	for _, f := range files {
		sums[f.Name] = f.SHA256
	}
	return sums, err
}

var fileName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._-]{0,99}$`)

// Files lists the files of the site by name.
func (s *Site) Files(ctx context.Context) ([]api.File, error) {
	kept, err := s.store.Files(ctx)
	list := []api.File{}
	for _, f := range kept {
		list = append(list, api.File(f))
	}
	return list, err
}

// CheckFileName says why a file of a site cannot be called so, if so.
func CheckFileName(name string) error {
	if !fileName.MatchString(name) {
		return errFileName.About(name)
	}
	return nil
}

// PutFile stores a file of the site, whole or not at all.
func (s *Site) PutFile(ctx context.Context, name string, content io.Reader, who string) (api.File, error) {
	if err := CheckFileName(name); err != nil {
		return api.File{}, err
	}
	defer s.Changed()
	kept, err := s.store.PutFile(ctx, name, content, who)
	return api.File(kept), err
}

var errFileName = problem.New(problem.Usage, "a file's name has letters, digits, spaces, dots and dashes, at most 100",
	"rename it")

// RemoveFile forgets a file of the site.
func (s *Site) RemoveFile(ctx context.Context, name string) error {
	defer s.Changed()
	return s.store.RemoveFile(ctx, name)
}
