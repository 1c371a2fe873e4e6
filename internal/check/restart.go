package check

import (
	"context"
	"errors"
	"time"

	"redstart/internal/core/profile"
	"redstart/internal/core/result"
	"redstart/internal/core/stamp"
	"redstart/internal/driver"
	"redstart/internal/lan/watch"
)

// When a device is restarted so that its settings are shown to survive.
const (
	Needed = "needed" // when no restart was seen since it was last written to
	Always = "always"
	Never  = "never"
)

// errNotTried says that nobody got so far as to restart the device.
var errNotTried = errors.New("no stored credential opens it")

// begin restarts the device where that is wanted, before anything is looked at, and notes
// what showed it.
func (v *Visit) begin(ctx context.Context, restart string) error {
	switch {
	case restart == Never:
		return nil
	case len(v.Profile.Acts[profile.Restart]) == 0:
		v.byHandOnly = restart == Always
		return nil
	}
	if here, err := v.bench.Holds(ctx, v.peer()); err != nil || !here {
		return err
	}
	if restart == Needed && (!v.restartedAt.IsZero() || v.changedAt.IsZero()) {
		return nil // it was seen, or nobody knows that it was ever written to
	}
	out, err := v.restart(ctx)
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, errNotTried):
		if restart == Always {
			v.restarted = result.Saw("it could not be restarted: "+plain(err).Error(), false)
		}
	case err != nil:
		v.restarted = result.Saw("its restart: "+plain(err).Error(), false)
	default:
		v.restarted = result.Saw("restarted", true)
		v.restartedAt, v.evidence = stamp.Now().Time, out.Evidence
		return v.noteRestart(ctx)
	}
	return nil
}

// restart restarts the device and waits until it is back and has shown that it
// restarted.
func (v *Visit) restart(ctx context.Context) (watch.Result, error) {
	client := v.fresh()
	if seen, err := v.signIn(ctx, client); err != nil || !seen.Good && len(v.Profile.Acts[profile.SignIn]) > 0 {
		return watch.Result{}, errors.Join(err, errNotTried)
	}
	r := &watch.Restart{Fatal: func(err error) bool { return errors.Is(err, driver.ErrLogin) }}
	defer r.Close()
	r.Tell = driver.Teller(v.bench, v.Profile, v.target, func() *profile.Login {
		if v.login == nil {
			return nil
		}
		return &v.login.Login
	})
	r.Begin(ctx, v.bench, v.MAC, v.Profile, v.Address, v.Address, v.Given.Address.Bits(), v.avoid)
	err := r.During(ctx, func(ctx context.Context) error {
		_, err := client.Do(ctx, profile.Restart, v.Given.Variables())
		return err
	})
	if err != nil && !errors.Is(err, driver.ErrNoAnswer) {
		return watch.Result{}, err
	}
	v.Close()
	out, err := r.Wait(ctx)
	if err != nil {
		return out, err
	}
	up, cancel := context.WithTimeout(ctx, time.Duration(v.Profile.Restart.AtMost))
	defer cancel()
	return out, v.fresh().Answering(up)
}
