package commission

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"time"

	"redstart/internal/core/device"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/lan"
	"redstart/internal/lan/line"
	"redstart/internal/lan/watch"
	"redstart/internal/shield"
	"redstart/internal/store"
	"redstart/internal/vault"
)

const (
	attempts = 3               // how often a device that falls silent is looked for anew
	lastLook = 2 * time.Second // for a device whose work failed
)

// job is the work on one device.
type job struct {
	*Runner
	d       store.RunDevice
	p       *profile.Profile
	avoid   func(netip.Addr) bool
	who     string // what told of its credentials: run 3
	tries   *vault.Tries
	steps   []procedure.Step
	journal map[string]store.Line

	servers map[string]string // what its servers showed, by kind
	renewed map[string]bool   // what an act of this run had it make anew
	reset   bool              // the factory's way in opened it: whatever it shows is new

	here     bool           // it is on the segment
	at       netip.Addr     // where it is now; invalid: it has no address
	old      netip.Addr     // where it was before the act that makes it go
	restart  *watch.Restart // from before the act that makes it go
	talk     *driver.Talk
	login    *vault.Login // what opens it now, with ID 0 for the factory login; nil when nothing is needed or known
	inside   bool         // the talk is signed in
	unproven bool         // login was set, but not tried yet: the device had to go first
	idle     bool         // nothing was sent, so the device does not go
}

// device does the work on one device, records how it ended, and reports whether it is
// set. Its error is ours, not the device's: the run cannot go on.
func (r *Runner) device(ctx context.Context, d store.RunDevice, avoid func(netip.Addr) bool) (set bool, err error) {
	d.State, d.Error, d.Done = store.Running, "", 0
	if d.StartedAt.IsZero() {
		d.StartedAt = store.Now()
	}
	who := fmt.Sprintf("run %d", d.Run)
	j := &job{Runner: r, d: d, p: r.Plan.Profiles[d.Profile], avoid: avoid, who: who}
	defer j.hangUp()
	err = shield.Do(r.Log, d.MAC.String(), func() error {
		if j.p != nil {
			j.tries = r.Vault.Try(d.MAC, j.p.Accounts, who)
		}
		err := j.run(ctx)
		// A box that falls silent in the middle may just be restarting, from before
		// the run was cut off or by itself. Since acts say what should be, looking
		// again and repeating them does no harm.
		for attempt := 1; attempt < attempts && errors.Is(err, driver.ErrNoAnswer) && ctx.Err() == nil; attempt++ {
			j.hangUp()
			err = j.run(ctx)
		}
		return err
	})
	j.hangUp()
	switch {
	case ctx.Err() != nil:
		return false, nil // cut off, not failed: the next Carry goes on by looking
	case ours(err):
		return false, err
	}
	j.d.EndedAt = store.Now()
	j.d.State = store.Done
	if err == nil {
		err = errors.Join(r.Store.SetConfigured(ctx, d.Tag, d.MAC, d.Given, who), j.sighted(ctx, true))
	}
	if err != nil && ctx.Err() == nil && !ours(err) {
		_ = shield.Do(r.Log, d.MAC.String(), func() error { j.lookAgain(ctx); return nil }) // the failure is told anyway
		j.d.State, j.d.Error = store.Failed, j.explain(err)
		if err = r.Store.SetState(ctx, d.Tag, d.MAC, store.Attention, j.d.Error, who); problem.KindOf(err) == problem.Conflict {
			err = nil // the entry is another box by now; the run says what became of this one
		}
	}
	if err == nil {
		err = r.Store.SaveRunDevice(ctx, j.d)
	}
	if err != nil {
		if ctx.Err() == nil {
			r.Log.Error("the end of a device's run could not be recorded", "tag", d.Tag, "error", err)
		}
		return false, err
	}
	r.Log.Info("device ended", "run", d.Run, "tag", d.Tag, "mac", d.MAC.String(), "state", j.d.State, "error", j.d.Error)
	r.Notify(j.d)
	return j.d.State == store.Done, nil
}

// ours reports whether an error is of the records or of the segment: then no
// device has failed, and the run is cut off until they are back.
func ours(err error) bool {
	return errors.Is(err, store.ErrUnwritable) || errors.Is(err, lan.ErrClosed) || errors.Is(err, store.ErrClosed) || errors.Is(err, vault.ErrLocked)
}

