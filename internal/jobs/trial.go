package jobs

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/core/state"
	"redstart/internal/driver"
	"redstart/internal/lan/watch"
	"redstart/internal/vault"
	"redstart/profiles"
)

// Try carries out acts of a profile with one box, and tells each move as it went. A password
// that an act sets is made under the profile's rules and stored before it is sent.
func (s *Site) Try(ctx context.Context, mac address.MAC, in api.Trial, who string) (api.Tried, error) {
	out := api.Tried{Exchanges: []api.Exchange{}, Facts: map[string]string{}}
	if err := s.segment.May(true); err != nil {
		return out, err
	}
	f, err := s.plan.Found(ctx, mac)
	if err != nil {
		return out, err
	}
	ctx, release, err := s.hold(ctx, mac, mac.String(), "trial of a profile")
	if err != nil {
		return out, err
	}
	defer release()
	p := s.all.Plans.Profiles()[in.Profile]
	if in.Document != "" {
		if p, err = profiles.Parse([]byte(in.Document)); err != nil {
			return out, problem.New(problem.Usage, err.Error(), "see docs/profiles.md").About(in.Profile)
		}
	}
	if p == nil {
		return out, problem.New(problem.Missing, "there is no such profile",
			"list them: redstart profile list").About(in.Profile)
	}
	t := &trial{site: s, p: p, mac: mac, out: &out, tries: s.all.Vault.Try(mac, p.Accounts, "trial by "+who), who: who,
		serial: f.Value(fact.Serial)}
	if t.vars, err = s.trialValues(ctx, p, f, in.Values); err != nil {
		return out, err
	}
	t.serial = cmp.Or(t.vars["serial"], t.serial)
	whole, _, err := s.plan.Bare(ctx)
	if err != nil {
		return out, err
	}
	servers, err := s.all.Store.Servers(ctx, mac)
	if err != nil {
		return out, err
	}
	t.target = func(at netip.Addr) driver.Target {
		bits := p.Factory.Address.Bits
		if planned, err := strconv.Atoi(t.vars["bits"]); err == nil && at.String() == t.vars["address"] {
			bits = planned
		}
		return driver.Target{MAC: mac, Address: at, Bits: bits, Profile: p, Avoid: whole.Needs(), Trust: knownOnly(servers),
			Serial: t.serial, Trace: func(x driver.Exchange) {
				out.Exchanges = append(out.Exchanges, api.Exchange{Act: string(x.Act), Move: x.Move, Sent: x.Sent,
					Got: x.Got})
			}}
	}
	t.at = f.AddressNow()
	t.client = driver.New(s.segment.Bench(), t.target(t.at))
	defer func() { t.client.Close() }()
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
			if missing := unset.FindStringSubmatch(out.Error); missing != nil {
				out.Error += "; give it one with --set " + missing[1] + "=…"
			}
			break
		}
		out.Done = append(out.Done, name)
	}
	return out, ctx.Err()
}

// hold claims a box for a moment, as any other work would; this one is not shown among them.
func (s *Site) hold(ctx context.Context, mac address.MAC, name, kind string) (context.Context, func(), error) {
	return s.all.Works.Hold(ctx, s.segment.Segment(), mac, name, kind)
}

// unset finds which variable of a profile had no value.
var unset = regexp.MustCompile(`uses \{([a-z0-9.-]+)\}, which has no value`)

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
		r, err := s.plan.Resolver(ctx)
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
	login  profile.Login
	target func(at netip.Addr) driver.Target
	at     netip.Addr // where it is
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
	var facts map[string]string
	err := t.goes(ctx, act, func(ctx context.Context) (err error) {
		facts, err = t.client.Do(ctx, act, t.vars)
		return err
	})
	for key, value := range facts {
		if t.p.Public(key) {
			t.out.Facts[key] = value
		}
	}
	return err
}

// goes carries out an act, and if the order says that the box goes after it, waits until it
// is back: what is read before would be what was in force before.
func (t *trial) goes(ctx context.Context, act profile.Act, do func(context.Context) error) error {
	i := slices.IndexFunc(t.p.Order, func(s profile.Stage) bool { return s.Act == act })
	if i < 0 || t.p.Order[i].Then == profile.Stays {
		return do(ctx)
	}
	want := t.at
	if planned, err := netip.ParseAddr(t.vars["address"]); err == nil {
		want = planned
	}
	if t.p.Order[i].Then == profile.Moves {
		if err := do(ctx); err != nil && !errors.Is(err, driver.ErrNoAnswer) {
			return err
		}
		w := watch.New(t.site.segment.Bench(), t.mac, t.target(t.at).Avoid)
		defer w.Close()
		waiting, done := context.WithTimeout(ctx, time.Duration(t.p.Restart.AtMost))
		defer done()
		for at := (netip.Addr{}); at != want; {
			var err error
			if at, err = w.Find(waiting, []netip.Addr{want}, false); err != nil {
				return fmt.Errorf("it does not answer at %s: %w", want, err)
			}
		}
		t.moved(want)
		return nil
	}
	r := &watch.Restart{Tell: driver.Teller(t.site.segment.Bench(), t.p, t.target, func() *profile.Login { return &t.login })}
	defer r.Close()
	r.Begin(ctx, t.site.segment.Bench(), t.mac, t.p, t.at, want, t.p.Factory.Address.Bits,
		t.target(t.at).Avoid)
	if err := r.During(ctx, do); err != nil && !errors.Is(err, driver.ErrNoAnswer) {
		return err
	}
	out, err := r.Wait(ctx)
	if err != nil {
		return fmt.Errorf("after its restart: %w", err)
	}
	t.out.Facts["restart shown by"] = out.Evidence
	t.moved(out.At)
	return nil
}

// moved talks to the box where it is now, not signed in yet.
func (t *trial) moved(at netip.Addr) {
	t.client.Close()
	t.at, t.inside, t.client = at, false, driver.New(t.site.segment.Bench(), t.target(at))
}

// signIn uses what is stored for the box, else the factory login, each once.
func (t *trial) signIn(ctx context.Context) error {
	if t.login != (profile.Login{}) { // it took this one in this trial
		err := t.client.SignIn(ctx, t.login)
		t.inside = err == nil
		return err
	}
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
			t.inside, t.login = true, login.Login
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
	if err := t.site.all.Vault.Put(ctx, vault.New{MAC: t.mac, Login: next, Origin: "trial by " + t.who,
		State: state.Pending, ToldBy: "trial by " + t.who}); err != nil {
		return err
	}
	vars := maps.Clone(t.vars)
	vars["user"], vars["password"] = next.User, next.Password
	err = t.goes(ctx, act, func(ctx context.Context) error {
		_, err := t.client.Do(ctx, act, vars)
		return err
	})
	if errors.Is(err, driver.ErrNotSent) {
		return errors.Join(err, t.withdraw(ctx, next))
	}
	if err != nil {
		return err
	}
	t.login = profile.Login{} // the new one is tried
	return t.signIn(ctx)
}

// withdraw gives a password up that was stored and never sent: no box is tried with it.
func (t *trial) withdraw(ctx context.Context, login profile.Login) error {
	known, err := t.site.all.Vault.Logins(ctx, t.mac)
	for _, l := range known {
		if l.Login == login && l.State == state.Pending {
			return t.site.all.Store.SetCredential(ctx, t.mac, l.ID, state.Superseded, "never sent")
		}
	}
	return err
}
