package commission

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"redstart/internal/core/device"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/lan/watch"
	"redstart/internal/store"
)

// attempts is how often a device that falls silent is looked for anew.
const attempts = 3

// job is the work on one device.
type job struct {
	*Runner
	d       store.RunDevice
	p       *profile.Profile
	avoid   func(netip.Addr) bool
	steps   []procedure.Step
	journal map[string]store.Line

	here   bool       // it is on the segment
	at     netip.Addr // where it is now; invalid: it has no address
	old    netip.Addr // where it was before the act that makes it go
	watch  *watch.Watch
	talk   *driver.Talk
	login  *profile.Login // what opens it now; nil when nothing is needed or known
	inside bool           // the talk is signed in
}

// device does the work on one device and records how it ended.
func (r *Runner) device(ctx context.Context, d store.RunDevice, avoid func(netip.Addr) bool) {
	d.State, d.Error, d.Done = store.Running, "", 0
	if d.StartedAt.IsZero() {
		d.StartedAt = store.Now()
	}
	j := &job{Runner: r, d: d, p: r.Plan.Profiles[d.Profile], avoid: avoid}
	err := j.run(ctx)
	// A box that falls silent in the middle may just be restarting, from before
	// the run was cut off or by itself. Since acts say what should be, looking
	// again and repeating them does no harm.
	for attempt := 1; attempt < attempts && errors.Is(err, driver.ErrNoAnswer) && ctx.Err() == nil; attempt++ {
		j.hangUp()
		j.login = nil
		err = j.run(ctx)
	}
	j.hangUp()
	if ctx.Err() != nil {
		return // cut off, not failed: the next Carry goes on by looking
	}
	j.d.EndedAt = store.Now()
	j.d.State = store.Done
	who := fmt.Sprintf("run %d", d.Run)
	if err != nil {
		j.d.State, j.d.Error = store.Failed, j.explain(err)
		err = r.Store.SetState(ctx, d.Tag, store.Attention, j.d.Error, who)
	} else {
		err = r.Store.SetConfigured(ctx, d.Tag, d.Given, who)
	}
	record := errors.Join(r.Store.SaveRunDevice(ctx, j.d), err)
	if record != nil {
		r.Log.Error("the end of a device's run could not be recorded", "tag", d.Tag, "error", record)
	}
	r.Log.Info("device ended", "run", d.Run, "tag", d.Tag, "mac", d.MAC.String(), "state", j.d.State, "error", j.d.Error)
	r.Notify(j.d)
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
	j.steps = procedure.Steps(j.p, j.d.Given)
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

func (j *job) want() netip.Addr { return j.d.Given.Address.Addr() }

func (j *job) step(ctx context.Context, s procedure.Step) (detail string, err error) {
	switch {
	case s.Name == procedure.Reach:
		return j.reach(ctx)
	case s.Name == procedure.Confirm:
		return j.confirm(ctx)
	case s.Return:
		return j.comeBack(ctx, s)
	case s.Act == profile.Password:
		return j.password(ctx)
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
	if j.at, err = w.Find(ctx, candidates, j.p.UsesDCP()); err != nil {
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
		bits := j.p.Factory.Address.Bits
		if j.at == j.want() {
			bits = j.d.Given.Address.Bits()
		}
		j.talk = driver.New(j.Bench, driver.Target{MAC: j.d.MAC, Address: j.at, Bits: bits, Profile: j.p, Avoid: j.avoid})
	}
	return j.talk
}

func (j *job) hangUp() {
	if j.talk != nil {
		j.talk.Close()
		j.talk, j.inside = nil, false
	}
	if j.watch != nil {
		j.watch.Close()
		j.watch = nil
	}
}

// confirm reads the identity back before anything is written.
func (j *job) confirm(ctx context.Context) (string, error) {
	facts, err := j.converse().Do(ctx, profile.Identify, nil)
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
	c := store.Conduct{MAC: j.d.MAC, Serial: serial}
	return strings.TrimSpace(j.p.Model + " " + serial), j.Store.SetConduct(ctx, c)
}

// variables are what the profile's moves may use.
func (j *job) variables() map[string]string { return j.d.Given.Variables() }

// signIn opens the device with what is known to open it, if its acts need that.
func (j *job) signIn(ctx context.Context) error {
	if j.inside || len(j.p.Acts[profile.SignIn]) == 0 {
		return nil
	}
	if j.login == nil {
		if err := j.findLogin(ctx); err != nil {
			return err
		}
	}
	if j.login == nil {
		return nil // no password until first use
	}
	if j.inside {
		return nil
	}
	if err := j.converse().SignIn(ctx, *j.login); err != nil {
		return err
	}
	j.inside = true
	return nil
}

// findLogin tries the stored credentials, newest first, then the factory login.
func (j *job) findLogin(ctx context.Context) error {
	stored, err := j.Vault.Logins(ctx, j.d.MAC)
	if err != nil {
		return err
	}
	for _, l := range stored {
		switch err := j.converse().SignIn(ctx, l.Login); {
		case err == nil:
			j.login, j.inside = &l.Login, true
			return j.Vault.Works(ctx, l)
		case !errors.Is(err, driver.ErrLogin):
			return err
		}
	}
	factory := j.p.Factory.Login
	if factory == nil {
		return nil
	}
	switch err := j.converse().SignIn(ctx, *factory); {
	case err == nil:
		j.login, j.inside = factory, true
		return nil
	case errors.Is(err, driver.ErrLogin):
		return problem.New(problem.Device, "neither a stored password nor the factory login opens it", "reset it to its factory state, or give its password")
	default:
		return err
	}
}

// password gives the device a password of its own, which is on disk before it
// is sent. A stored one that already opens the device is kept.
func (j *job) password(ctx context.Context) (string, error) {
	if err := j.findLogin(ctx); err != nil {
		return "", err
	}
	factory := j.p.Factory.Login
	if j.login != nil && (factory == nil || *j.login != *factory) {
		return "it has its own password already", nil
	}
	stored, err := j.Vault.Logins(ctx, j.d.MAC)
	if err != nil {
		return "", err
	}
	next := profile.Login{User: j.d.Given.User}
	if len(stored) > 0 && stored[0].User == next.User && !stored[0].Works && j.p.Password.Check(stored[0].Password) == nil {
		next = stored[0].Login // stored by a run that was cut off before the device took it
	} else {
		if next.Password, err = j.newPassword(ctx); err != nil {
			return "", err
		}
		if err := j.Vault.Put(ctx, j.d.MAC, next); err != nil {
			return "", err
		}
	}
	vars := j.variables()
	vars["password"] = next.Password
	if factory != nil {
		vars["old-password"] = factory.Password
	}
	if err := j.changing(ctx); err != nil {
		return "", err
	}
	if _, err := j.converse().Do(ctx, profile.Password, vars); err != nil {
		return "", err
	}
	j.login, j.inside = &next, false
	if err := j.signIn(ctx); err != nil {
		return "", err
	}
	if stored, err = j.Vault.Logins(ctx, j.d.MAC); err != nil {
		return "", err
	}
	return "its own password opens it", errors.Join(j.Vault.Works(ctx, stored[0]), j.changing(ctx), j.remember(ctx))
}

// newPassword makes or takes the password that the site's policy wants for the device.
func (j *job) newPassword(ctx context.Context) (string, error) {
	policy := j.Plan.Site.PolicyFor(j.p)
	switch policy.Mode {
	case plan.Given:
		password, ok, err := j.Vault.Secret(ctx, policy.Given)
		if err != nil {
			return "", err
		}
		if !ok {
			return "", problem.New(problem.Conflict, "the password that the policy gives is not in the vault", "give it again: redstart vault policy")
		}
		if err := j.p.Password.Check(password); err != nil {
			return "", problem.New(problem.Conflict, err.Error(), "give another in the policy")
		}
		return password, nil
	case plan.OneKind:
		return j.Vault.Shared(ctx, j.Store, j.p.Kind, func() (string, error) {
			return j.Plan.SharedRules(j.p.Kind).Generate(rand.Reader, policy.Length)
		})
	}
	return j.p.Password.Generate(rand.Reader, policy.Length)
}

// changing notes the time of a write.
func (j *job) changing(ctx context.Context) error {
	return j.Store.SetConduct(ctx, store.Conduct{MAC: j.d.MAC, ChangedAt: store.Now()})
}

// remember notes the certificate that the device showed, for later comparing.
func (j *job) remember(ctx context.Context) error {
	return j.Store.SetConduct(ctx, store.Conduct{MAC: j.d.MAC, Certificate: j.converse().Certificate()})
}

// act carries out any other act.
func (j *job) act(ctx context.Context, s procedure.Step) (string, error) {
	if !j.p.OnlyDCP(s.Act) {
		if err := j.signIn(ctx); err != nil {
			return "", err
		}
	}
	if s.Act == profile.Address {
		if err := j.showFree(ctx); err != nil {
			return "", err
		}
	}
	if s.Then != profile.Stays {
		// Watch from before the act: the device may go and be back at once.
		j.old, j.watch = j.at, watch.New(j.Bench, j.d.MAC)
	}
	if s.Act != profile.Restart {
		if err := j.changing(ctx); err != nil {
			return "", err
		}
	}
	detail := s.Text
	_, err := j.converse().Do(ctx, s.Act, j.variables())
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

// comeBack waits for the device at its planned address by watching the segment.
func (j *job) comeBack(ctx context.Context, s procedure.Step) (string, error) {
	w := j.watch
	j.watch = nil
	j.hangUp()
	defer w.Close()
	ctx, cancel := context.WithTimeout(ctx, time.Duration(j.p.Restart.AtMost))
	defer cancel()
	began := time.Now()
	var err error
	if s.Then == profile.Restarts {
		err = w.Back(ctx, j.old, j.want())
	} else {
		for err == nil && j.at != j.want() {
			j.at, err = w.Find(ctx, []netip.Addr{j.want()}, false)
		}
	}
	if err != nil {
		j.here, j.at = false, netip.Addr{}
		if errors.Is(err, watch.ErrOldAddress) || errors.Is(err, watch.ErrNoRestart) {
			j.here, j.at = true, j.old
		}
		return "", problem.New(problem.Device, fmt.Sprintf("%s within %s", err, time.Duration(j.p.Restart.AtMost)), "look at the box; switch it off and on if it is dark, then commission it again").About(j.d.MAC.String())
	}
	j.at = j.want()
	c := store.Conduct{MAC: j.d.MAC}
	if s.Then == profile.Restarts {
		c.RestartedAt = store.Now()
	}
	if err := j.converse().Answering(ctx); err != nil {
		return "", err
	}
	sighting := device.Sighting{MAC: j.d.MAC, Protocol: "arp", At: time.Now().UTC(), Facts: map[string]string{device.Address: j.at.String()}}
	return fmt.Sprintf("at %s after %.1f s", j.at, time.Since(began).Seconds()), errors.Join(j.Store.SetConduct(ctx, c), j.Store.Sight(ctx, sighting))
}
