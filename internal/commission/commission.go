// Package commission carries out runs: it takes devices from factory state to
// their planned settings, several side by side, with a journal that is written
// before each act, so that a run which was cut off goes on by looking.
package commission

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/line"
	"redstart/internal/store"
	"redstart/internal/task"
)

// SideBySide is how many devices are talked to at the same time. Those that restart, or wait for
// a hand, do not count: of many, as many are begun as the machine and the segment carry, and
// when a person stops the run the others are left as they are. Of 500 cameras on two cores the run
// takes 8 % longer than with all of them at once, and half as long again with 48.
const SideBySide = 160

// activeSeconds is about how long one device is talked to.
const activeSeconds = 1

// Records are what runs keep of a site.
type Records interface {
	task.Records
	AddRun(ctx context.Context, who string, devices []store.RunDevice) (store.Run, error)
	SetState(ctx context.Context, tag string, mac address.MAC, to, reason, who string) error
	SetConfigured(ctx context.Context, tag string, mac address.MAC, given procedure.Values, who string) error
}

// Journal is how far runs are: it is written before each act.
type Journal interface {
	SetRunState(ctx context.Context, run int64, to string) error
	SaveRunDevice(context.Context, store.RunDevice) error
	AddLine(context.Context, store.Line) error
	Journal(ctx context.Context, run int64, tag string) (map[string]store.Line, error)
}

// Runner carries out runs.
type Runner struct {
	Bench   *bench.Bench
	Records Records
	Journal Journal
	Boxes   task.Boxes
	Secrets task.Secrets
	Logins  task.Logins
	Plan    plan.Plan // when the run began or goes on; each device's values are frozen in the run
	Log     *slog.Logger
	// Line opens a serial line by its name.
	Line func(name string, m line.Mode) (io.ReadWriteCloser, error)
	// Free is told of each box with which the run is done, while it goes on with others.
	Free func(address.MAC)
	// Notify is told whenever a device of a run moved on; it must be quick.
	Notify func(store.RunDevice)

	avoid  func(netip.Addr) bool
	mu     sync.Mutex
	parked map[string]chan task.Word // by tag: who says that it was done
}

// Known is what a rehearsal goes by besides the plan.
type Known struct {
	Opens map[address.MAC]procedure.Login // what opens each box so far
	Holds map[address.MAC]netip.Addr      // where each box is, as far as is known
	Lines map[string]string               // serial lines that are named for entries, by tag
	Set   map[string]bool                 // tags of the entries that are configured
	Busy  map[address.MAC]string          // in whose hands boxes are that others have in hand
	Fresh bool                            // new passwords are wanted, whatever is planned
}

// Rehearse works out a run over entries without sending anything.
func Rehearse(p plan.Plan, entries []store.Entry, known Known) api.Rehearsal {
	stopped := map[string]string{} // by tag, or by profile
	for _, f := range p.Check() {
		if f.Level == plan.Stops && f.Tag+f.Profile != "" {
			stopped[f.Tag+"\x00"+f.Profile] = f.Field + ": " + f.Reason
		}
	}
	whole, resolver := p, p.Resolve()
	r := api.Rehearsal{Devices: []api.Rehearsed{}, Left: []api.LeftOut{}, NeedLine: []string{}, Lines: []string{}}
	for _, e := range entries {
		p := p.Profiles[e.Profile]
		stop := cmp.Or(stopped[e.Tag+"\x00"], stopped["\x00"+e.Profile])
		for _, part := range resolver.PartsOf(e.Tag) {
			if why := stopped[part.Tag+"\x00"]; why != "" && stop == "" {
				stop = part.Tag + " behind it, " + why
			}
		}
		switch {
		case e.NotWired:
			r.Left = append(r.Left, api.LeftOut{Tag: e.Tag, Why: "it is not wired yet"})
		case e.Behind != "":
			if why := leftBehind(resolver, e.Entry, entries); why != "" {
				r.Left = append(r.Left, api.LeftOut{Tag: e.Tag, Why: why})
			}
		case e.Device.IsZero():
			r.Left = append(r.Left, api.LeftOut{Tag: e.Tag, Why: "no device is matched with it"})
		case p == nil:
			r.Left = append(r.Left, api.LeftOut{Tag: e.Tag, Why: "there is no profile " + e.Profile})
		case !p.Sets():
			r.Left = append(r.Left, api.LeftOut{Tag: e.Tag, Why: "its profile does not say how to set it"})
		case p.NeedsLine() && known.Lines[e.Tag] == "":
			r.NeedLine = append(r.NeedLine, e.Tag)
			r.Left = append(r.Left, api.LeftOut{Tag: e.Tag, Why: "it is set over a serial line, and none is named for it: redstart commission --line " +
				e.Tag + "=/dev/…"})
		case known.Busy[e.Device] != "":
			r.Left = append(r.Left, api.LeftOut{Tag: e.Tag, Why: known.Busy[e.Device]})
		case stop != "":
			r.Left = append(r.Left, api.LeftOut{Tag: e.Tag, Why: "the plan is wrong: " + stop})
		default:
			v := procedure.For(resolver, e.Entry, p)
			opens := known.Opens[e.Device]
			opens.Fresh = known.Fresh
			steps := task.Steps(p, v, opens)
			d := api.Rehearsed{Tag: e.Tag, MAC: e.Device.String(), Profile: p.ID, Given: v, Steps: task.Views(steps),
				Seconds: task.Takes(p, steps).Seconds(), NotSent: slices.Sorted(maps.Keys(v.ByHand)), Line: known.Lines[e.Tag]}
			for _, part := range setWith(resolver, v, e.Tag) {
				d.Parts = append(d.Parts, part.Tag)
			}
			r.Devices = append(r.Devices, d)
		}
	}
	leaveHeld(&r, known)
	arrange(&r, whole, known)
	r.Seconds += float64((len(r.Devices)-1)/SideBySide) * activeSeconds
	return r
}

