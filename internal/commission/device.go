package commission

import (
	"context"
	"errors"
	"fmt"
	"time"

	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/driver"
	"redstart/internal/lan/watch"
	"redstart/internal/shield"
	"redstart/internal/store"
	"redstart/internal/task"
)

// attempts is how often a device that falls silent is looked for anew.
const attempts = 3

// work is the work on one device of a run.
type work struct {
	*Runner
	d     store.RunDevice
	box   *task.Box // nil before it was begun
	place *place
	stop  <-chan struct{}
}

// device does the work on one device, records how it ended, and reports whether it is
// set. Its error is ours, not the device's: the run cannot go on.
func (w *work) device(ctx context.Context) (set bool, err error) {
	parked := w.d.State == state.Parked
	w.d.Error, w.d.Done = "", 0
	if !parked {
		w.d.State = state.Running
	}
	cutOff := !w.d.StartedAt.IsZero() // it was begun before the run was cut off
	if w.d.StartedAt.IsZero() {
		w.d.StartedAt = stamp.Now()
	}
	who := fmt.Sprintf("run %d", w.d.Run)
	err = shield.Do(w.Log, w.d.MAC.String(), func() (err error) {
		tools := task.Tools{Bench: w.Bench, Records: w.Records, Boxes: w.Boxes, Secrets: w.Secrets, Logins: w.Logins, Plan: w.Plan,
			Log: w.Log, Avoid: w.avoid, Line: w.Line, Park: w.park}
		if w.box, err = task.With(tools, w.d, who); err != nil {
			return err
		}
		err = w.steps(ctx)
		// A box that falls silent in the middle may just be restarting, from before
		// the run was cut off or by itself. Since acts say what should be, looking
		// again and repeating them does no harm.
		// One that was told twice, before the cut and after it, may have left the second
		// out while it went for the first.
		for attempt := 1; attempt < attempts && ctx.Err() == nil && (errors.Is(err, driver.ErrNoAnswer) ||
			cutOff && attempt == 1 && errors.Is(err, watch.ErrOldAddress)); attempt++ {
			w.box.HangUp()
			err = w.steps(ctx)
		}
		return err
	})
	if w.box != nil {
		w.box.HangUp()
	}
	switch {
	case ctx.Err() != nil:
		return false, nil // cut off, not failed: the next Carry goes on by looking
	case task.Ours(err):
		return false, err
	case errors.Is(err, task.ErrStopped):
		return false, w.leave(ctx, w.d)
	}
	return w.end(ctx, err, who)
}

// end records how the work on a device ended: err is why it failed.
func (w *work) end(ctx context.Context, err error, who string) (set bool, ours error) {
	d := &w.d
	d.EndedAt, d.State, d.Hand = stamp.Now(), state.Done, store.Hand{}
	if err == nil {
		err = errors.Join(w.Records.SetConfigured(ctx, d.Tag, d.MAC, d.Given, who), w.partsConfigured(ctx, who),
			w.box.Sighted(ctx, true))
	}
	if err != nil && ctx.Err() == nil && !task.Ours(err) {
		if w.box != nil { // the failure is told anyway
			_ = shield.Do(w.Log, d.MAC.String(), func() error { w.box.LookAgain(ctx); return nil })
		}
		d.State, d.Error = state.Failed, w.box.Explain(err)
		if err = w.Records.SetState(ctx, d.Tag, d.MAC, state.Attention, d.Error,
			who); problem.KindOf(err) == problem.Conflict {
			err = nil // the entry is another box by now; the run says what became of this one
		}
	}
	if err == nil {
		err = w.Journal.SaveRunDevice(ctx, *d)
	}
	if err != nil {
		if ctx.Err() == nil {
			w.Log.Error("the end of a device's run could not be recorded", "tag", d.Tag, "error", err)
		}
		return false, err
	}
	w.Log.Info("device ended", "run", d.Run, "tag", d.Tag, "mac", d.MAC.String(), "state", d.State, "error", d.Error)
	w.Notify(*d)
	return d.State == state.Done, nil
}

