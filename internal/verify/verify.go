// Package verify looks at devices afresh and compares what they say with the
// plan. It remembers nothing of the run that set them but when they were last
// written to.
package verify

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/core/check"
	"redstart/internal/core/device"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/watch"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// When a device is restarted so that its settings are shown to survive.
const (
	Needed = "needed" // when no restart was seen since it was last written to
	Always = "always"
	Never  = "never"
)

var errAway = errors.New("it is not at its planned address")

const echoTime = 5 * time.Second

// Verifier looks at devices.
type Verifier struct {
	Bench    *bench.Bench
	Store    *store.Site
	Vault    *vault.Vault
	Profiles profile.Set
}

// Entry verifies one matched entry of the plan, and stores the checks and the
// state they lead to.
func (v *Verifier) Entry(ctx context.Context, r plan.Resolver, e store.Entry, restart string, avoid func(netip.Addr) bool, who string) ([]check.Check, error) {
	p := v.Profiles[e.Profile]
	if p == nil {
		return nil, problem.New(problem.Conflict, "its profile "+e.Profile+" is gone", "put the profile back").About(e.Tag)
	}
	l := &look{Verifier: v, e: e, p: p, avoid: avoid, given: procedure.For(r, e.Entry, p)}
	defer l.close()
	conduct, err := v.Store.Conduct(ctx, e.Device)
	if err != nil {
		return nil, err
	}
	saw, err := l.observe(ctx, conduct, restart)
	if err != nil {
		return nil, err
	}
	serial := e.Serial
	if serial == "" {
		serial = conduct.Serial
	}
	list := check.Judge(check.Expectation{MAC: e.Device, Serial: serial, Certificate: conduct.Certificate, Values: l.given, Ports: p.Ports}, saw, time.Now().UTC())
	state, reason := store.Verified, ""
	if failing := check.Failing(list); len(failing) > 0 {
		state, reason = store.Attention, fmt.Sprintf("verify, %s: expected %s, observed %s", failing[0].Name, failing[0].Expected, failing[0].Observed)
	}
	if read := saw.Facts[device.Serial] != "" || saw.Facts[device.Name] != ""; read {
		heard := device.Sighting{MAC: e.Device, Protocol: "web", At: saw.FactsReadAt, Facts: map[string]string{}}
		for _, key := range []string{device.Address, device.Name, device.Serial, device.Firmware} {
			heard.Facts[key] = saw.Facts[key]
		}
		if err := v.Store.Sight(ctx, heard); err != nil {
			return nil, err
		}
	}
	return list, v.Store.SetChecks(ctx, e.Tag, list, state, reason, who)
}

// look is one fresh look at one device.
type look struct {
	*Verifier
	e     store.Entry
	p     *profile.Profile
	avoid func(netip.Addr) bool
	given procedure.Values
	talk  *driver.Talk
}

