package jobs

import (
	"cmp"
	"context"
	"errors"
	"strings"

	"redstart/internal/api"
	"redstart/internal/core/fact"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/planning"
	"redstart/internal/store"
)

// fetching says in plain words what kept a configuration from being fetched.
func fetching(err error, tag string) error {
	if p := (*problem.Error)(nil); errors.As(err, &p) {
		return p.About(tag)
	}
	return problem.New(problem.Device, "its configuration could not be fetched: "+err.Error(), "look at the box").About(tag)
}

// KeepConfiguration takes the saved configuration of an entry's device and keeps it as a file
// of the site; without a name it is called after the entry.
func (s *Site) KeepConfiguration(ctx context.Context, tag, name, who string) (api.File, error) {
	if err := s.all.Plans.Unlocked(); err != nil {
		return api.File{}, err
	}
	e, err := s.store.Entry(ctx, tag)
	if err != nil {
		return api.File{}, err
	}
	p := s.all.Plans.Profiles()[e.Profile]
	switch {
	case e.Device.IsZero():
		return api.File{}, problem.New(problem.Conflict, "no device is matched with it",
			"match it first: redstart match").About(tag)
	case p == nil || len(p.Acts[profile.Keep]) == 0:
		return api.File{}, problem.New(problem.Conflict, "its profile does not say how its configuration is fetched",
			"add the act keep to the profile, or fetch it by hand: redstart plan file add FILE").About(tag)
	}
	ctx, release, err := s.hold(ctx, e.Device, tag, "keeping a configuration")
	if err != nil {
		return api.File{}, err
	}
	defer release()
	f, err := s.plan.Found(ctx, e.Device)
	if err != nil {
		return api.File{}, err
	}
	whole, _, err := s.plan.Bare(ctx)
	if err != nil {
		return api.File{}, err
	}
	servers, err := s.all.Store.Servers(ctx, e.Device)
	if err != nil {
		return api.File{}, err
	}
	at := f.AddressNow()
	client := driver.New(s.segment.Bench(), driver.Target{MAC: e.Device, Address: at, Bits: whole.Site.SubnetOf(at).Prefix.Bits(),
		Profile: p, Avoid: whole.Needs(), Trust: knownOnly(servers), Serial: f.Value(fact.Serial)})
	defer client.Close()
	t := trial{site: s, p: p, mac: e.Device, vars: map[string]string{}, client: client, who: who,
		tries: s.all.Vault.Try(e.Device, p.Accounts, "keeping its configuration, by "+who), serial: f.Value(fact.Serial), at: at}
	if err := t.signIn(ctx); err != nil {
		return api.File{}, fetching(err, tag)
	}
	taken, err := client.Do(ctx, profile.Keep, nil)
	if err != nil {
		return api.File{}, fetching(err, tag)
	}
	if taken[fact.Config] == "" {
		return api.File{}, problem.New(problem.Device, "it gave no configuration", "look at the box").About(tag)
	}
	facts, err := client.Do(ctx, profile.Read, nil)
	if err != nil {
		return api.File{}, fetching(err, tag)
	}
	kept := store.File{Name: cmp.Or(name, tag+".configuration"), Who: who, Profile: p.ID,
		Firmware: facts[fact.Firmware], Held: at.String()}
	if err := planning.CheckFileName(kept.Name); err != nil {
		return api.File{}, err
	}
	defer s.plan.Changed()
	kept, err = s.store.KeepFile(ctx, kept, strings.NewReader(taken[fact.Config]))
	if err == nil {
		err = s.store.AddNote(ctx, tag, who, "its configuration is kept as "+kept.Name)
	}
	return api.File(kept), err
}
