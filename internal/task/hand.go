package task

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"redstart/internal/core/evidence"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/lan/watch"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// hand waits for something that only a person can do. It parks the device: its place in
// the run is given to others, nothing is sent to it but questions that tell whether it
// was done, and neither the end of the service nor a power cut makes it fail.
var hand = &Task{
	Name:  "by hand",
	Hands: true,
	Text: func(o Of) string {
		h := o.Stage.ByHand
		text := "by hand: " + h.Do
		if h.Within > 0 {
			text += fmt.Sprintf("; what follows must be done within %s", time.Duration(h.Within))
		}
		return text
	},
	Do: func(ctx context.Context, b *Box, s Step) (string, error) {
		return b.byHand(ctx, *s.stage.ByHand, s.stage.Act)
	},
}

// Parking is a device's waiting for a person.
type Parking struct {
	Done <-chan string   // gives who says that it was done
	Stop <-chan struct{} // closes when the run is stopped
	// Back takes a place in the run again.
	Back func(context.Context) error
}

// ErrStopped says that the run was stopped while the device waited for a person.
var ErrStopped = errors.New("the run was stopped while it waited for a hand")

const (
	lookEvery = 2 * time.Second // how often a parked device is asked whether it was done
	lookTime  = 5 * time.Second // for one such look
)

// Holds reports whether what a person did, as the journal has it, still counts: what must
// follow it within a time does not have to be done again before that is over.
func (s Step) Holds(done store.Line, now time.Time) bool {
	within := time.Duration(s.stage.ByHand.Within)
	return done.Phase == store.Done && (within == 0 || now.Before(done.At.Add(within)))
}

func (b *Box) byHand(ctx context.Context, h profile.Hand, act profile.Act) (string, error) {
	if h.Fresh {
		stored, err := b.Vault.Logins(ctx, b.d.MAC)
		if err != nil {
			return "", err
		}
		if slices.ContainsFunc(stored, func(l vault.Login) bool { return l.State == store.Accepted }) {
			return "not needed: a stored login opens it", nil
		}
	}
	b.HangUp()
	p, err := b.Park(ctx, h)
	if err != nil {
		return "", err
	}
	looking, enough := context.WithCancel(ctx)
	type look struct {
		how string
		err error
	}
	seen := make(chan look, 1)
	go func() {
		how, err := b.shows(looking, h, act)
		seen <- look{how, err}
	}()
	var how string
	select {
	case who := <-p.Done:
		how = "done, says " + who
		enough()
		<-seen
	case l := <-seen:
		how, err = l.how, l.err
	case <-p.Stop:
		err = ErrStopped
		enough()
		<-seen
	}
	enough()
	if err != nil {
		return "", err
	}
	return how, p.Back(ctx)
}

// shows waits until the segment shows that something was done by hand. Where it cannot
// show it, only the end of the context ends the wait.
func (b *Box) shows(ctx context.Context, h profile.Hand, act profile.Act) (string, error) {
	if h.ShownBy == profile.ShownByRestart {
		return b.switchedOff(ctx)
	}
	again := time.NewTicker(lookEvery)
	defer again.Stop()
	for {
		if len(b.p.Acts[act]) > 0 {
			switch err := b.shownNow(ctx, act); {
			case err == nil:
				return "the device shows it", nil
			case Ours(err):
				return "", err
			}
		}
		select {
		case <-again.C:
		case <-ctx.Done():
			return "", ctx.Err()
		}
	}
}

// shownNow looks once whether the device shows that something was done.
func (b *Box) shownNow(ctx context.Context, act profile.Act) error {
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	if err := b.whereNow(ctx); err != nil {
		return err
	}
	talk := driver.New(b.Bench, b.target(b.at))
	defer talk.Close()
	_, err := talk.Do(ctx, act, nil)
	return err
}

// switchedOff waits until the device went away and came back anew.
func (b *Box) switchedOff(ctx context.Context) (string, error) {
	first, cancel := context.WithTimeout(ctx, lookTime)
	err := b.whereNow(first)
	cancel()
	if err != nil && !errors.Is(err, watch.ErrAbsent) {
		return "", err
	}
	if err != nil { // it is off already, and will come back where it was known to be
		known, err := b.Store.Device(ctx, b.d.MAC)
		if err != nil {
			return "", err
		}
		b.at = known.AddressNow()
	}
	r := &watch.Restart{Tell: driver.Teller(b.Bench, b.p, b.target, nil)}
	defer r.Close()
	seen := *b.p
	if r.Tell == nil { // it tells nothing without a login: its silence must do
		seen.Restart.Shows = []string{evidence.Silence}
	}
	r.Begin(ctx, b.Bench, b.d.MAC, &seen, b.at, b.at, b.target(b.at).Bits)
	for {
		out, err := r.Wait(ctx)
		if err == nil {
			b.here, b.at = true, out.At
			c := store.Conduct{MAC: b.d.MAC, RestartedAt: store.Now(), Evidence: out.Evidence}
			return "switched off and on: " + out.Evidence, b.Store.SetConduct(ctx, c)
		}
		if Ours(err) || ctx.Err() != nil {
			return "", errors.Join(err, ctx.Err())
		}
		select { // nobody was there yet
		case <-time.After(lookEvery / 4):
		case <-ctx.Done():
			return "", ctx.Err()
		}
	}
}
