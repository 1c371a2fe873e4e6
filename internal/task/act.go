package task

import (
	"context"
	"errors"
	"net/netip"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/lan/watch"
)

// act has the device do what its profile says for a stage, signed in where that needs it.
func (b *Box) act(ctx context.Context, s Step) (string, error) {
	b.idle = false
	if b.p.NeedsLogin(s.stage.Act) {
		if err := b.signIn(ctx); err != nil {
			return "", err
		}
		if err := b.confirmInside(ctx); err != nil {
			return "", err
		}
	}
	if s.stage.Act != profile.Restart {
		if err := b.changing(ctx); err != nil {
			return "", err
		}
	}
	if err := b.beforeGoing(ctx, s); err != nil {
		return "", err
	}
	vars, err := b.variables(ctx)
	if err != nil {
		return "", err
	}
	detail := s.Text
	b.unanswered = false
	err = b.send(ctx, s.stage.Act, vars)
	if s.stage.Then != profile.Stays && errors.Is(err, driver.ErrNoAnswer) && ctx.Err() == nil {
		// The answer of a device that goes can be lost with it, and cannot be
		// sent again. Whether it did as asked shows in where it comes back.
		detail, err = detail+"; no answer came, so looking for it", nil
		b.unanswered = true
	}
	if err != nil {
		return "", err
	}
	if s.stage.Then == profile.Stays {
		return detail, b.changing(ctx)
	}
	return detail, nil
}

// send has the device do something, as far as it is there to answer.
func (b *Box) send(ctx context.Context, act profile.Act, vars map[string]string) error {
	do := func(ctx context.Context) error {
		_, err := b.converse().Do(ctx, act, vars)
		return err
	}
	if b.restart == nil {
		return do(ctx)
	}
	return b.restart.During(ctx, do)
}

// beforeGoing notes, before an act that makes the device go, what will show that
// it restarted.
func (b *Box) beforeGoing(ctx context.Context, s Step) error {
	b.old = b.at
	if s.stage.Then != profile.Restarts {
		return nil
	}
	login := func() *profile.Login {
		if b.login == nil {
			return nil
		}
		return &b.login.Login
	}
	if s.stage.Act == profile.Password {
		login = nil // which of two opens it is what the restart decides; none is tried in vain
	}
	bits := b.target(b.at).Bits
	if b.restart != nil {
		b.restart.Close()
	}
	b.restart = &watch.Restart{Fatal: func(err error) bool { return errors.Is(err, driver.ErrLogin) }}
	if tell := driver.Teller(b.Bench, b.p, b.target, login); tell != nil {
		b.restart.Tell = tell
	}
	b.restart.Begin(ctx, b.Bench, b.d.MAC, b.p, b.at, b.destination(ctx, s), bits, b.Avoid)
	if n := b.restart.Starts(); n >= 0 {
		return b.Boxes.SetStarts(ctx, b.d.MAC, n)
	}
	return nil
}

// destination tells where the device should be after an act: where it is, until its
// address was sent.
func (b *Box) destination(ctx context.Context, s Step) netip.Addr {
	if s.stage.Act == profile.Load {
		if at := b.sibling(ctx); at.IsValid() {
			return at
		}
	}
	for _, o := range b.p.Order {
		if o.Act == profile.Address {
			return b.want()
		}
		if o.Act == s.stage.Act {
			break
		}
	}
	return b.at
}
