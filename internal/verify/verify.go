// Package verify looks at devices afresh and compares what they say with the
// plan. It remembers nothing of the run that set them but when they were last
// written to.
package verify

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/core/check"
	"redstart/internal/core/device"
	"redstart/internal/core/evidence"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/watch"
	"redstart/internal/shield"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// When a device is restarted so that its settings are shown to survive.
const (
	Needed = "needed" // when no restart was seen since it was last written to
	Always = "always"
	Never  = "never"
)

const (
	echoTime = 5 * time.Second
	away     = "it is not at its planned address"
)

// Verifier looks at devices.
type Verifier struct {
	Bench    *bench.Bench
	Store    *store.Site
	Vault    *vault.Vault
	Profiles profile.Set
	Log      *slog.Logger
}

// Entry verifies one matched entry of the plan, and stores the checks and the
// state they lead to.
func (v *Verifier) Entry(ctx context.Context, r plan.Resolver, e store.Entry, restart string, avoid func(netip.Addr) bool, who string) (list []check.Check, err error) {
	err = shield.Do(v.Log, e.Device.String(), func() error {
		list, err = v.entry(ctx, r, e, restart, avoid, who)
		return err
	})
	return list, err
}

func (v *Verifier) entry(ctx context.Context, r plan.Resolver, e store.Entry, restart string, avoid func(netip.Addr) bool, who string) ([]check.Check, error) {
	p := v.Profiles[e.Profile]
	switch {
	case p == nil:
		return nil, problem.New(problem.Conflict, "its profile "+e.Profile+" is gone", "put the profile back").About(e.Tag)
	case !e.Address.IsValid():
		return nil, problem.New(problem.Conflict, "it has no planned address", "plan one: redstart plan set "+e.Tag+" address=next").About(e.Tag)
	}
	l := &look{Verifier: v, e: e, p: p, avoid: avoid, given: procedure.For(r, e.Entry, p), tries: v.Vault.Try(e.Device, p.Accounts, "verification by "+who)}
	defer l.close()
	servers, err := v.Store.Servers(ctx, e.Device)
	if err != nil {
		return nil, err
	}
	l.known = servers
	conduct, err := v.Store.Conduct(ctx, e.Device)
	if err != nil {
		return nil, err
	}
	if e.HandAt.After(conduct.ChangedAt.Time) {
		conduct.ChangedAt = e.HandAt // a person wrote to it until then
	}
	saw, err := l.observe(ctx, conduct, restart)
	if err != nil {
		return nil, err
	}
	serial := cmp.Or(e.Serial, conduct.Serial)
	list := check.Judge(check.Expectation{MAC: e.Device, PlannedMAC: e.MAC, Serial: serial, Servers: servers, Values: l.given, Ports: p.Ports, Reads: p.ReadsBack()}, saw, time.Now().UTC())
	state, reason := store.Configured, ""
	if e.State == store.Matched {
		state = store.Matched // nobody says that it was set; what was seen is told all the same
	}
	if check.Verified(list) {
		state = store.Verified
	}
	if failing := check.Failing(list); len(failing) > 0 {
		state, reason = store.Attention, fmt.Sprintf("verify, %s: expected %s, observed %s", failing[0].Name, failing[0].Expected, failing[0].Observed)
	}
	// First, since it refuses when the entry is another box by now.
	if err := v.Store.SetChecks(ctx, e.Tag, e.Device, list, state, reason, who); err != nil {
		return list, err
	}
	if saw.Facts[device.Serial] == "" && saw.Facts[device.Name] == "" {
		return list, nil
	}
	heard := device.Sighting{MAC: e.Device, Protocol: "web", At: saw.FactsReadAt, Facts: map[string]string{}}
	for _, key := range []string{device.Address, device.Name, device.Serial, device.Firmware} {
		heard.Facts[key] = saw.Facts[key]
	}
	return list, v.Store.Sight(ctx, heard, func(f *device.Found) { f.Recognise(v.Profiles) })
}

// look is one fresh look at one device.
type look struct {
	*Verifier
	e     store.Entry
	p     *profile.Profile
	avoid func(netip.Addr) bool
	given procedure.Values
	talk  *driver.Talk
	tries *vault.Tries
	known map[string]string // what its servers showed before, by kind
	login *vault.Login      // that was accepted in this look; nil before
}

func (l *look) target(at netip.Addr) driver.Target {
	return driver.Target{MAC: l.e.Device, Address: at, Bits: l.given.Address.Bits(), Profile: l.p, Avoid: l.avoid, Trust: l.trust}
}

// trust refuses to send a login to a server that is another than before.
func (l *look) trust(s driver.Server) error {
	if was := l.known[s.Kind]; was != "" && was != s.Sum {
		return fmt.Errorf("%s, not %s", s.Named(), driver.Server{Kind: s.Kind, Sum: was}.Named())
	}
	return nil
}

func (l *look) fresh() *driver.Talk {
	l.close()
	l.talk = driver.New(l.Bench, l.target(l.e.Address))
	return l.talk
}

func (l *look) close() {
	if l.talk != nil {
		l.talk.Close()
		l.talk = nil
	}
}

