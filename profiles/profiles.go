// Package profiles holds the bundled device profiles.
package profiles

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"sync"

	"redstart/internal/core/profile"
	"redstart/internal/driver/all"
)

//go:embed *.yaml
var bundled embed.FS

// Broken is a file of the folder that cannot be used: it is left out.
type Broken struct {
	File   string
	Reason string
}

// Load reads the bundled profiles and then those in dir, which replace bundled
// ones with the same id. What is broken there is left out and told. A dir that
// does not exist is an empty one.
func Load(dir string) (profile.Set, []Broken, error) {
	ours, err := own()
	if err != nil {
		return nil, nil, err
	}
	set := maps.Clone(ours)
	if dir == "" {
		return set, nil, nil
	}
	broken, err := add(set, os.DirFS(dir))
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return set, broken, err
}

// own reads the bundled profiles, once: nobody changes a profile that was read.
var own = sync.OnceValues(func() (profile.Set, error) {
	set := profile.Set{}
	broken, err := add(set, bundled)
	if err == nil && broken != nil {
		err = fmt.Errorf("%d bundled profiles are broken: %s: %s", len(broken), broken[0].File, broken[0].Reason)
	}
	return set, err
})

func add(set profile.Set, from fs.FS) (broken []Broken, err error) {
	entries, err := fs.ReadDir(from, ".")
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if e.IsDir() || filepath.Ext(e.Name()) != ".yaml" {
			continue
		}
		p, err := read(from, e)
		if err != nil {
			broken = append(broken, Broken{e.Name(), err.Error()})
			continue
		}
		set[p.ID] = p
	}
	return broken, nil
}

// read reads one profile. A folder that is called like one, or a pipe, is none.
func read(from fs.FS, e fs.DirEntry) (*profile.Profile, error) {
	info, err := fs.Stat(from, e.Name())
	if err != nil {
		return nil, err
	}
	switch {
	case !info.Mode().IsRegular():
		return nil, errors.New("it is no regular file")
	case info.Size() > profile.MaxSize:
		return nil, fmt.Errorf("it is larger than %d KiB", profile.MaxSize>>10)
	}
	doc, err := fs.ReadFile(from, e.Name())
	if err != nil {
		return nil, err
	}
	return Parse(doc)
}

// Parse reads one profile, in the words of all drivers.
func Parse(doc []byte) (*profile.Profile, error) { return profile.Parse(doc, all.Words()) }
