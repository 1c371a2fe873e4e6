package task

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/driver"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// signIn opens the device with what is known to open it, if its acts need that.
func (b *Box) signIn(ctx context.Context) error {
	if b.inside || len(b.p.Acts[profile.SignIn]) == 0 {
		return nil
	}
	if b.login == nil {
		if err := b.findLogin(ctx); err != nil {
			return err
		}
	}
	if b.login == nil {
		return nil // no password until first use
	}
	if b.inside {
		return nil
	}
	if err := b.converse().SignIn(ctx, b.login.Login); err != nil {
		return err
	}
	b.inside = true
	return nil
}

// findLogin tries what may open the device: where it is as from the factory, and this run
// gave it no password yet, that login, then what is stored, then the factory login; each
// once.
func (b *Box) findLogin(ctx context.Context) error {
	if b.login != nil {
		return nil
	}
	stored, err := b.tries.Candidates(ctx)
	if err != nil {
		return err
	}
	if fresh, err := b.stillFresh(ctx, stored); fresh || err != nil {
		b.reset = fresh
		return err
	}
	factory := b.p.FactoryLogin(b.d.Serial)
	if f := factory; f != nil {
		fresh := vault.Login{Login: *f, Origin: "the factory"}
		given := b.journal[string(profile.Password)].Phase != "" ||
			slices.ContainsFunc(stored, func(l vault.Login) bool {
				return l.State == state.Pending
			})
		if b.p.Factory.Address.Contains(b.at) && !given {
			stored = append([]vault.Login{fresh}, stored...)
		} else {
			stored = append(stored, fresh)
		}
	}
	// What a run that was cut off had sent may be taken only while the logins are tried: the one
	// that the box did not have yet is tried once more, after those of before.
	late := -1
	if i := slices.IndexFunc(stored, func(l vault.Login) bool { return l.State == state.Pending }); i >= 0 &&
		!b.triedLate && b.journal[string(profile.Password)].Phase == state.Begun {
		late, stored = len(stored), append(slices.Clone(stored), stored[i])
	}
	refused := 0
	var stranger error
	for i, l := range stored {
		if i == late {
			b.triedLate = true
			b.tries.Again(l.Login)
		}
		if b.tries.Was(l.Login) {
			refused++
			continue
		}
		if err := b.tries.May(ctx, l.Login); err != nil {
			if stranger != nil {
				break
			}
			return err
		}
		switch err := b.converse().SignIn(ctx, l.Login); {
		case err == nil:
			b.login, b.inside, b.reset = &l, true, l.ID == 0
			return b.tries.Accepted(ctx, l)
		case errors.Is(err, driver.ErrLogin):
			refused++
			if err := b.tries.Refused(ctx, l); err != nil {
				return err
			}
		case errors.Is(err, driver.ErrStranger):
			stranger = err
		case errors.Is(err, driver.ErrNoAnswer):
			b.tries.Unanswered(l.Login) // it may be going for a restart: that is no refusal
			return err
		default:
			return err
		}
	}
	if stranger != nil {
		return b.anew(ctx, stranger)
	}
	if b.p.LoginFromSerial() && factory == nil {
		return problem.New(problem.Conflict, "its first password is made from the serial on its label, which the plan does not say",
			"read the label into the plan: redstart plan set "+b.d.Tag+" serial=…, or scan it")
	}
	if b.p.Factory.Login == nil && refused == 0 {
		b.reset = true
		return nil // no password until first use
	}
	if refused < len(stored) || b.p.Factory.Login != nil {
		return problem.New(problem.Device, "neither a stored password nor the factory login opens it",
			"reset it to its factory state, or give its password: redstart vault learn").Kinds(driver.ErrLogin)
	}
	return nil // what was stored is out of date; first use tells whether it was reset
}

// stillFresh reports whether the device offers the way in of one that nobody set up. A run
// that was cut off may have stored a password that it never sent: that is not tried then, as
// it would only count as a wrong one.
func (b *Box) stillFresh(ctx context.Context, stored []vault.Login) (bool, error) {
	onlyPending := len(stored) > 0 && !slices.ContainsFunc(stored, func(l vault.Login) bool {
		return l.State != state.Pending
	})
	if !onlyPending || b.p.Factory.Login != nil || len(b.p.Acts[profile.FactoryEntry]) == 0 {
		return false, nil
	}
	_, err := b.converse().Do(ctx, profile.FactoryEntry, nil)
	b.converse().SignOut()
	if err != nil && (Ours(err) || errors.Is(err, context.Canceled)) {
		return false, err
	}
	return err == nil, nil
}