// leaveHeld leaves out devices whose planned address another box holds that is
// there: side by side nobody waits for it to move, and in a circle nobody could.
func leaveHeld(r *api.Rehearsal, known Known) {
	holder := map[netip.Addr]string{} // MAC by the address that it holds
	for mac, at := range known.Holds {
		holder[at] = mac.String()
	}
	moves := map[string]api.Rehearsed{} // by MAC
	for _, d := range r.Devices {
		moves[d.MAC] = d
	}
	r.Devices = slices.DeleteFunc(r.Devices, func(d api.Rehearsed) bool {
		by := holder[d.Given.Address.Addr()]
		if by == "" || by == d.MAC {
			return false
		}
		why := fmt.Sprintf("its address %s is in use by %s", d.Given.Address.Addr(), by)
		if next, ok := moves[by]; ok {
			why = fmt.Sprintf("its address %s is still that of %s; commission %s first", d.Given.Address.Addr(),
				next.Tag, next.Tag)
			if circle := around(d, moves, holder); circle != "" {
				why = fmt.Sprintf("addresses go around in a circle: %s; plan a free address for one of them, commission it, then plan its own again", circle)
			}
		}
		r.Left = append(r.Left, api.LeftOut{Tag: d.Tag, Why: why})
		return true
	})
}

// around follows who holds whose address, and names the circle that a device is
// in; "" when it is in none.
func around(d api.Rehearsed, moves map[string]api.Rehearsed, holder map[netip.Addr]string) string {
	tags := []string{d.Tag}
	for at := d; len(tags) <= len(moves); {
		next, ok := moves[holder[at.Given.Address.Addr()]]
		if !ok {
			return ""
		}
		tags = append(tags, next.Tag)
		if next.Tag == d.Tag {
			return strings.Join(tags, " wants that of ")
		}
		at = next
	}
	return ""
}

// Prepare stores a run over what a rehearsal showed.
func (r *Runner) Prepare(ctx context.Context, who string, rehearsal api.Rehearsal, entries []store.Entry,
	fresh bool, others []netip.Addr) (store.Run, error) {
	byTag := map[string]store.Entry{}
	for _, e := range entries {
		byTag[e.Tag] = e
	}
	var devices []store.RunDevice
	for _, d := range rehearsal.Devices {
		e := byTag[d.Tag]
		rd := store.RunDevice{Tag: d.Tag, MAC: e.Device, Profile: d.Profile, Serial: e.Serial, Given: d.Given,
			Steps: len(d.Steps), Line: d.Line, OtherServers: strings.Trim(fmt.Sprint(others), "[]")}
		if fresh {
			rd.FreshSince = stamp.Now()
		}
		devices = append(devices, rd)
	}
	if len(devices) == 0 {
		return store.Run{}, nothingToDo(rehearsal.Left)
	}
	return r.Records.AddRun(ctx, who, devices)
}

// nothingToDo says why a run would have no device, for each kind of reason.
func nothingToDo(left []api.LeftOut) error {
	if len(left) == 0 {
		return problem.New(problem.Conflict,
			"there is nothing to commission: the plan has no entry that is not set as planned",
			"verify them: redstart verify")
	}
	tags := map[string][]string{}
	var reasons []string
	for _, l := range left {
		if tags[l.Why] == nil {
			reasons = append(reasons, l.Why)
		}
		tags[l.Why] = append(tags[l.Why], l.Tag)
	}
	e := problem.New(problem.Conflict, "none of these entries can be commissioned", "mend that, then commission again")
	for _, why := range reasons {
		list := tags[why]
		text := strings.Join(list[:min(3, len(list))], ", ")
		if n := len(list) - 3; n > 0 {
			text += fmt.Sprintf(" and %d more", n)
		}
		e.Cells = append(e.Cells, problem.Cell{Column: text, Reason: why})
	}
	return e
}

