package task

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/core/evidence"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/result"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
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
		if h.Terms != "" {
			return text + ", and accept them once for this site: " + h.Terms
		}
		if h.Within > 0 {
			text += fmt.Sprintf("; what follows must be done within %s", time.Duration(h.Within))
		}
		return text
	},
	Do: func(ctx context.Context, b *Box, s Step) (string, error) {
		return b.byHand(ctx, *s.stage.ByHand, s.stage.Act)
	},
}

// Word is what somebody says of something to be done by hand.
type Word struct {
	Who     string
	Without bool // it is not done, and the run is to go on without it
}

// Parking is a device's waiting for a person.
type Parking struct {
	Since time.Time // when it was parked first, by the clock of the computer
	// Watched is since when this run of the service waits with it, by a clock that nobody sets.
	Watched time.Time
	Done    <-chan Word     // gives who says that it was done
	Stop    <-chan struct{} // closes when the run is stopped
	// Back takes a place in the run again.
	Back func(context.Context) error
}

// ErrStopped says that the run was stopped while the device waited for a person.
var ErrStopped = errors.New("the run was stopped while it waited for a hand")

const (
	lookEvery = 2 * time.Second  // how often a parked device is asked whether it was done
	lookTime  = 20 * time.Second // for it to tell once since when it is up; slow boxes take seconds for each answer
	// showTime is for one look at whether it was done: slow boxes take seconds for each of
	// its moves.
	showTime = time.Minute
)

// Holds reports whether what a person did, as the journal has it, still counts: what must
// follow it within a time does not have to be done again before that is over.
func (s Step) Holds(done store.Line, now time.Time) bool {
	within := time.Duration(s.stage.ByHand.Within)
	return done.Phase == state.Done && (within == 0 || now.Before(done.At.Add(within)))
}

func (b *Box) byHand(ctx context.Context, h profile.Hand, act profile.Act) (string, error) {
	if h.Terms != "" {
		return b.terms(ctx, h, act)
	}
	if h.Fresh {
		stored, err := b.Logins.Logins(ctx, b.d.MAC)
		if err != nil {
			return "", err
		}
		if slices.ContainsFunc(stored, func(l vault.Login) bool { return l.State == state.Accepted }) {
			return "not needed: a stored login opens it", nil
		}
	}
	b.HangUp()
	if h.ShownBy == profile.ShownByRestart && b.d.State != state.Parked {
		if err := b.mark(ctx); err != nil { // before anybody is asked
			return "", err
		}
	}
	b.d.State = state.Running
	anew := b.over
	if b.over = false; anew {
		h.Do = "Its time was over. Undo it, and once more: " + h.Do
	}
	p, how, err := b.handed(ctx, h, act, anew)
	if err != nil {
		return "", err
	}
	b.tries.Anew()
	if err := p.Back(ctx); err != nil {
		return how, err
	}
	if b.lent { // people switch a box off to open its cover
		looking, cancel := context.WithTimeout(ctx, time.Duration(b.p.Restart.AtMost))
		defer cancel()
		if err := b.whereLent(looking); Ours(err) {
			return "", err // what is the device's own comes out when it is looked for
		}
	}
	return how, nil
}

// handed waits until a person did it: the device shows it, or somebody says so and the device does not tell
// otherwise. A word never outweighs what a device tells; then it is asked for again, with what was seen.
func (b *Box) handed(ctx context.Context, h profile.Hand, act profile.Act, anew bool) (*Parking, string, error) {
	asked := h.Do
	for {
		p, err := b.Park(ctx, h)
		if err != nil {
			return nil, "", err
		}
		word, how, err := b.awaited(ctx, p, h, act, anew)
		switch who := word.Who; {
		case err != nil || who == "":
			return p, how, err
		case word.Without:
			return p, "left undone, says " + who, nil
		}
		who := word.Who
		switch how, err := b.borneOut(ctx, p, h, act); {
		case Ours(err), ctx.Err() != nil:
			return nil, "", cmp.Or(err, ctx.Err())
		case err == nil:
			if h.Sets != "" {
				err = b.Records.SayDone(ctx, b.d.Tag, b.d.MAC, result.Check{Name: h.Sets, Expected: b.d.Given.SetByHand(b.p, h.Sets),
					Observed: "set by hand", Verdict: result.Said, By: "said by " + who, At: time.Now().UTC(), Untold: true})
			}
			return p, "done, says " + who + how, err
		default:
			h.Do = fmt.Sprintf("%s (%s said that it was done; the device tells otherwise: %s)", asked, who, err)
		}
	}
}