// anew takes a box that shows another identity than before for one that was reset,
// if it offers the way in of a factory-fresh one; else it is a stranger.
func (b *Box) anew(ctx context.Context, stranger error) error {
	if len(b.p.Acts[profile.FactoryEntry]) == 0 {
		return stranger
	}
	b.converse().SignOut()
	if _, err := b.converse().Do(ctx, profile.FactoryEntry, nil); err != nil {
		return stranger
	}
	b.reset = true
	return nil
}

// own reports whether a password of its own opens the device.
func (b *Box) own() bool { return b.login != nil && b.login.ID != 0 }

// proveBeside is prove over a second session, while the one that set the password stays open: should the
// device refuse what it took, the first gives it back the login that it had.
func (b *Box) proveBeside(ctx context.Context, act profile.Act, had *vault.Login) error {
	first := b.client
	if had == nil || first == nil || b.d.Line != "" { // a line holds one session
		return b.prove(ctx)
	}
	b.client = nil
	defer first.Close()
	refusal := b.prove(ctx)
	if errors.Is(refusal, driver.ErrNoAnswer) && ctx.Err() == nil { // some hold one session at a time
		first.Close()
		b.HangUp()
		return b.prove(ctx)
	}
	if !errors.Is(refusal, driver.ErrLogin) {
		return refusal
	}
	vars, err := b.variables(ctx)
	if err != nil {
		return errors.Join(refusal, err)
	}
	vars["user"], vars["password"] = had.User, had.Password
	vars["old-user"], vars["old-password"] = b.login.User, b.login.Password
	if _, err := first.Do(ctx, act, vars); err != nil {
		return refusal
	}
	if err := b.converse().SignIn(ctx, had.Login); err != nil {
		return refusal
	}
	b.login, b.inside, b.unproven = had, true, false
	return problem.New(problem.Device, "it took a new password, but refuses it; it was given back the one from before, which opens it",
		"another password may do: see which characters and how many it takes, mend its profile, then commission it again")
}

// prove tries the password that was set, and takes it as the one that opens the
// device from now on.
func (b *Box) prove(ctx context.Context) error {
	if !b.unproven {
		return nil
	}
	if err := b.tries.May(ctx, b.login.Login); err != nil {
		return err
	}
	switch err := b.converse().SignIn(ctx, b.login.Login); {
	case errors.Is(err, driver.ErrLogin):
		return errors.Join(problem.New(problem.Device, "it took a new password, but refuses it",
			"look at the box; reset it to its factory state, or give its password: redstart vault learn").Kinds(driver.ErrLogin),
			b.tries.Refused(ctx, *b.login))
	case errors.Is(err, driver.ErrNoAnswer):
		b.tries.Unanswered(b.login.Login)
		return err
	case err != nil:
		return err
	}
	b.inside, b.unproven = true, false
	return errors.Join(b.tries.Accepted(ctx, *b.login), b.changing(ctx), b.remember(ctx))
}

// changing notes the time of a write.
func (b *Box) changing(ctx context.Context) error {
	return b.Boxes.SetDeviceState(ctx, store.DeviceState{MAC: b.d.MAC, ChangedAt: stamp.Now()})
}

// remember notes what the device's servers showed, for later comparing.
func (b *Box) remember(ctx context.Context) error {
	for _, seen := range b.converse().Servers() {
		if b.servers[seen.Kind] == seen.Sum {
			continue
		}
		if err := b.Boxes.SetServer(ctx, b.d.MAC, seen.Kind, seen.Sum); err != nil {
			return err
		}
		b.servers[seen.Kind] = seen.Sum
	}
	return nil
}

// trust refuses to send a login to a server that is another than before, unless the
// box was as from the factory or its profile says that it makes a new one.
func (b *Box) trust(s driver.Server) error {
	if was := b.servers[s.Kind]; was != "" && was != s.Sum && !b.reset && !b.renewed[s.Kind] {
		return fmt.Errorf("%s, not %s; if that is right, undo its match and match it again", s.Named(),
			driver.Server{Kind: s.Kind, Sum: was}.Named())
	}
	return nil
}
