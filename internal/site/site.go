package site

import (
	"context"
	"fmt"
	"io"
	"math"
	"net/netip"
	"os"
	"regexp"
	"slices"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/store"
)

// Site is the service at work on one site.
type Site struct {
	*Service
	store *store.Site
}

// At gives the service at work on a site.
func (s *Service) At(ctx context.Context, key string) (*Site, error) {
	records, err := s.store.At(ctx, key)
	return &Site{s, records}, err
}

// Sites lists the sites; unless brief, with how far they are.
func (s *Service) Sites(ctx context.Context, brief bool) ([]api.Summary, error) {
	sites, err := s.store.Sites(ctx)
	if err != nil {
		return nil, err
	}
	list := []api.Summary{}
	for _, data := range sites {
		if brief {
			list = append(list, api.Summary{Site: data})
			continue
		}
		at, err := s.At(ctx, data.Key)
		if err != nil {
			return nil, err
		}
		entries, err := at.Entries(ctx)
		if err != nil {
			return nil, err
		}
		sum := api.Summary{Site: data, Entries: len(entries), States: map[string]int{}}
		for _, e := range entries {
			sum.States[e.State]++
		}
		list = append(list, sum)
	}
	return list, nil
}

// AddSite makes a site. Its key may be left to be made from its name.
func (s *Service) AddSite(ctx context.Context, data plan.Site, who string) (plan.Site, error) {
	if data.Key == "" {
		data.Key = plan.KeyFrom(data.Name)
	}
	// A given password comes with a policy's own call.
	data.Policies = slices.DeleteFunc(slices.Clone(data.Policies), func(c plan.Policy) bool {
		return c.Mode == plan.Given
	})
	if err := data.Check(); err != nil {
		return data, problem.New(problem.Usage, err.Error(), "").About("site")
	}
	if err := checkAsked(data); err != nil {
		return data, err
	}
	if _, err := s.store.AddSite(ctx, data, who); err != nil {
		return data, err
	}
	s.hub.Publish("", "sites", struct{}{})
	return data, nil
}

// SetData stores the site's own data after checking it. Policies stay as they are.
func (s *Site) SetData(ctx context.Context, data plan.Site, who string) (plan.Site, error) {
	return s.change(ctx, "site data changed", who, func(old plan.Site) (plan.Site, error) {
		data.Policies = old.Policies
		if data.Key == "" {
			data.Key = old.Key
		}
		return data, nil
	})
}

// change changes the site's own data.
func (s *Site) change(ctx context.Context, what, who string, do func(plan.Site) (plan.Site, error)) (plan.Site, error) {
	s.planning.Lock()
	defer s.planning.Unlock()
	old, err := s.store.Data(ctx)
	if err != nil {
		return old, err
	}
	data, err := do(old)
	if err != nil {
		return old, err
	}
	if err := data.Check(); err != nil {
		return old, problem.New(problem.Usage, err.Error(), "").About("site")
	}
	if err := checkAsked(data); err != nil {
		return old, err
	}
	if data.Key != old.Key {
		if _, err := s.Service.store.At(ctx, data.Key); problem.KindOf(err) != problem.Missing {
			return old, problem.New(problem.Conflict, "there is a site with this key already",
				"choose another key").About(data.Key).Because(err)
		}
	}
	if _, err := s.apply(ctx, who, what, store.Changes{Edits: []store.Edit{{Site: &data, WasSite: &old}}}); err != nil {
		return old, err
	}
	if data.Key != old.Key {
		s.hub.Publish("", "sites", struct{}{})
	}
	s.hub.Publish(old.Key, "site", data)
	return data, nil
}

// Remove forgets the site. sure must be its key: nothing of it can be restored.
func (s *Site) Remove(ctx context.Context, sure string) error {
	if sure != s.store.Key {
		return problem.New(problem.Usage, "a site is removed with its plan, devices, runs and history, for good",
			"to be sure, give its key").About(s.store.Key)
	}
	if s.works.UnderWay(func(w api.Work) bool { return w.Site == s.store.Key }) {
		return problem.New(problem.Conflict, "work on this site is under way",
			"wait until it is done, or stop it").About(s.store.Key)
	}
	s.endWatch()
	surveys, err := s.store.Surveys(ctx, math.MaxInt32)
	if err != nil {
		return err
	}
	kept, err := s.store.Captures(ctx)
	if err != nil {
		return err
	}
	s.planning.Lock()
	defer s.planning.Unlock()
	defer s.hub.Publish("", "sites", struct{}{})
	if err := s.store.Remove(ctx); err != nil {
		return err
	}
	s.forgetMadeOf(s.store.Key)
	for _, c := range kept {
		_ = os.Remove(s.captureFile(c.File)) // it may have been taken away before
	}
	for _, v := range surveys {
		if v.Capture != "" {
			_ = os.Remove(s.captureFile(v.Capture)) // it may have been taken away before
		}
	}
	return nil
}

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