// awaited gives who says that it was done, or how the device shows it.
func (b *Box) awaited(ctx context.Context, p *Parking, h profile.Hand, act profile.Act, anew bool) (said Word, how string, err error) {
	looking, enough := context.WithCancel(ctx)
	defer enough()
	type look struct {
		how string
		err error
	}
	seen := make(chan look, 1)
	go func() {
		how, err := b.shows(looking, p, h, act, anew)
		seen <- look{how, err}
	}()
	select {
	case said = <-p.Done:
	case l := <-seen:
		return said, l.how, l.err
	case <-p.Stop:
		err = ErrStopped
	}
	enough()
	<-seen
	return said, "", err
}

// borneOut looks once whether what somebody says is so: how that showed, nothing where the device cannot
// show it, and an error with what it tells otherwise.
func (b *Box) borneOut(ctx context.Context, p *Parking, h profile.Hand, act profile.Act) (string, error) {
	switch {
	case h.ShownBy == profile.ShownByRestart:
		return b.restartBorneOut(ctx, p)
	case len(b.p.Acts[act]) == 0:
		return "", nil
	}
	switch err := b.shownNow(ctx, act); {
	case err == nil:
		return "; the device shows it", nil
	case errors.Is(err, driver.ErrNoAnswer), errors.Is(err, watch.ErrAbsent):
		return "; the device did not answer", nil
	default:
		if said, ok := errors.AsType[*problem.Error](err); ok {
			cause := []rune(said.Cause)
			return "", errors.New(string(cause[:min(len(cause), mostTold)]))
		}
		return "", err
	}
}

// mostTold bounds what a hand that is asked for again says of what the device tells, in characters.
const mostTold = 200

// restartBorneOut is borneOut for what a restart shows: a device that tells how long it runs tells also
// whether it was switched off since it was asked for.
func (b *Box) restartBorneOut(ctx context.Context, p *Parking) (string, error) {
	tell := driver.Teller(b.Bench, b.p, b.target, nil)
	if tell == nil {
		return "", nil
	}
	if err := b.whereNow(ctx); errors.Is(err, watch.ErrAbsent) {
		return "; the device did not answer", nil
	} else if err != nil {
		return "", err
	}
	mark, ok := b.told(ctx, tell)
	if !ok {
		return "; the device did not answer", nil
	}
	known, err := b.Boxes.DeviceState(ctx, b.d.MAC)
	if err != nil {
		return "", err
	}
	if !mark.HasUptime && known.Starts < 0 {
		return "", nil // its first count tells nothing
	}
	how, err := b.begunAnew(ctx, mark, p.Watched, false)
	if err != nil || how != "" {
		return "; " + how, err
	}
	if at, ok := mark.Started(); ok && at.After(p.Since) {
		return "", nil // while nobody watched, if the clock was not set
	}
	return "", errors.New("it did not start anew since")
}

// Closed reports whether a failure may come of a window that closed: nothing of its own opens
// the device, and it refused the login, or something else while it does not show any more
// that the step by hand was done.
func (b *Box) Closed(ctx context.Context, err error, by Step) bool {
	switch {
	case b.own():
		return false
	case errors.Is(err, driver.ErrLogin):
		return true
	}
	return errors.Is(err, driver.ErrValue) && len(b.p.Acts[by.stage.Act]) > 0 && b.shownNow(ctx, by.stage.Act) != nil
}

// Reopen has what was done by hand undone and done again, since its time was over: what the device
// refused then says nothing of a login.
func (b *Box) Reopen(ctx context.Context) error {
	b.over = true
	return b.tries.Forgive(ctx)
}

// TooLate says why the device refuses again and again what a step by hand was to open: that was not done,
// as far as the device shows, or its time was over.
func (b *Box) TooLate(ctx context.Context, by Step, cause error) error {
	do, act := by.stage.ByHand.Do, by.stage.Act
	if len(b.p.Acts[act]) > 0 && b.shownNow(ctx, act) != nil {
		return problem.New(problem.Device, fmt.Sprintf("it refuses the login, and does not show that this was done: %s", do),
			"do it, and commission it again").About(b.d.MAC.String()).Because(cause)
	}
	return problem.New(problem.Device, fmt.Sprintf("it refuses the login: the time after this was over: %s", do),
		"move it back, and once more, then commission it again at once").About(b.d.MAC.String()).Because(cause)
}

