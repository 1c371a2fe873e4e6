package commission

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"

	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/store"
	"redstart/internal/vault"
)

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
	if err := j.converse().SignIn(ctx, j.login.Login); err != nil {
		return err
	}
	j.inside = true
	return nil
}

// findLogin tries what may open the device: where it is as from the factory, and this run
// gave it no password yet, that login, then what is stored, then the factory login; each
// once.
func (j *job) findLogin(ctx context.Context) error {
	if j.login != nil {
		return nil
	}
	stored, err := j.tries.Candidates(ctx)
	if err != nil {
		return err
	}
	if f := j.p.Factory.Login; f != nil {
		factory := vault.Login{Login: *f, Origin: "the factory"}
		given := j.journal[string(profile.Password)].Phase != "" || slices.ContainsFunc(stored, func(l vault.Login) bool { return l.State == store.Pending })
		if j.p.Factory.Address.Contains(j.at) && !given {
			stored = append([]vault.Login{factory}, stored...)
		} else {
			stored = append(stored, factory)
		}
	}
	refused := 0
	var stranger error
	for _, l := range stored {
		if err := j.tries.May(ctx, l.Login); err != nil {
			if stranger != nil {
				break
			}
			return err
		}
		switch err := j.converse().SignIn(ctx, l.Login); {
		case err == nil:
			j.login, j.inside, j.reset = &l, true, l.ID == 0
			return j.tries.Accepted(ctx, l)
		case errors.Is(err, driver.ErrLogin):
			refused++
			if err := j.tries.Refused(ctx, l); err != nil {
				return err
			}
		case errors.Is(err, driver.ErrStranger):
			stranger = err
		default:
			return err
		}
	}
	if stranger != nil {
		return j.anew(ctx, stranger)
	}
	if j.p.Factory.Login == nil && refused == 0 {
		j.reset = true
		return nil // no password until first use
	}
	if refused < len(stored) || j.p.Factory.Login != nil {
		return problem.New(problem.Device, "neither a stored password nor the factory login opens it", "reset it to its factory state, or give its password: redstart vault learn")
	}
	return nil // what was stored is out of date; first use tells whether it was reset
}

// anew takes a box that shows another identity than before for one that was reset,
// if it offers the way in of a factory-fresh one; else it is a stranger.
func (j *job) anew(ctx context.Context, stranger error) error {
	if len(j.p.Acts[profile.FactoryEntry]) == 0 {
		return stranger
	}
	j.converse().SignOut()
	if _, err := j.converse().Do(ctx, profile.FactoryEntry, nil); err != nil {
		return stranger
	}
	j.reset = true
	return nil
}

// own reports whether a password of its own opens the device.
func (j *job) own() bool { return j.login != nil && j.login.ID != 0 }

// password gives the device the password that the policy wants, which is on disk
// before it is sent. One that is as planned already is kept; one that is not is
// used to get in, and superseded.
func (j *job) password(ctx context.Context, s procedure.Step) (string, error) {
	if err := j.findLogin(ctx); err != nil {
		return "", err
	}
	v := j.d.Given
	if j.own() {
		if j.keepsLogin() {
			j.idle = s.Then != profile.Stays
			return "its password is as planned already", nil
		}
	}
	next, err := j.next(ctx)
	if err != nil {
		return "", err
	}
	vars, err := j.variables(ctx)
	if err != nil {
		return "", err
	}
	vars["user"], vars["password"] = next.User, next.Password
	act := profile.Password
	if j.login != nil {
		vars["old-user"], vars["old-password"] = j.login.User, j.login.Password
		if j.own() && len(j.p.Acts[profile.Renew]) > 0 {
			act = profile.Renew
		}
	}
	if j.own() {
		if err := j.signIn(ctx); err != nil {
			return "", err
		}
	}
	if err := errors.Join(j.changing(ctx), j.beforeGoing(ctx, s)); err != nil {
		return "", err
	}
	if err := j.send(ctx, act, vars); err != nil && (s.Then == profile.Stays || !errors.Is(err, driver.ErrNoAnswer)) {
		return "", err
	}
	j.login, j.inside, j.unproven = &next, false, true
	if s.Then != profile.Stays {
		return "sent; tried when it is back", nil
	}
	return procedure.LoginWords(v.Login) + " opens it", j.prove(ctx)
}