// resolver gives what the plan comes to, remembered by its revision: what was read
// before an edit never stands for the plan after it.
func (s *Site) resolver(ctx context.Context) (plan.Resolver, error) {
	known := s.models.Load()
	revision, err := s.store.LastRevision(ctx)
	if err != nil {
		return plan.Resolver{}, err
	}
	s.mu.Lock()
	r, ok := s.resolved[s.store.ID]
	s.mu.Unlock()
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
	p, _, err := s.bare(ctx)
	if err != nil {
		return plan.Resolver{}, err
	}
	r = resolved{revision, known, p.Resolve(), uses(p, profile.EntryLogin), uses(p, profile.File)}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.resolved[s.store.ID].revision <= revision {
		s.resolved[s.store.ID] = r
	}
	return r.resolver, nil
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

// Map tells what each address of a subnet is; no name means the first subnet.
func (s *Site) Map(ctx context.Context, subnet string) (plan.Map, error) {
	p, _, err := s.plan(ctx)
	if err != nil {
		return plan.Map{}, err
	}
	for _, n := range p.Site.Subnets {
		if n.Name == subnet || subnet == "" {
			return p.Map(n), nil
		}
	}
	return plan.Map{}, problem.New(problem.Missing, "the site has no such subnet",
		"make one: redstart site subnet NAME --prefix 10.40.8.0/22").About(subnet)
}

// Reckon reckons a prefix, or an address in a subnet of a site.
func (s *Service) Reckon(ctx context.Context, of, key string) (api.Reckoning, error) {
	prefix, err := netip.ParsePrefix(of)
	at := prefix.Addr()
	var p plan.Plan
	if key != "" {
		site, err := s.At(ctx, key)
		if err != nil {
			return api.Reckoning{}, err
		}
		if p, _, err = site.plan(ctx); err != nil {
			return api.Reckoning{}, err
		}
	}
	if err != nil {
		if at, err = address.ParseIPv4(of); err != nil {
			return api.Reckoning{}, problem.New(problem.Usage,
				fmt.Sprintf("%q is neither a prefix like 10.40.8.0/22 nor an IPv4 address", of), "")
		}
		if prefix = p.Site.SubnetOf(at).Prefix; !prefix.IsValid() {
			return api.Reckoning{}, problem.New(problem.Usage, fmt.Sprintf("%s is in no subnet of the site", at),
				"give it with its prefix length, like "+at.String()+"/24")
		}
	}
	if !at.Is4() || prefix.Bits() < 1 {
		return api.Reckoning{}, problem.New(problem.Usage, "only IPv4 prefixes from /1 to /32 are reckoned", "")
	}
	hosts := address.Hosts(prefix)
	r := api.Reckoning{Prefix: prefix.Masked(), Mask: address.Mask(prefix), Network: address.Network(prefix),
		Broadcast: address.LastOf(prefix), First: hosts.From, Last: hosts.To, Hosts: hosts.Size(), Left: hosts.Size()}
	n := p.Site.SubnetOf(at)
	if n.Prefix != r.Prefix {
		return r, nil
	}
	m := p.Map(n)
	r.Subnet, r.Left, r.Is = n.Name, m.Free, plan.Free
	if i := slices.IndexFunc(m.Cells, func(c plan.Cell) bool { return c.Address == at }); i >= 0 {
		r.Is, r.Text = m.Cells[i].Is, m.Cells[i].Text
	}
	return r, nil
}

var fileName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._-]{0,99}$`)

// PutFile stores a file of the site, whole or not at all.
func (s *Site) PutFile(ctx context.Context, name string, content io.Reader, who string) (store.File, error) {
	if !fileName.MatchString(name) {
		return store.File{}, errFileName.About(name)
	}
	defer s.publishEntries()
	return s.store.PutFile(ctx, name, content, who)
}

var errFileName = problem.New(problem.Usage, "a file's name has letters, digits, spaces, dots and dashes, at most 100",
	"rename it")

// RemoveFile forgets a file of the site.
func (s *Site) RemoveFile(ctx context.Context, name string) error {
	defer s.publishEntries()
	return s.store.RemoveFile(ctx, name)
}