// steps does what is still to be done, step by step.
func (w *work) steps(ctx context.Context) error {
	journal, err := w.Journal.Journal(ctx, w.d.Run, w.d.Tag)
	if err == nil {
		err = w.box.GoOn(ctx, journal)
	}
	if err != nil {
		return err
	}
	steps := task.Steps(w.box.Profile(), w.d.Given, procedure.Login{})
	last := steps[len(steps)-1] // of what the run does itself
	for _, s := range steps {
		if !s.Hands {
			last = s
		}
	}
	// A device that waited for a hand goes on waiting; it may well be off.
	for i, s := range steps {
		if s.Hands && journal[s.Name].Phase == state.Begun {
			if err := w.step(ctx, i, s); err != nil {
				return err
			}
			journal[s.Name] = store.Line{Phase: state.Done, At: stamp.Now()}
		}
	}
	settled := false // everything is as planned; what is to be done by hand may be left
	for i, reopened := 0, 0; i < len(steps); i++ {
		s := steps[i]
		switch {
		case settled && (!s.Hands || s.Windowed()):
			continue
		case s.Hands && s.Holds(journal[s.Name], time.Now()):
			continue
		// Acts say what should be, so they are repeated with the same frozen values
		// until the device has come back from the last restart of its procedure; only
		// what happened before and after a restart that was seen proves that it keeps.
		case !s.Looks() && !s.Hands && journal[last.Name].Phase == state.Done:
			continue
		}
		if err := w.step(ctx, i, s); err != nil {
			hand := window(steps[:i])
			if hand < 0 || !w.box.Closed(ctx, err, steps[hand]) {
				return err
			}
			if reopen := w.box.Reopen(ctx); reopen != nil {
				return errors.Join(err, reopen)
			}
			if reopened == mostReopened {
				return w.box.TooLate(ctx, steps[hand], err)
			}
			// Its window closed sooner than reckoned: from the hand on, all is done again.
			delete(journal, steps[hand].Name)
			i, reopened = hand-1, reopened+1
			continue
		}
		if s.Hands { // what comes after it by hand must be done again too
			for _, later := range steps[i+1:] {
				if later.Hands {
					delete(journal, later.Name)
				}
			}
		}
		switch {
		case s.Hands: // it may have been switched off, or hung elsewhere, or be another
			for n, again := range steps[:i] {
				if !again.Looks() {
					continue
				}
				if err := w.step(ctx, n, again); err != nil {
					return err
				}
			}
		case s.Name == task.Confirm && begun(steps, journal, last):
			how, err := w.box.Settled(ctx)
			if err != nil {
				return err
			}
			if how != "" {
				settled = true
				if err := w.note(ctx, last, state.Done, "everything is as planned already; "+how); err != nil {
					return err
				}
			}
		}
	}
	return w.box.NoteHostID(ctx)
}

// begun reports whether the last thing that a run does with a device was begun before: only
// then can everything be as planned already. Until then some take no login.
func begun(steps []task.Step, journal map[string]store.Line, last task.Step) bool {
	before := last
	for _, s := range steps {
		switch {
		case s.Name == last.Name:
			return journal[last.Name].Phase != "" || journal[before.Name].Phase != ""
		case !s.Hands:
			before = s
		}
	}
	return false
}

// mostReopened is how often a window that closed is opened anew within one run.
const mostReopened = 2

// window gives the last step by hand that opens a window for what follows; -1 for none.
func window(steps []task.Step) int {
	for i := len(steps) - 1; i >= 0; i-- {
		if steps[i].Windowed() {
			return i
		}
	}
	return -1
}

// step does one step, with a line in the journal before and after.
func (w *work) step(ctx context.Context, i int, s task.Step) error {
	w.d.Step, w.d.Done = s.Name, i
	if err := w.Journal.SaveRunDevice(ctx, w.d); err != nil {
		return err
	}
	w.Notify(w.d)
	// The journal comes first: after a crash it says what may have happened.
	if err := w.note(ctx, s, state.Begun, ""); err != nil {
		return err
	}
	if s.Waits() { // others are begun while it restarts
		w.place.leave()
	}
	detail, err := w.box.Do(ctx, s)
	if s.Waits() {
		if back := w.place.back(ctx); back != nil {
			return errors.Join(err, back)
		}
	}
	if errors.Is(err, task.ErrStopped) {
		return err
	}
	if err != nil {
		return errors.Join(err, w.note(ctx, s, state.Failed, err.Error()))
	}
	return w.note(ctx, s, state.Done, detail)
}

func (w *work) note(ctx context.Context, s task.Step, phase, detail string) error {
	return w.Journal.AddLine(ctx, store.Line{Run: w.d.Run, Tag: w.d.Tag, MAC: w.d.MAC, Step: s.Name, Phase: phase,
		Detail: detail})
}