// Carry carries a run out, or goes on with one that was cut off, until every
// device is done or failed. Closing stop finishes the devices in hand and
// begins no more. It returns early only when the context ends, or when the
// records or the segment fail; then the run is left as it is, for another Carry,
// and the error is what cut it off.
func (r *Runner) Carry(ctx context.Context, run store.Run, avoid func(netip.Addr) bool, stop <-chan struct{}) error {
	ctx, cut := context.WithCancelCause(ctx)
	defer cut(nil)
	r.avoid = avoid
	if err := r.Journal.SetRunState(ctx, run.ID, state.Running); err != nil {
		return err
	}
	in, ends := map[string]bool{}, outcomes{}
	for _, d := range run.Devices {
		in[d.Tag], ends[d.Tag] = true, &outcome{ended: make(chan struct{})}
		if d.Ended() {
			ends.end(d.Tag, d.State == state.Done)
		}
	}
	before := orderOf(r.Plan, in)
	slots := make(chan struct{}, SideBySide)
	var all sync.WaitGroup
	for _, d := range run.Devices {
		if d.Ended() {
			continue
		}
		all.Add(1)
		go func() {
			defer all.Done()
			w := &work{Runner: r, d: d, place: &place{slots: slots}, stop: stop}
			good, err := w.inTurn(ctx, before[d.Tag], ends)
			if err != nil {
				cut(err)
			}
			if r.Free != nil && ctx.Err() == nil {
				r.Free(d.MAC)
			}
			ends.end(d.Tag, good)
		}()
	}
	all.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	to := state.Done
	select {
	case <-stop:
		to = state.Stopped
	default:
	}
	return r.Journal.SetRunState(ctx, run.ID, to)
}

// inTurn does the work on one device once those that come before it are set and there is
// room, and reports whether the device is set. One whose predecessor failed is held back;
// when the run is stopped meanwhile, it is left.
func (w *work) inTurn(ctx context.Context, before []string, ends outcomes) (good bool, err error) {
	if len(before) > 0 && w.d.State != state.Parked {
		w.d.Step = waitsFor(before)
		if err := w.Journal.SaveRunDevice(ctx, w.d); err != nil {
			return false, err
		}
		w.Notify(w.d)
	}
	for _, tag := range before {
		select {
		case <-ends[tag].ended:
		case <-w.stop:
			return false, w.leave(ctx, w.d)
		case <-ctx.Done():
			return false, nil
		}
		if w.stopped() {
			return false, w.leave(ctx, w.d)
		}
		if ctx.Err() == nil && !ends[tag].good {
			return false, w.holdBack(ctx, w.d, tag)
		}
	}
	if w.stopped() {
		return false, w.leave(ctx, w.d)
	}
	if free, err := w.place.take(ctx, w.stop); err != nil {
		return false, nil // cut off
	} else if !free {
		return false, w.leave(ctx, w.d)
	}
	defer w.place.leave()
	return w.device(ctx)
}

// stopped reports whether a person stopped the run.
func (w *work) stopped() bool {
	select {
	case <-w.stop:
		return true
	default:
		return false
	}
}

// holdBack ends a device's part in a run that comes after one which failed, or was left.
func (r *Runner) holdBack(ctx context.Context, d store.RunDevice, by string) error {
	d.State, d.Step, d.Error, d.EndedAt = state.Failed, "", heldBack(by), stamp.Now()
	if err := r.Journal.SaveRunDevice(ctx, d); err != nil {
		return err
	}
	err := r.Records.SetState(ctx, d.Tag, d.MAC, state.Attention, "held back: "+d.Error, "run "+fmt.Sprint(d.Run))
	r.Notify(d)
	if problem.KindOf(err) == problem.Conflict {
		return nil // it was matched anew meanwhile
	}
	return err
}

// leave takes a device that was not begun, or waits for a hand, out of a stopped run.
func (r *Runner) leave(ctx context.Context, d store.RunDevice) error {
	to, reason := state.Matched, ""
	if d.State == state.Parked {
		to, reason = state.Attention, "its run was stopped while it waited for a hand; commission it again"
	}
	d.State, d.Step, d.Hand = state.Stopped, "", store.Hand{}
	if err := r.Journal.SaveRunDevice(ctx, d); err != nil {
		return err
	}
	err := r.Records.SetState(ctx, d.Tag, d.MAC, to, reason, "run "+fmt.Sprint(d.Run))
	r.Notify(d)
	if problem.KindOf(err) == problem.Conflict {
		return nil // it was matched anew meanwhile
	}
	return err
}

// Left reckons how long a run still takes, from what the profiles say and what
// earlier devices of the same profile took.
func Left(run store.Run, p plan.Plan, now time.Time) time.Duration {
	took := map[string][]time.Duration{}
	for _, d := range run.Devices {
		if d.State == state.Done {
			took[d.Profile] = append(took[d.Profile], d.EndedAt.Sub(d.StartedAt.Time))
		}
	}
	left, in := map[string]time.Duration{}, map[string]bool{}
	for _, d := range run.Devices {
		p := p.Profiles[d.Profile]
		if p == nil || d.Ended() || d.State == state.Parked {
			continue
		}
		expect := task.Takes(p, task.Steps(p, d.Given, procedure.Login{}))
		if past := took[d.Profile]; len(past) > 0 {
			expect = past[len(past)-1]
		}
		if d.State == state.Running {
			expect = max(expect-now.Sub(d.StartedAt.Time), time.Second)
		}
		left[d.Tag], in[d.Tag] = expect, true
	}
	return orderOf(p, in).longest(left)
}
