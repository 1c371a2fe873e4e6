package planning

import (
	"context"
	"slices"

	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
)

// resolved is what a plan comes to at one revision, by one set of profiles.
type resolved struct {
	revision int64
	known    *known
	resolver plan.Resolver
	logins   bool // some device is given the login of another
	files    bool // some device is given a file
}

// uses reports whether some entry has a setting, or a column, of a type.
func uses(p plan.Plan, kind string) bool {
	has := map[string]bool{}
	for id, prof := range p.Profiles {
		has[id] = slices.ContainsFunc(prof.Settings, func(s profile.Setting) bool {
			return s.Type == kind || slices.ContainsFunc(s.Columns, func(c profile.Setting) bool { return c.Type == kind })
		})
	}
	return slices.ContainsFunc(p.Entries, func(e plan.Entry) bool { return has[e.Profile] })
}

// Resolver gives what the plan comes to, remembered by its revision: what was read
// before an edit never stands for the plan after it.
func (s *Site) Resolver(ctx context.Context) (plan.Resolver, error) {
	known := s.all.models.Load()
	revision, err := s.store.LastRevision(ctx)
	if err != nil {
		return plan.Resolver{}, err
	}
	s.all.mu.Lock()
	r, ok := s.all.resolved[s.store.ID]
	s.all.mu.Unlock()
	if ok && r.revision == revision && r.known == known {
		// These change without the plan. Asked for with each device that ends, they would be
		// most of the work of a large run that needs none of them.
		if r.logins {
			if r.resolver.Known.Logins, err = s.store.LoginsByTag(ctx); err != nil {
				return r.resolver, err
			}
		}
		if r.files {
			r.resolver.Known.Files, err = s.fileSums(ctx)
		}
		return r.resolver, err
	}
	p, _, err := s.Bare(ctx)
	if err != nil {
		return plan.Resolver{}, err
	}
	r = resolved{revision, known, p.Resolve(), uses(p, profile.EntryLogin), uses(p, profile.File)}
	s.all.mu.Lock()
	defer s.all.mu.Unlock()
	if s.all.resolved[s.store.ID].revision <= revision {
		s.all.resolved[s.store.ID] = r
	}
	return r.resolver, nil
}
