// Package profiles holds the bundled device profiles.
package profiles

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"redstart/internal/core/profile"
)

//go:embed *.yaml
var bundled embed.FS

// Load reads the bundled profiles and then those in dir, which replace bundled
// ones with the same id. A dir that does not exist is an empty one.
func Load(dir string) (profile.Set, error) {
	set := profile.Set{}
	if err := add(set, bundled); err != nil {
		return nil, err
	}
	if dir == "" {
		return set, nil
	}
	if err := add(set, os.DirFS(dir)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("in %s: %w", filepath.ToSlash(dir), err)
	}
	return set, nil
}

func add(set profile.Set, from fs.FS) error {
	entries, err := fs.ReadDir(from, ".")
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.IsDir() || filepath.Ext(e.Name()) != ".yaml" {
			continue
		}
		doc, err := fs.ReadFile(from, e.Name())
		if err != nil {
			return err
		}
		p, err := profile.Parse(doc)
		if err != nil {
			return fmt.Errorf("%s: %w", e.Name(), err)
		}
		set[p.ID] = p
	}
	return nil
}