// Windowed reports whether a step by hand opens a window for what follows it.
func (s Step) Windowed() bool { return s.Hands && s.stage.ByHand.Within > 0 }

// shows waits until the segment shows that something was done by hand. Where it cannot
// show it, only the end of the context ends the wait.
func (b *Box) shows(ctx context.Context, p *Parking, h profile.Hand, act profile.Act, anew bool) (string, error) {
	if h.ShownBy == profile.ShownByRestart {
		return b.switchedOff(ctx, p)
	}
	again := time.NewTicker(lookEvery)
	defer again.Stop()
	for {
		if len(b.p.Acts[act]) > 0 {
			switch err := b.shownNow(ctx, act); {
			case err == nil && !anew:
				return "the device shows it", nil
			case Ours(err):
				return "", err
			case err != nil && !errors.Is(err, driver.ErrNoAnswer):
				anew = false // it was undone
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
	ctx, cancel := context.WithTimeout(ctx, showTime)
	defer cancel()
	if err := b.whereLent(ctx); err != nil {
		return err
	}
	client := driver.New(b.Bench, b.target(b.at))
	defer client.Close()
	_, err := client.Do(ctx, act, nil)
	return err
}

// switchedOff waits until the device was switched off and on since it was parked. What it
// tells of its up-time or starts shows that, also when nobody watched; of one that tells
// neither without a login, that it was away long enough.
func (b *Box) switchedOff(ctx context.Context, p *Parking) (string, error) {
	tell := driver.Teller(b.Bench, b.p, b.target, nil)
	there, away := false, false // it was heard in the look before; it was missed in one
	last := time.Now()          // when it was heard last, or looked for first
	again := time.NewTicker(lookEvery / 4)
	defer again.Stop()
	for {
		looking, cancel := context.WithTimeout(ctx, lookEvery/2)
		err := b.whereNow(looking)
		cancel()
		now := time.Now()
		switch {
		case err != nil && !errors.Is(err, watch.ErrAbsent):
			return "", err
		case err != nil:
			there, away = false, true
		case tell != nil:
			mark, ok := b.told(ctx, tell)
			if !ok {
				break // it is not up yet
			}
			how, err := b.begunAnew(ctx, mark, p.Watched, away)
			if how != "" || err != nil {
				return how, err
			}
		case !there && now.Sub(last) >= b.p.Restart.SilentFor():
			return fmt.Sprintf("it was away for %s", now.Sub(last).Round(time.Second)), nil
		}
		if err == nil {
			there, last = true, now
		}
		select {
		case <-again.C:
		case <-ctx.Done():
			return "", ctx.Err()
		}
	}
}

// mark keeps the start counter that the device has now, where it tells one.
func (b *Box) mark(ctx context.Context) error {
	tell := driver.Teller(b.Bench, b.p, b.target, nil)
	if tell == nil || !b.at.IsValid() {
		return nil
	}
	mark, ok := b.told(ctx, tell)
	if !ok || !mark.HasStarts {
		return nil
	}
	return b.Boxes.SetStarts(ctx, b.d.MAC, mark.Starts)
}

// told asks the device for its up-time or start counter.
func (b *Box) told(ctx context.Context, tell func(context.Context, netip.Addr) (map[string]string,
	error)) (evidence.Mark, bool) {
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	asked := time.Now()
	facts, err := tell(ctx, b.at)
	mark := evidence.Read(facts, asked, time.Now())
	return mark, err == nil && mark.Known()
}

// begunAnew says what in a mark shows a start since a moment, and notes it. The first mark
// of a device whose starts were never read shows nothing, and is kept for the next, unless
// it was away meanwhile.
func (b *Box) begunAnew(ctx context.Context, mark evidence.Mark, since time.Time, away bool) (string, error) {
	known, err := b.Boxes.DeviceState(ctx, b.d.MAC)
	if err != nil {
		return "", err
	}
	how := ""
	switch read := known.Starts >= 0; {
	case mark.HasStarts && !read && !away:
		return "", b.Boxes.SetStarts(ctx, b.d.MAC, mark.Starts)
	case mark.HasStarts && !read:
		how = "it was away, and came back"
	default:
		how = mark.SinceWrite(since, known.Starts)
	}
	if how == "" {
		return "", nil
	}
	return "switched off and on: " + how, b.Boxes.SetDeviceState(ctx,
		store.DeviceState{MAC: b.d.MAC, RestartedAt: stamp.Now(), Evidence: how})
}