// observe gathers everything. Its error is ours (the records, the port), not
// the device's: what the device does wrong is part of the observation.
func (l *look) observe(ctx context.Context, conduct store.Conduct, restart string) (saw check.Observation, err error) {
	saw.LastChange, saw.RestartedAt, saw.Evidence, saw.Told = conduct.ChangedAt.Time, conduct.RestartedAt.Time, conduct.Evidence, conduct.Serial
	here, err := l.Bench.Holds(ctx, l.e.Device, l.e.Address)
	if err != nil {
		return saw, err
	}
	if here && len(l.p.Acts[profile.Restart]) > 0 && restart != Never {
		if err := l.mayRestart(ctx, &saw, restart, conduct); err != nil {
			return saw, err
		}
	}
	if saw.Holders, err = l.Bench.Holders(ctx, l.e.Address); err != nil {
		return saw, err
	}
	if here && !slices.Contains(saw.Holders, l.e.Device) { // it may have been busy
		if here, err = l.Bench.Holds(ctx, l.e.Device, l.e.Address); err != nil {
			return saw, err
		}
		if here {
			saw.Holders = append(saw.Holders, l.e.Device)
		}
	}
	saw.Held = true
	if !slices.Contains(saw.Holders, l.e.Device) {
		// Nothing else can be asked.
		gone := check.Unseen(away)
		saw.Echo, saw.NewLogin, saw.Read, saw.FactoryLogin = gone, gone, gone, gone
		saw.Ports = map[uint16]check.Look{}
		for _, port := range l.p.Ports {
			saw.Ports[port] = gone
		}
		return saw, ctx.Err()
	}
	talk := l.fresh()
	echo, cancel := context.WithTimeout(ctx, echoTime)
	saw.Echo = check.Answered(plain(talk.Echo(echo)), "answers")
	cancel()
	saw.Ports = map[uint16]check.Look{}
	for _, port := range l.p.Ports {
		knock, cancel := context.WithTimeout(ctx, echoTime)
		saw.Ports[port] = check.Answered(plain(talk.Knock(knock, port)), "open")
		cancel()
	}
	if err := l.readBack(ctx, &saw, conduct); err != nil {
		return saw, err
	}
	if saw.FactoryLogin, err = l.factoryLogin(ctx); err != nil {
		return saw, err
	}
	return saw, ctx.Err()
}

// plain keeps only what a technician needs of an error.
func plain(err error) error {
	if err == nil {
		return nil
	}
	if p := (*problem.Error)(nil); errors.As(err, &p) {
		return errors.New(p.Cause)
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return errors.New("no answer")
	}
	return err
}

// signIn uses the stored credential that the device accepts, and says which. Its
// error is ours.
func (l *look) signIn(ctx context.Context, talk *driver.Talk) (check.Look, error) {
	if len(l.p.Acts[profile.SignIn]) == 0 {
		return check.Unseen("its profile does not say how to sign in"), nil
	}
	if l.login != nil {
		return check.Answered(plain(talk.SignIn(ctx, l.login.Login)), "accepted"), nil
	}
	logins, err := l.tries.Candidates(ctx)
	if err != nil {
		return check.Look{}, err
	}
	if len(logins) == 0 {
		return check.Unseen("no credential of this device is stored that it did not refuse"), nil
	}
	seen := check.Look{}
	for _, login := range logins {
		if err := l.tries.May(ctx, login.Login); err != nil {
			if !seen.Taken {
				seen = check.Unseen(plain(err).Error())
			}
			return seen, nil
		}
		switch err := talk.SignIn(ctx, login.Login); {
		case err == nil:
			l.login = &login
			return check.Look{Taken: true, Good: true, Said: "accepted", By: login.Named()}, l.tries.Accepted(ctx, login)
		case errors.Is(err, driver.ErrLogin):
			seen = check.Look{Taken: true, Said: "refused", By: login.Named()}
			if err := l.tries.Refused(ctx, login); err != nil {
				return seen, err
			}
		default:
			return check.Answered(plain(err), ""), ctx.Err()
		}
	}
	return seen, nil
}

