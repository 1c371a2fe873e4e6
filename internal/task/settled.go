package task

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"redstart/internal/core/evidence"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/core/stamp"
	"redstart/internal/driver"
	"redstart/internal/store"
)

// Settled looks, in a run that was cut off, whether the device has everything already and
// restarted after it was last written to: then there is nothing left to do, and to repeat
// it would only write once more what no restart follows. It says what shows that; "" means
// that the acts are repeated.
func (b *Box) Settled(ctx context.Context) (how string, err error) {
	state, err := b.Boxes.DeviceState(ctx, b.d.MAC)
	if err != nil || state.ChangedAt.IsZero() || b.at != b.want() || len(b.d.Given.Secrets) > 0 {
		return "", err
	}
	if err := b.signIn(ctx); err != nil {
		return "", b.passing(ctx, err)
	}
	if b.p.SetsPassword() && (!b.own() || !b.keepsLogin()) {
		return "", nil
	}
	asked := time.Now()
	facts := map[string]string{}
	for _, act := range []profile.Act{profile.Identify, profile.Read} {
		told, err := b.converse().Do(ctx, act, nil)
		if err != nil {
			return "", b.passing(ctx, err)
		}
		maps.Copy(facts, told)
	}
	if !b.reads(facts) {
		return "", nil
	}
	how = evidence.Read(facts, asked, time.Now()).SinceWrite(state.Written, state.Starts)
	if how == "" {
		return "", nil
	}
	return how, errors.Join(b.Boxes.SetDeviceState(ctx, store.DeviceState{MAC: b.d.MAC,
		RestartedAt: stamp.Time{Time: asked}, Evidence: how}), b.remember(ctx))
}

// passing keeps of an error only what the run must know; for anything else the acts are
// repeated, and say it themselves.
func (b *Box) passing(ctx context.Context, err error) error {
	if ctx.Err() != nil || Ours(err) || errors.Is(err, driver.ErrNoAnswer) {
		return err
	}
	return nil
}

// keepsLogin reports whether the login that opens the device is the one that is planned.
func (b *Box) keepsLogin() bool {
	opens := procedure.Login{Known: true, User: b.login.User, Stamp: b.login.Stamp}
	return opens.Keeps(b.d.Given) && !b.login.MadeAt.Before(b.d.FreshSince.Time)
}

// reads reports whether what the device tells is what it was to be given, as far as it is
// sent at all.
func (b *Box) reads(facts map[string]string) bool {
	back, want := b.p.ReadsBack(), b.d.Given.Variables()
	for _, key := range []string{"name", "address", "mask", "gateway"} {
		if !slices.Contains(back, key) || facts[key] != want[key] {
			return false
		}
	}
	for key, planned := range b.d.Given.SiteWide {
		if !slices.Contains(back, key) || facts[key] != planned {
			return false
		}
	}
	for key, value := range b.d.Given.Settings {
		if s := b.p.Setting(key); s == nil || !s.Same(value, facts["setting."+key]) {
			return false
		}
	}
	return true
}