// prove tries the password that was set, and takes it as the one that opens the
// device from now on.
func (j *job) prove(ctx context.Context) error {
	if !j.unproven {
		return nil
	}
	if err := j.tries.May(ctx, j.login.Login); err != nil {
		return err
	}
	switch err := j.converse().SignIn(ctx, j.login.Login); {
	case errors.Is(err, driver.ErrLogin):
		return errors.Join(problem.New(problem.Device, "it took a new password, but refuses it", "look at the box; reset it to its factory state, or give its password: redstart vault learn"), j.tries.Refused(ctx, *j.login))
	case err != nil:
		return err
	}
	j.inside, j.unproven = true, false
	return errors.Join(j.tries.Accepted(ctx, *j.login), j.changing(ctx), j.remember(ctx))
}

// next gives the login that the device is to have, stored: the one that a run
// which was cut off stored for it, or a new one.
func (j *job) next(ctx context.Context) (vault.Login, error) {
	stored, err := j.Vault.Logins(ctx, j.d.MAC)
	if err != nil {
		return vault.Login{}, err
	}
	for _, l := range stored {
		if l.State == store.Pending && l.User == j.d.Given.User && l.Stamp != "" && l.Stamp == j.d.Given.Login && !l.MadeAt.Before(j.d.FreshSince.Time) && j.p.Password.Check(l.Password) == nil {
			return l, nil
		}
	}
	login := profile.Login{User: j.d.Given.User}
	if login.Password, err = j.newPassword(ctx); err != nil {
		return vault.Login{}, err
	}
	if err := j.Vault.Put(ctx, vault.New{MAC: j.d.MAC, Login: login, Origin: j.who, Stamp: j.d.Given.Login, State: store.Pending, ToldBy: j.who}); err != nil {
		return vault.Login{}, err
	}
	if stored, err = j.Vault.Logins(ctx, j.d.MAC); err != nil {
		return vault.Login{}, err
	}
	return stored[0], nil
}

// newPassword makes or takes the password that the site's policy wants for the device.
func (j *job) newPassword(ctx context.Context) (string, error) {
	policy := j.Plan.Site.PolicyFor(j.p)
	if policy.Stamp(j.p.Kind) != j.d.Given.Login {
		return "", problem.New(problem.Conflict, "the policy of its login was changed while the run was under way", "commission it again")
	}
	switch policy.Mode {
	case plan.Given:
		password, ok, err := j.Vault.Secret(ctx, policy.Given)
		if err != nil {
			return "", err
		}
		if !ok {
			return "", problem.New(problem.Conflict, "the password that the policy gives is not in the vault", "give it again: redstart vault policy set")
		}
		if err := j.p.Password.Check(password); err != nil {
			return "", problem.New(problem.Conflict, err.Error(), "give another in the policy")
		}
		return password, nil
	case plan.OneKind:
		return j.Vault.Shared(ctx, j.Store, j.p.Kind, policy.Turn, func() (string, error) {
			return j.Plan.SharedRules(j.p.Kind).Generate(rand.Reader, policy.Length)
		})
	}
	return j.p.Password.Generate(rand.Reader, policy.Length)
}

// changing notes the time of a write.
func (j *job) changing(ctx context.Context) error {
	return j.Store.SetConduct(ctx, store.Conduct{MAC: j.d.MAC, ChangedAt: store.Now()})
}

// remember notes what the device's servers showed, for later comparing.
func (j *job) remember(ctx context.Context) error {
	for _, seen := range j.converse().Servers() {
		if j.servers[seen.Kind] == seen.Sum {
			continue
		}
		if err := j.Store.SetServer(ctx, j.d.MAC, seen.Kind, seen.Sum); err != nil {
			return err
		}
		j.servers[seen.Kind] = seen.Sum
	}
	return nil
}

// trust refuses to send a login to a server that is another than before, unless the
// box was as from the factory or its profile says that it makes a new one.
func (j *job) trust(s driver.Server) error {
	if was := j.servers[s.Kind]; was != "" && was != s.Sum && !j.reset && !j.renewed[s.Kind] {
		return fmt.Errorf("%s, not %s; if that is right, undo its match and match it again", s.Named(), driver.Server{Kind: s.Kind, Sum: was}.Named())
	}
	return nil
}
