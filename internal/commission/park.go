package commission

import (
	"context"
	"time"

	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/store"
	"redstart/internal/task"
)

// place is a device's share of what goes side by side.
type place struct {
	slots chan struct{}
	held  bool
}

// take waits for a place; it reports false when the run is stopped first.
func (p *place) take(ctx context.Context, stop <-chan struct{}) (bool, error) {
	select {
	case p.slots <- struct{}{}:
		p.held = true
		return true, nil
	case <-stop:
		return false, nil
	case <-ctx.Done():
		return false, ctx.Err()
	}
}

// back waits for a place for a device that was begun: it is finished also when the run is stopped.
func (p *place) back(ctx context.Context) error {
	_, err := p.take(ctx, nil)
	return err
}

func (p *place) leave() {
	if p.held {
		<-p.slots
		p.held = false
	}
}

// park has the device wait for a person: it is recorded, so that it goes on waiting after
// the service was restarted, and its place is given to others.
func (w *work) park(ctx context.Context, h profile.Hand) (*task.Parking, error) {
	if w.d.State != state.Parked {
		w.d.State = state.Parked
		w.d.Hand = store.Hand{Do: h.Do, Look: h.Look, Terms: h.Terms, Since: stamp.Now(),
			Within: int(time.Duration(h.Within).Seconds())}
	}
	w.d.Hand.Do = h.Do // it may be asked for again, with what was seen
	if err := w.Journal.SaveRunDevice(ctx, w.d); err != nil {
		return nil, err
	}
	w.place.leave()
	done := w.awaits(w.d.Tag)
	w.Notify(w.d)
	return &task.Parking{Since: w.d.Hand.Since.Time, Watched: time.Now(), Done: done, Stop: w.stop, Back: func(ctx context.Context) error {
		w.awaitsNoMore(w.d.Tag)
		if free, err := w.place.take(ctx, w.stop); err != nil {
			return err
		} else if !free {
			return task.ErrStopped
		}
		w.d.State = state.Running
		w.d.Hand.Since, w.d.Hand.Who = stamp.Time{}, ""
		if h.Within > 0 {
			w.d.Hand.Ends = stamp.Time{Time: time.Now().UTC().Add(time.Duration(h.Within))}
		}
		return w.Journal.SaveRunDevice(ctx, w.d)
	}}, nil
}

// Awaits notes which devices of a run that goes on wait for persons, who may say from now
// on that they did what is waited for.
func (r *Runner) Awaits(run store.Run) {
	for _, d := range run.Devices {
		if d.State == state.Parked {
			r.awaits(d.Tag)
		}
	}
}

// awaits gives how a parked device is told that a person did what it waits for.
func (r *Runner) awaits(tag string) chan task.Word {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.parked == nil {
		r.parked = map[string]chan task.Word{}
	}
	if r.parked[tag] == nil {
		r.parked[tag] = make(chan task.Word, 1)
	}
	return r.parked[tag]
}

func (r *Runner) awaitsNoMore(tag string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.parked, tag)
}

// Did tells that a person did what devices wait for, or has the run go on without, all or none.
func (r *Runner) Did(said task.Word, tags []string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, tag := range tags {
		if r.parked[tag] == nil {
			return problem.New(problem.Conflict, "it waits for nobody's hand", "").About(tag)
		}
	}
	for _, tag := range tags {
		select {
		case r.parked[tag] <- said:
		default: // somebody else said so already
		}
	}
	return nil
}