func (l *look) fresh() *driver.Talk {
	l.close()
	l.talk = driver.New(l.Bench, driver.Target{MAC: l.e.Device, Address: l.e.Address, Bits: l.given.Address.Bits(), Profile: l.p, Avoid: l.avoid})
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
	saw.LastChange, saw.RestartedAt = conduct.ChangedAt.Time, conduct.RestartedAt.Time
	here, err := l.Bench.Holds(ctx, l.e.Device, l.e.Address)
	if err != nil {
		return saw, err
	}
	seen := saw.RestartedAt.After(saw.LastChange)
	if canRestart := len(l.p.Acts[profile.Restart]) > 0; canRestart && here && (restart == Always || restart == Needed && !seen) {
		// A device that does not come back shows as such in what follows.
		if l.restart(ctx) == nil {
			saw.RestartedAt = store.Now().Time
			if err := l.Store.SetConduct(ctx, store.Conduct{MAC: l.e.Device, RestartedAt: store.Stamp{Time: saw.RestartedAt}}); err != nil {
				return saw, err
			}
		}
	}
	if saw.Holders, err = l.Bench.Holders(ctx, l.e.Address); err != nil {
		return saw, err
	}
	if !slices.Contains(saw.Holders, l.e.Device) {
		// Nothing else can be asked; waiting for each answer would only take long.
		saw.Echo, saw.NewLogin, saw.ReadError = errAway, errAway, errAway
		saw.FactoryLogin = errAway.Error()
		saw.Ports = map[uint16]error{}
		for _, port := range l.p.Ports {
			saw.Ports[port] = errAway
		}
		return saw, ctx.Err()
	}
	talk := l.fresh()
	echo, cancel := context.WithTimeout(ctx, echoTime)
	saw.Echo = plain(talk.Echo(echo))
	cancel()
	saw.Ports = map[uint16]error{}
	for _, port := range l.p.Ports {
		knock, cancel := context.WithTimeout(ctx, echoTime)
		saw.Ports[port] = plain(talk.Knock(knock, port))
		cancel()
	}
	if err := l.readBack(ctx, &saw); err != nil {
		return saw, err
	}
	saw.FactoryLogin = l.factoryLogin(ctx)
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

// signIn uses the newest stored credential that the device accepts.
func (l *look) signIn(ctx context.Context, talk *driver.Talk) error {
	if len(l.p.Acts[profile.SignIn]) == 0 {
		return nil
	}
	logins, err := l.Vault.Logins(ctx, l.e.Device)
	if err != nil {
		return err
	}
	if len(logins) == 0 {
		return errors.New("no credential of this device is stored")
	}
	for _, login := range logins {
		if err = talk.SignIn(ctx, login.Login); err == nil {
			return l.Vault.Works(ctx, login)
		}
		if !errors.Is(err, driver.ErrLogin) {
			return err
		}
	}
	return err
}

func (l *look) readBack(ctx context.Context, saw *check.Observation) error {
	facts, err := l.talk.Do(ctx, profile.Identify, nil)
	if err != nil {
		facts = map[string]string{}
	}
	saw.NewLogin = plain(l.signIn(ctx, l.talk))
	if ctx.Err() != nil {
		return ctx.Err()
	}
	read, err := l.talk.Do(ctx, profile.Read, nil)
	saw.ReadError = plain(err)
	if err == nil {
		maps.Copy(facts, read)
	} else {
		// Only what was read with the new login counts as read back.
		facts = map[string]string{"serial": facts["serial"]}
	}
	saw.Facts, saw.FactsReadAt, saw.Certificate = facts, store.Now().Time, l.talk.Certificate()
	return nil
}

// factoryLogin tries, in a conversation of its own, what opens a fresh box.
func (l *look) factoryLogin(ctx context.Context) string {
	talk := l.fresh()
	var err error
	switch {
	case l.p.Factory.Login != nil:
		err = talk.SignIn(ctx, *l.p.Factory.Login)
	case len(l.p.Acts[profile.FactoryEntry]) > 0:
		_, err = talk.Do(ctx, profile.FactoryEntry, nil)
	default:
		return "not tried: the profile does not say how"
	}
	switch {
	case err == nil:
		return "accepted"
	case errors.Is(err, driver.ErrLogin):
		return "refused"
	}
	return plain(err).Error()
}

// restart restarts the device and waits until it is back.
func (l *look) restart(ctx context.Context) error {
	talk := l.fresh()
	if err := l.signIn(ctx, talk); err != nil {
		return err
	}
	w := watch.New(l.Bench, l.e.Device)
	defer w.Close()
	if _, err := talk.Do(ctx, profile.Restart, l.given.Variables()); err != nil && !errors.Is(err, driver.ErrNoAnswer) {
		return err
	}
	l.close()
	ctx, cancel := context.WithTimeout(ctx, time.Duration(l.p.Restart.AtMost))
	defer cancel()
	if err := w.Back(ctx, l.e.Address, l.e.Address); err != nil {
		return err
	}
	return l.fresh().Answering(ctx)
}
