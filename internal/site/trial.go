package site

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"slices"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/store"
	"redstart/internal/vault"
	"redstart/profiles"
)

// Try carries out acts of a profile with one box, and tells each move as it went. A password
// that an act sets is made under the profile's rules and stored before it is sent.
func (s *Site) Try(ctx context.Context, mac address.MAC, in api.Trial, who string) (api.Tried, error) {
	out := api.Tried{Exchanges: []api.Exchange{}, Facts: map[string]string{}}
	if err := s.may(true); err != nil {
		return out, err
	}
	f, err := s.found(ctx, mac)
	if err != nil {
		return out, err
	}
	ctx, release, err := s.hold(ctx, mac, mac.String(), "trial of a profile")
	if err != nil {
		return out, err
	}
	defer release()
	p := s.Profiles()[in.Profile]
	if in.Document != "" {
		if p, err = profiles.Parse([]byte(in.Document)); err != nil {
			return out, problem.New(problem.Usage, err.Error(), "see docs/profiles.md").About(in.Profile)
		}
	}
	if p == nil {
		return out, problem.New(problem.Missing, "there is no such profile",
			"list them: redstart profile list").About(in.Profile)
	}
	t := &trial{site: s, p: p, mac: mac, out: &out, tries: s.vault.Try(mac, p.Accounts, "trial by "+who), who: who,
		serial: f.Value(fact.Serial)}
	if t.vars, err = s.trialValues(ctx, p, f, in.Values); err != nil {
		return out, err
	}
	t.serial = cmp.Or(t.vars["serial"], t.serial)
	whole, _, err := s.bare(ctx)
	if err != nil {
		return out, err
	}
	servers, err := s.Service.store.Servers(ctx, mac)
	if err != nil {
		return out, err
	}
	t.client = driver.New(s.bench(), driver.Target{MAC: mac, Address: f.AddressNow(), Bits: p.Factory.Address.Bits,
		Profile: p, Avoid: whole.Needs(), Trust: knownOnly(servers), Serial: t.serial, Trace: func(x driver.Exchange) {
			out.Exchanges = append(out.Exchanges, api.Exchange{Act: string(x.Act), Move: x.Move, Sent: x.Sent,
				Got: x.Got})
		}})
	defer t.client.Close()
	for range 3 {
		if sample, err := p.Password.Generate(rand.Reader, 0); err == nil {
			out.Samples = append(out.Samples, sample)
		}
	}
	for _, name := range in.Acts {
		act := profile.Act(name)
		if len(p.Acts[act]) == 0 {
			out.Error = "the profile has no act " + name
			break
		}
		if err := t.act(ctx, act); err != nil {
			out.Error = err.Error()
			break
		}
		out.Done = append(out.Done, name)
	}
	return out, ctx.Err()
}

// hold claims a box for a moment, as any other work would; this one is not shown among them.
func (s *Site) hold(ctx context.Context, mac address.MAC, name, kind string) (context.Context, func(), error) {
	ctx, cut := context.WithCancelCause(ctx)
	w := &working{s: s.Service, on: s.segment(), cut: cut, holds: holds{boxes: map[address.MAC]string{mac: name}},
		Work: api.Work{Kind: kind}}
	if err := s.claim(w); err != nil {
		cut(nil)
		return ctx, nil, err
	}
	return ctx, func() {
		cut(nil)
		s.mu.Lock()
		defer s.mu.Unlock()
		s.works = slices.DeleteFunc(s.works, func(o *working) bool { return o == w })
	}, nil
}

// knownOnly refuses to send a login of its own to what shows another certificate or host key
// than the box showed before.
func knownOnly(servers map[string]string) func(driver.Server) error {
	return func(s driver.Server) error {
		if was := servers[s.Kind]; was != "" && was != s.Sum {
			return fmt.Errorf("%s, not %s", s.Named(), driver.Server{Kind: s.Kind, Sum: was}.Named())
		}
		return nil
	}
}