func (l *look) readBack(ctx context.Context, saw *check.Observation, conduct store.Conduct) (err error) {
	saw.Facts = map[string]string{}
	saw.FactsReadAt = store.Now().Time // or later: an answer may be long on the way
	identity, err := l.talk.Do(ctx, profile.Identify, nil)
	if err == nil {
		saw.Facts["serial"] = identity["serial"]
	}
	if saw.NewLogin, err = l.signIn(ctx, l.talk); err != nil {
		return err
	}
	if l.login != nil {
		saw.LoginStamp, saw.LoginUser = l.login.Stamp, l.login.User
	}
	switch {
	case len(l.p.Acts[profile.Read]) == 0:
		saw.Read = check.Unseen("its profile does not say how to read it back")
	case saw.NewLogin.Taken && !saw.NewLogin.Good, !saw.NewLogin.Taken && len(l.p.Acts[profile.SignIn]) > 0:
		saw.Read = check.Unseen("not signed in")
	default:
		read, err := l.talk.Do(ctx, profile.Read, nil)
		saw.Read = check.Answered(plain(err), "read")
		saw.Read.By = "read with " + l.named()
		if err == nil {
			maps.Copy(saw.Facts, read)
		}
	}
	saw.Servers = map[string]check.Look{}
	for _, seen := range l.talk.Servers() {
		saw.Servers[seen.Kind] = check.Saw(seen.Sum, true)
	}
	// A restart that nobody watched shows in what the device tells now.
	told := maps.Clone(identity)
	if told == nil {
		told = map[string]string{}
	}
	maps.Copy(told, saw.Facts)
	if how := evidence.Read(told, saw.FactsReadAt, time.Now()).SinceWrite(saw.LastChange, conduct.Starts); how != "" && !saw.LastChange.IsZero() && !saw.RestartedAt.After(saw.LastChange) {
		// It lies between the last write and now; anything in between is as true.
		saw.RestartedAt, saw.Evidence = saw.LastChange.Add(saw.FactsReadAt.Sub(saw.LastChange)/2), how
		return l.restarted(ctx, saw)
	}
	return ctx.Err()
}

func (l *look) named() string {
	if l.login == nil {
		return "no login"
	}
	return l.login.Named()
}

func (l *look) restarted(ctx context.Context, saw *check.Observation) error {
	return l.Store.SetConduct(ctx, store.Conduct{MAC: l.e.Device, RestartedAt: store.Stamp{Time: saw.RestartedAt}, Evidence: saw.Evidence})
}

// factoryLogin tries, in a conversation of its own, what opens a fresh box: good
// is that it is refused. Its error is ours.
func (l *look) factoryLogin(ctx context.Context) (check.Look, error) {
	talk := l.fresh()
	var err error
	switch f := l.p.Factory.Login; {
	case f != nil && len(l.p.Acts[profile.SignIn]) > 0:
		if err := l.tries.May(ctx, *f); err != nil {
			return check.Unseen(plain(err).Error()), nil
		}
		err = talk.SignIn(ctx, *f)
		if errors.Is(err, driver.ErrLogin) {
			if err := l.tries.Refused(ctx, vault.Login{Login: *f}); err != nil {
				return check.Look{}, err
			}
		}
	case len(l.p.Acts[profile.FactoryEntry]) > 0:
		_, err = talk.Do(ctx, profile.FactoryEntry, nil)
	default:
		return check.Unseen("its profile does not say how to try it"), nil
	}
	switch {
	case err == nil:
		return check.Saw("accepted", false), nil
	case errors.Is(err, driver.ErrLogin):
		return check.Saw("refused", true), nil
	}
	return check.Unseen(plain(err).Error()), ctx.Err()
}

// mayRestart restarts the device where that is wanted, and notes what showed it.
func (l *look) mayRestart(ctx context.Context, saw *check.Observation, restart string, conduct store.Conduct) error {
	if restart == Needed {
		if saw.RestartedAt.After(saw.LastChange) {
			return nil
		}
		if conduct.ChangedAt.IsZero() {
			return nil // nobody knows that it was ever written to
		}
	}
	out, err := l.restart(ctx)
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, errNotTried):
		if restart == Always {
			saw.Restart = check.Saw("it could not be restarted: "+plain(err).Error(), false)
		}
	case err != nil:
		saw.Restart = check.Saw("its restart: "+plain(err).Error(), false)
	default:
		saw.Restart = check.Saw("restarted", true)
		saw.RestartedAt, saw.Evidence = store.Now().Time, out.Evidence
		return l.restarted(ctx, saw)
	}
	return nil
}

// errNotTried says that nobody got so far as to restart the device.
var errNotTried = errors.New("no stored credential opens it")

// restart restarts the device and waits until it is back and has shown that it
// restarted.
func (l *look) restart(ctx context.Context) (watch.Result, error) {
	talk := l.fresh()
	if seen, err := l.signIn(ctx, talk); err != nil || !seen.Good && len(l.p.Acts[profile.SignIn]) > 0 {
		return watch.Result{}, errors.Join(err, errNotTried)
	}
	r := &watch.Restart{Fatal: func(err error) bool { return errors.Is(err, driver.ErrLogin) }}
	defer r.Close()
	r.Tell = driver.Teller(l.Bench, l.p, l.target, func() *profile.Login {
		if l.login == nil {
			return nil
		}
		return &l.login.Login
	})
	r.Begin(ctx, l.Bench, l.e.Device, l.p, l.e.Address, l.e.Address, l.given.Address.Bits())
	err := r.During(ctx, func(ctx context.Context) error {
		_, err := talk.Do(ctx, profile.Restart, l.given.Variables())
		return err
	})
	if err != nil && !errors.Is(err, driver.ErrNoAnswer) {
		return watch.Result{}, err
	}
	l.close()
	out, err := r.Wait(ctx)
	if err != nil {
		return out, err
	}
	up, cancel := context.WithTimeout(ctx, time.Duration(l.p.Restart.AtMost))
	defer cancel()
	return out, l.fresh().Answering(up)
}