// lookAgain looks where the device is now, so that what is said of it is true.
func (j *job) lookAgain(ctx context.Context) {
	if j.p == nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, lastLook)
	defer cancel()
	w := watch.New(j.Bench, j.d.MAC)
	defer w.Close()
	candidates := append([]netip.Addr{j.want()}, j.p.Factory.Address.List()...)
	if j.old.IsValid() {
		candidates = append(candidates, j.old)
	}
	at, err := w.Find(ctx, candidates, true)
	j.here, j.at = err == nil, at
	if err == nil && at.IsValid() {
		_ = j.sighted(ctx, false) // what is known of it is the better for it, but the failure is told anyway
	}
}

// sighted tells what the run saw of the device; set says that it set it.
func (j *job) sighted(ctx context.Context, set bool) error {
	s := device.Sighting{MAC: j.d.MAC, Protocol: device.ByRun, At: time.Now().UTC(), Facts: map[string]string{device.Address: j.at.String()}}
	if set {
		s.Facts[device.State], s.Facts[device.Name] = device.Set, j.d.Given.Name
	}
	return j.Store.Sight(ctx, s, func(f *device.Found) { f.Recognise(j.Plan.Profiles) })
}

// explain says what happened, what state the box is in, and what to do.
func (j *job) explain(err error) string {
	where := "It is not on the segment"
	switch {
	case j.at.IsValid():
		where = "It was last seen at " + j.at.String()
	case j.here:
		where = "It has no address"
	}
	text := err.Error()
	if p := (*problem.Error)(nil); errors.As(err, &p) {
		text = p.Cause
		if p.Next != "" {
			return fmt.Sprintf("%s: %s. %s. %s.", j.d.Step, text, where, sentence(p.Next))
		}
	}
	return fmt.Sprintf("%s: %s. %s. Mend the cause and commission it again; the run goes on from what is set.", j.d.Step, text, where)
}