// trialValues are those of the entry that the box is matched with, and what the caller gives.
func (s *Site) trialValues(ctx context.Context, p *profile.Profile, f *device.Found,
	given map[string]string) (map[string]string, error) {
	vars := map[string]string{}
	tag, err := s.store.TagOf(ctx, f.MAC)
	if err != nil {
		return nil, err
	}
	if tag != "" {
		e, err := s.store.Entry(ctx, tag)
		if err != nil {
			return nil, err
		}
		r, err := s.resolver(ctx)
		if err != nil {
			return nil, err
		}
		vars = procedure.For(r, e.Entry, p).Variables()
		vars["serial"] = e.Serial
	}
	vars[profile.OurPort] = f.Value(fact.Port)
	maps.Copy(vars, given)
	return vars, nil
}

// trial is one trial under way.
type trial struct {
	site   *Site
	p      *profile.Profile
	mac    address.MAC
	vars   map[string]string
	client *driver.Client
	tries  *vault.Tries
	who    string
	out    *api.Tried
	inside bool
	serial string // on its label, as far as it is known
}

// free are the acts that need no login.
var free = []profile.Act{profile.Identify, profile.FactoryEntry, profile.Blink}

func (t *trial) act(ctx context.Context, act profile.Act) error {
	switch {
	case act == profile.SignIn:
		return t.signIn(ctx)
	case act == profile.Password || act == profile.Renew:
		return t.password(ctx, act)
	case !slices.Contains(free, act) && !t.inside && len(t.p.Acts[profile.SignIn]) > 0 && t.p.NeedsLogin(act):
		if err := t.signIn(ctx); err != nil {
			return err
		}
	}
	facts, err := t.client.Do(ctx, act, t.vars)
	for key, value := range facts {
		if t.p.Public(key) {
			t.out.Facts[key] = value
		}
	}
	return err
}

// signIn uses what is stored for the box, else the factory login, each once.
func (t *trial) signIn(ctx context.Context) error {
	known, err := t.tries.Candidates(ctx)
	if err != nil {
		return err
	}
	if f := t.p.FactoryLogin(t.serial); f != nil {
		known = append(known, vault.Login{Login: *f})
	}
	err = problem.New(problem.Conflict, "no login of it is stored, and its profile names none of the factory",
		"set its first password: the act password").About(t.mac.String())
	for _, login := range known {
		if err := t.tries.May(ctx, login.Login); err != nil {
			return err
		}
		if err = t.client.SignIn(ctx, login.Login); err == nil {
			t.inside = true
			t.vars["old-user"], t.vars["old-password"] = login.User, login.Password
			return t.tries.Accepted(ctx, login)
		}
		if !errors.Is(err, driver.ErrLogin) {
			return err // it did not refuse the login: nothing is known of it
		}
		if fault := t.tries.Refused(ctx, login); fault != nil {
			return fault
		}
	}
	return err
}

// password sets a new password, stored before it is sent, and signs in with it.
func (t *trial) password(ctx context.Context, act profile.Act) error {
	if f := t.p.FactoryLogin(t.serial); f != nil && t.vars["old-password"] == "" {
		t.vars["old-user"], t.vars["old-password"] = f.User, f.Password
	}
	next := profile.Login{User: t.p.User}
	var err error
	if next.Password, err = t.p.Password.Generate(rand.Reader, 0); err != nil {
		return err
	}
	if err := t.site.vault.Put(ctx, vault.New{MAC: t.mac, Login: next, Origin: "trial by " + t.who,
		State: store.Pending, ToldBy: "trial by " + t.who}); err != nil {
		return err
	}
	vars := maps.Clone(t.vars)
	vars["user"], vars["password"] = next.User, next.Password
	if _, err := t.client.Do(ctx, act, vars); err != nil {
		return err
	}
	return t.signIn(ctx)
}
