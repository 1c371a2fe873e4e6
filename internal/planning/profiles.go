package planning

import (
	"os"
	"path/filepath"

	"github.com/fsnotify/fsnotify"

	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/profiles"
)

// known are the device profiles as they were read last.
type known struct {
	set    profile.Set
	broken []profiles.Broken
}

// Profiles gives the device profiles as they are now. A caller that works
// something out takes them once.
func (s *Planning) Profiles() profile.Set { return s.models.Load().set }

// BrokenProfiles lists the files of the folder that cannot be used as profiles.
func (s *Planning) BrokenProfiles() []api.Broken {
	list := []api.Broken{}
	for _, b := range s.models.Load().broken {
		list = append(list, api.Broken(b))
	}
	return list
}

// readProfiles reads the profiles, and reads them anew whenever a file of the
// folder changes.
func (s *Planning) readProfiles() error {
	dir := filepath.Join(s.Data, "profiles")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return problem.Disk(err, "the folder of device profiles cannot be made", dir)
	}
	read := func() error {
		set, broken, err := profiles.Load(dir)
		if err != nil {
			return problem.Disk(err, "the device profiles cannot be read", dir)
		}
		for _, b := range broken {
			s.Log.Warn("a device profile is left out", "file", b.File, "reason", b.Reason)
		}
		s.models.Store(&known{set, broken})
		return nil
	}
	if err := read(); err != nil {
		return err
	}
	changes, err := fsnotify.NewWatcher()
	if err == nil {
		err = changes.Add(dir)
	}
	if err != nil {
		s.Log.Warn("device profiles are read at the start only", "error", err)
		s.work.Go(func() { s.SealAnew(s.life) })
		return nil
	}
	s.work.Add(1)
	go func() {
		defer s.work.Done()
		defer changes.Close()
		s.SealAnew(s.life) // they may have changed while no service ran
		for {
			select {
			case _, ok := <-changes.Events:
				if !ok {
					return
				}
				if err := read(); err != nil {
					s.Log.Warn("the device profiles stay as they were", "error", err)
					continue
				}
				s.SealAnew(s.life)
				s.Hub.Publish("", "sites", struct{}{})
			case err := <-changes.Errors:
				s.Log.Warn("a change of the device profiles may have been missed", "error", err)
			case <-s.life.Done():
				return
			}
		}
	}()
	return nil
}
