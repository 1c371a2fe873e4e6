package task

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/stamp"
	"redstart/internal/driver"
	"redstart/internal/lan/watch"
	"redstart/internal/store"
)

// comeBack waits for a device that goes after an act.
var comeBack = &Task{
	Name: "return",
	Text: func(o Of) string {
		if o.Stage.Then == profile.Moves {
			return "find it at " + o.Given.Address.Addr().String()
		}
		return "wait until it is back at its address, about " + time.Duration(o.Profile.Restart.Takes).String()
	},
	Do: func(ctx context.Context, b *Box, s Step) (string, error) { return b.comeBack(ctx, s) },
}

// comeBack waits for the device at its planned address, and for what shows that
// it restarted.
func (b *Box) comeBack(ctx context.Context, s Step) (string, error) {
	r := b.restart
	b.restart = nil
	b.HangUp()
	if r != nil {
		defer r.Close()
	}
	if b.idle {
		b.idle = false
		return "nothing was sent, so it stayed", nil
	}
	ctx, cancel := context.WithTimeout(ctx, time.Duration(b.p.Restart.AtMost)+lastLook)
	defer cancel()
	if s.stage.Then == profile.Moves {
		return b.moved(ctx)
	}
	if r == nil {
		return "", problem.New(problem.Device, "the run was cut off while it restarted", "commission it again")
	}
	out, err := r.Wait(ctx)
	b.here, b.at = out.Here, out.At
	how := out.Evidence
	switch {
	case errors.Is(err, watch.ErrNoRestart) && s.stage.Act != profile.Restart && b.old == out.At:
		// Nothing changed for it, so it may well have left the restart out.
		how = "nothing shows that it restarted, since nothing changed"
	case errors.Is(err, driver.ErrLogin):
		return "", problem.New(problem.Device, "after its restart it refuses the password that it took before",
			"look at the box; reset it to its factory state, or give its password: redstart vault learn").About(b.d.MAC.String())
	case errors.Is(err, watch.ErrNoRestart) && s.stage.Act == profile.Restart && b.unanswered:
		// it is told again
		return "", fmt.Errorf("%w to what was to make it restart, and it did not: %w", driver.ErrNoAnswer, err)
	case err != nil && (Ours(err) || errors.Is(err, context.Canceled)):
		return "", err
	case err != nil:
		return "", problem.New(problem.Device, fmt.Sprintf("%s, after %.0f s", err, out.Took.Seconds()),
			"look at the box; switch it off and on if it is dark, then commission it again").About(b.d.MAC.String()).Kinds(err)
	}
	if err := b.converse().Answering(ctx); err != nil {
		return "", err
	}
	if out.Evidence != "" {
		if err := b.Boxes.SetDeviceState(ctx, store.DeviceState{MAC: b.d.MAC, RestartedAt: stamp.Now(),
			Evidence: out.Evidence}); err != nil {
			return "", err
		}
	}
	if err := b.prove(ctx); err != nil {
		return "", err
	}
	if len(b.renewed) > 0 {
		if err := errors.Join(b.signIn(ctx), b.remember(ctx)); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("at %s after %.1f s; %s", b.at, out.Took.Seconds(), how), b.Sighted(ctx, false)
}

// moved finds the device at its new address, which it took at once.
func (b *Box) moved(ctx context.Context) (string, error) {
	began := time.Now()
	w := watch.New(b.Bench, b.d.MAC, b.Avoid)
	defer w.Close()
	b.at = netip.Addr{}
	for b.at != b.want() {
		at, err := w.Find(ctx, []netip.Addr{b.want()}, false)
		if errors.Is(err, watch.ErrAbsent) && b.unanswered {
			// it is told again
			return "", fmt.Errorf("%w to its new address, and it is not there: %w", driver.ErrNoAnswer, err)
		}
		if errors.Is(err, watch.ErrAbsent) {
			return "", problem.New(problem.Device, fmt.Sprintf("it does not answer at its new address within %s",
				time.Duration(b.p.Restart.AtMost)),
				"look at the box; switch it off and on if it is dark, then commission it again").About(b.d.MAC.String())
		}
		if err != nil {
			return "", err
		}
		b.here, b.at = true, at
	}
	if err := b.converse().Answering(ctx); err != nil {
		return "", err
	}
	return fmt.Sprintf("at %s after %.1f s", b.at, time.Since(began).Seconds()), b.Sighted(ctx, false)
}