func sentence(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func (j *job) run(ctx context.Context) (err error) {
	if j.p == nil {
		return problem.New(problem.Conflict, "its profile "+j.d.Profile+" is gone", "put the profile back")
	}
	if j.journal, err = j.Store.Journal(ctx, j.d.Run, j.d.Tag); err != nil {
		return err
	}
	if j.servers, err = j.Store.Servers(ctx, j.d.MAC); err != nil {
		return err
	}
	j.renewed = map[string]bool{}
	for _, s := range j.p.Order {
		if j.journal[string(s.Act)].Phase != "" {
			j.renews(s)
		}
	}
	j.steps = procedure.Steps(j.p, j.d.Given, procedure.Login{})
	for i, s := range j.steps {
		j.d.Step, j.d.Done = s.Name, i
		if err := j.Store.SaveRunDevice(ctx, j.d); err != nil {
			return err
		}
		j.Notify(j.d)
		if j.isDone(s) {
			continue
		}
		// The journal comes first: after a crash it says what may have happened.
		if err := j.note(ctx, s, store.Begin, ""); err != nil {
			return err
		}
		detail, err := j.step(ctx, s)
		if err != nil {
			return errors.Join(err, j.note(ctx, s, store.Failed, err.Error()))
		}
		if err := j.note(ctx, s, store.Done, detail); err != nil {
			return err
		}
		if s.Name == procedure.Confirm && len(j.journal) > 0 {
			how, err := j.settled(ctx)
			if err != nil {
				return err
			}
			if how != "" {
				last := j.steps[len(j.steps)-1]
				if err := j.note(ctx, last, store.Done, "everything is as planned already; "+how); err != nil {
					return err
				}
				break
			}
		}
	}
	j.d.Step, j.d.Done = "", len(j.steps)
	return nil
}

func (j *job) note(ctx context.Context, s procedure.Step, phase, detail string) error {
	return j.Store.AddLine(ctx, store.Line{Run: j.d.Run, Tag: j.d.Tag, MAC: j.d.MAC, Step: s.Name, Phase: phase, Detail: detail})
}

// isDone reports whether a step needs no repeating in a run that was cut off.
// Acts say what should be, so they are repeated with the same frozen values
// until the device has come back from the last restart of its procedure; only
// what happened before and after a restart that was seen proves that it keeps.
func (j *job) isDone(s procedure.Step) bool {
	if s.Name == procedure.Reach || s.Name == procedure.Confirm {
		return false
	}
	return j.journal[j.steps[len(j.steps)-1].Name].Phase == store.Done
}

// renews notes that an act has the device make anew what it is known again by.
func (j *job) renews(s profile.Stage) {
	for _, kind := range s.Renews {
		j.renewed[kind] = true
	}
}

func (j *job) want() netip.Addr { return j.d.Given.Address.Addr() }

func (j *job) step(ctx context.Context, s procedure.Step) (detail string, err error) {
	switch {
	case s.Name == procedure.Reach:
		return j.reach(ctx)
	case s.Name == procedure.Confirm:
		return j.confirm(ctx)
	case s.Return:
		return j.comeBack(ctx, s)
	}
	for _, o := range j.p.Order {
		if o.Act == s.Act {
			j.renews(o)
		}
	}
	if s.Act == profile.Password {
		return j.password(ctx, s)
	}
	return j.act(ctx, s)
}

// reach finds out where the device is: at its new address, where it was seen
// last, at a factory address, or on the segment without an address.
func (j *job) reach(ctx context.Context) (string, error) {
	candidates := append([]netip.Addr{j.want()}, j.p.Factory.Address.List()...)
	known, err := j.Store.Device(ctx, j.d.MAC)
	if err != nil {
		return "", err
	}
	candidates = append(candidates, known.Addresses()...)
	slices.SortFunc(candidates, netip.Addr.Compare)
	candidates = slices.Compact(candidates)
	w := watch.New(j.Bench, j.d.MAC)
	defer w.Close()
	ctx, cancel := context.WithTimeout(ctx, time.Duration(j.p.Restart.AtMost))
	defer cancel()
	if j.at, err = w.Find(ctx, candidates, j.p.TellsWithoutAddress()); err != nil {
		if !errors.Is(err, watch.ErrAbsent) {
			return "", err
		}
		return "", problem.New(problem.Device, err.Error(), "check its cable and power, then commission it again").About(j.d.MAC.String())
	}
	j.here = true
	if !j.at.IsValid() {
		return "no address yet", nil
	}
	return j.at.String(), nil
}

// converse makes sure that a talk with the device at its present address is open.
func (j *job) converse() *driver.Talk {
	if j.talk == nil {
		j.talk = driver.New(j.Bench, j.target(j.at))
	}
	return j.talk
}

func (j *job) target(at netip.Addr) driver.Target {
	bits := j.p.Factory.Address.Bits
	if at == j.want() {
		bits = j.d.Given.Address.Bits()
	}
	t := driver.Target{MAC: j.d.MAC, Address: at, Bits: bits, Profile: j.p, Avoid: j.avoid, Trust: j.trust}
	if j.d.Line != "" {
		t.Line = func(m line.Mode) (io.ReadWriteCloser, error) { return j.Line(j.d.Line, m) }
	}
	return t
}

func (j *job) hangUp() {
	if j.talk != nil {
		j.talk.Close()
		j.talk, j.inside = nil, false
	}
	if j.restart != nil {
		j.restart.Close()
		j.restart = nil
	}
}

// confirm reads the identity back before anything is written.
func (j *job) confirm(ctx context.Context) (string, error) {
	if j.p.Who() == profile.Read {
		if err := j.signIn(ctx); err != nil {
			return "", err
		}
	}
	facts, err := j.converse().Do(ctx, j.p.Who(), nil)
	if err != nil {
		return "", err
	}
	if m := facts[device.Model]; m != "" && !strings.EqualFold(m, j.p.Model) {
		return "", problem.New(problem.Device, fmt.Sprintf("it says that it is a %s, not a %s", m, j.p.Model), "undo the match and find its right profile")
	}
	serial := facts[device.Serial]
	if serial != "" && j.d.Serial != "" && !strings.EqualFold(serial, j.d.Serial) {
		return "", problem.New(problem.Device, fmt.Sprintf("it has the serial %s, but the plan says %s", serial, j.d.Serial), "undo the match and choose the right box")
	}
	if j.d.Line != "" {
		if err := j.atLine(ctx, serial); err != nil {
			return "", err
		}
	}
	c := store.Conduct{MAC: j.d.MAC, Serial: serial}
	return strings.TrimSpace(j.p.Model + " " + serial), j.Store.SetConduct(ctx, c)
}

// atLine shows that the box at the other end of the serial line is the one that is
// matched: a line has no MAC, so both must have told the same serial.
func (j *job) atLine(ctx context.Context, serial string) error {
	found, err := j.Store.Device(ctx, j.d.MAC)
	if err != nil {
		return err
	}
	known := cmp.Or(j.d.Serial, found.Value(device.Serial))
	switch {
	case serial == "" || known == "":
		return problem.New(problem.Device, "nothing shows that it is this box that hangs on "+j.d.Line, "put its serial into the plan")
	case !strings.EqualFold(serial, known):
		return problem.New(problem.Device, fmt.Sprintf("the box on %s has the serial %s, not %s", j.d.Line, serial, known), "name the right line")
	}
	return nil
}

// variables are what the profile's moves may use. Secrets leave the vault here, on their
// way to the device.
func (j *job) variables(ctx context.Context) (map[string]string, error) {
	vars := j.d.Given.Variables()
	for key, token := range j.d.Given.Secrets {
		var secret string
		if token != "" {
			var ok bool
			var err error
			if secret, ok, err = j.Vault.Secret(ctx, token); err != nil {
				return nil, err
			} else if !ok {
				return nil, problem.New(problem.Conflict, "the planned "+key+" is not in the vault", "give it again: redstart plan set "+j.d.Tag+" "+key+"=…")
			}
		}
		vars["setting."+key] = secret
	}
	return vars, nil
}

// act carries out any other act.
func (j *job) act(ctx context.Context, s procedure.Step) (string, error) {
	if j.p.NeedsAddress(s.Act) {
		if err := j.signIn(ctx); err != nil {
			return "", err
		}
	}
	if s.Act == profile.Address {
		if err := j.showFree(ctx); err != nil {
			return "", err
		}
	}
	if s.Act != profile.Restart {
		if err := j.changing(ctx); err != nil {
			return "", err
		}
	}
	if err := j.beforeGoing(ctx, s); err != nil {
		return "", err
	}
	vars, err := j.variables(ctx)
	if err != nil {
		return "", err
	}
	detail := s.Text
	err = j.send(ctx, s.Act, vars)
	if s.Then != profile.Stays && errors.Is(err, driver.ErrNoAnswer) && ctx.Err() == nil {
		// The answer of a device that goes can be lost with it, and cannot be
		// sent again. Whether it did as asked shows in where it comes back.
		detail, err = detail+"; no answer came, so looking for it", nil
	}
	if err != nil {
		return "", err
	}
	if s.Then == profile.Stays {
		return detail, j.changing(ctx)
	}
	return detail, nil
}

// send has the device do something, as far as it is there to answer.
func (j *job) send(ctx context.Context, act profile.Act, vars map[string]string) error {
	do := func(ctx context.Context) error {
		_, err := j.converse().Do(ctx, act, vars)
		return err
	}
	if j.restart == nil {
		return do(ctx)
	}
	return j.restart.During(ctx, do)
}

// showFree shows that nobody else holds the planned address, immediately
// before it is given out.
func (j *job) showFree(ctx context.Context) error {
	holders, err := j.Bench.Holders(ctx, j.want())
	if err != nil {
		return err
	}
	for _, h := range holders {
		if h != j.d.MAC {
			return problem.New(problem.Device, fmt.Sprintf("the address %s is in use by %s", j.want(), h), "free the address or plan another, then commission it again").About(j.d.MAC.String())
		}
	}
	return nil
}

// beforeGoing notes, before an act that makes the device go, what will show that
// it restarted.
func (j *job) beforeGoing(ctx context.Context, s procedure.Step) error {
	j.old = j.at
	if s.Then != profile.Restarts {
		return nil
	}
	login := func() *profile.Login {
		if j.login == nil {
			return nil
		}
		return &j.login.Login
	}
	if s.Act == profile.Password {
		login = nil // which of two opens it is what the restart decides; none is tried in vain
	}
	bits := j.target(j.at).Bits
	if j.restart != nil {
		j.restart.Close()
	}
	j.restart = &watch.Restart{Fatal: func(err error) bool { return errors.Is(err, driver.ErrLogin) }}
	if tell := driver.Teller(j.Bench, j.p, j.target, login); tell != nil {
		j.restart.Tell = tell
	}
	j.restart.Begin(ctx, j.Bench, j.d.MAC, j.p, j.at, j.whither(s), bits)
	if n := j.restart.Starts(); n >= 0 {
		return j.Store.SetStarts(ctx, j.d.MAC, n)
	}
	return nil
}

// whither tells where the device should be after an act: where it is, until its
// address was sent.
func (j *job) whither(s procedure.Step) netip.Addr {
	for _, o := range j.p.Order {
		if o.Act == profile.Address {
			return j.want()
		}
		if o.Act == s.Act {
			break
		}
	}
	return j.at
}

// comeBack waits for the device at its planned address, and for what shows that
// it restarted.
func (j *job) comeBack(ctx context.Context, s procedure.Step) (string, error) {
	r := j.restart
	j.restart = nil
	j.hangUp()
	if r != nil {
		defer r.Close()
	}
	if j.idle {
		j.idle = false
		return "nothing was sent, so it stayed", nil
	}
	ctx, cancel := context.WithTimeout(ctx, time.Duration(j.p.Restart.AtMost)+lastLook)
	defer cancel()
	if s.Then == profile.Moves {
		return j.moved(ctx)
	}
	if r == nil {
		return "", problem.New(problem.Device, "the run was cut off while it restarted", "commission it again")
	}
	out, err := r.Wait(ctx)
	j.here, j.at = out.Here, out.At
	how := out.Evidence
	switch {
	case errors.Is(err, watch.ErrNoRestart) && s.Act != profile.Restart && j.old == out.At:
		// Nothing changed for it, so it may well have left the restart out.
		how = "nothing shows that it restarted, since nothing changed"
	case errors.Is(err, driver.ErrLogin):
		return "", problem.New(problem.Device, "after its restart it refuses the password that it took before", "look at the box; reset it to its factory state, or give its password: redstart vault learn").About(j.d.MAC.String())
	case err != nil && (ours(err) || errors.Is(err, context.Canceled)):
		return "", err
	case err != nil:
		return "", problem.New(problem.Device, fmt.Sprintf("%s, after %.0f s", err, out.Took.Seconds()), "look at the box; switch it off and on if it is dark, then commission it again").About(j.d.MAC.String())
	}
	if err := j.converse().Answering(ctx); err != nil {
		return "", err
	}
	if out.Evidence != "" {
		if err := j.Store.SetConduct(ctx, store.Conduct{MAC: j.d.MAC, RestartedAt: store.Now(), Evidence: out.Evidence}); err != nil {
			return "", err
		}
	}
	if err := j.prove(ctx); err != nil {
		return "", err
	}
	if len(j.renewed) > 0 {
		if err := errors.Join(j.signIn(ctx), j.remember(ctx)); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("at %s after %.1f s; %s", j.at, out.Took.Seconds(), how), j.sighted(ctx, false)
}

// moved finds the device at its new address, which it took at once.
func (j *job) moved(ctx context.Context) (string, error) {
	began := time.Now()
	w := watch.New(j.Bench, j.d.MAC)
	defer w.Close()
	j.at = netip.Addr{}
	for j.at != j.want() {
		at, err := w.Find(ctx, []netip.Addr{j.want()}, false)
		if errors.Is(err, watch.ErrAbsent) {
			return "", problem.New(problem.Device, fmt.Sprintf("it does not answer at its new address within %s", time.Duration(j.p.Restart.AtMost)), "look at the box; switch it off and on if it is dark, then commission it again").About(j.d.MAC.String())
		}
		if err != nil {
			return "", err
		}
		j.here, j.at = true, at
	}
	if err := j.converse().Answering(ctx); err != nil {
		return "", err
	}
	return fmt.Sprintf("at %s after %.1f s", j.at, time.Since(began).Seconds()), j.sighted(ctx, false)
}
