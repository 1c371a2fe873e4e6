package task

import (
	"context"
	"crypto/rand"
	"errors"

	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/core/state"
	"redstart/internal/driver"
	"redstart/internal/vault"
)

// password gives the device the login that the policy wants.
var password = &Task{
	Name: string(profile.Password),
	Text: func(o Of) string { return itself(o, passwordText(o.Given, o.Opens)) },
	Do:   func(ctx context.Context, b *Box, s Step) (string, error) { return b.password(ctx, s) },
}

func passwordText(v procedure.Values, opens procedure.Login) string {
	text := "set a new password for " + v.User + ", " + procedure.LoginWords(v.Login) + ", stored before it is sent"
	switch {
	case opens.Keeps(v):
		return "keep its password, which is as planned: " + procedure.LoginWords(v.Login)
	case opens.Known:
		return text + "; the one before opens it"
	}
	return text
}

// password gives the device the password that the policy wants, which is on disk
// before it is sent. One that is as planned already is kept; one that is not is
// used to get in, and superseded.
func (b *Box) password(ctx context.Context, s Step) (string, error) {
	if err := b.findLogin(ctx); err != nil {
		return "", err
	}
	if err := b.confirmInside(ctx); err != nil {
		return "", err
	}
	v := b.d.Given
	if b.own() {
		if b.keepsLogin() {
			b.idle = s.stage.Then != profile.Stays
			return "its password is as planned already", nil
		}
	}
	if err := b.firstUse(ctx); err != nil {
		return "", err
	}
	next, err := b.next(ctx)
	if err != nil {
		return "", err
	}
	vars, err := b.variables(ctx)
	if err != nil {
		return "", err
	}
	vars["user"], vars["password"] = next.User, next.Password
	act := profile.Password
	if b.login != nil {
		vars["old-user"], vars["old-password"] = b.login.User, b.login.Password
		if b.own() && len(b.p.Acts[profile.Renew]) > 0 {
			act = profile.Renew
		}
	}
	if b.login != nil {
		if err := b.signIn(ctx); err != nil {
			return "", err
		}
	}
	if err := errors.Join(b.changing(ctx), b.beforeGoing(ctx, s)); err != nil {
		return "", err
	}
	if err := b.send(ctx, act, vars); err != nil && (s.stage.Then == profile.Stays ||
		!errors.Is(err, driver.ErrNoAnswer)) {
		return "", err
	}
	had := b.login
	b.login, b.inside, b.unproven = &next, false, true
	if s.stage.Then != profile.Stays {
		return "sent; tried when it is back", nil
	}
	return procedure.LoginWords(v.Login) + " opens it", b.proveBeside(ctx, act, had)
}

// firstUse shows, of a device that nothing known opens, that its first password may still
// be set.
func (b *Box) firstUse(ctx context.Context) error {
	if b.login != nil || len(b.p.Acts[profile.FactoryEntry]) == 0 {
		return nil
	}
	if _, err := b.converse().Do(ctx, profile.FactoryEntry, nil); errors.Is(err, driver.ErrLogin) {
		return problem.New(problem.Device, "somebody set its first password before, and no stored password opens it",
			"let its login be learnt (redstart vault learn), or reset it to factory state; then commission it again")
	} else if err != nil {
		return err
	}
	return nil
}

// next gives the login that the device is to have, stored: the one that a run
// which was cut off stored for it, or a new one.
func (b *Box) next(ctx context.Context) (vault.Login, error) {
	stored, err := b.Logins.Logins(ctx, b.d.MAC)
	if err != nil {
		return vault.Login{}, err
	}
	for _, l := range stored {
		if l.State == state.Pending && l.User == b.d.Given.User && l.Stamp != "" && l.Stamp == b.d.Given.Login &&
			!l.MadeAt.Before(b.d.FreshSince.Time) && b.p.Password.Check(l.Password) == nil {
			return l, nil
		}
	}
	login := profile.Login{User: b.d.Given.User}
	if login.Password, err = b.newPassword(ctx); err != nil {
		return vault.Login{}, err
	}
	if err := b.Logins.Put(ctx, vault.New{MAC: b.d.MAC, Login: login, Origin: b.who, Stamp: b.d.Given.Login,
		State: state.Pending, ToldBy: b.who}); err != nil {
		return vault.Login{}, err
	}
	if stored, err = b.Logins.Logins(ctx, b.d.MAC); err != nil {
		return vault.Login{}, err
	}
	return stored[0], nil
}

// newPassword makes or takes the password that the site's policy wants for the device.
func (b *Box) newPassword(ctx context.Context) (string, error) {
	policy := b.Plan.Site.PolicyFor(b.p)
	if policy.Stamp(b.p.Kind) != b.d.Given.Login {
		return "", problem.New(problem.Conflict, "the policy of its login was changed while the run was under way",
			"commission it again")
	}
	switch policy.Mode {
	case plan.Given:
		password, ok, err := b.Secrets.Secret(ctx, policy.Given)
		if err != nil {
			return "", err
		}
		if !ok {
			return "", problem.New(problem.Conflict, "the password that the policy gives is not in the vault",
				"give it again: redstart vault policy set")
		}
		if err := b.p.Password.Check(password); err != nil {
			return "", problem.New(problem.Conflict, err.Error(), "give another in the policy")
		}
		return password, nil
	case plan.OneKind:
		return b.Secrets.Shared(ctx, b.p.Kind, policy.Turn, func() (string, error) {
			return b.Plan.SharedRules(b.p.Kind).Generate(rand.Reader, policy.Length)
		})
	}
	return b.p.Password.Generate(rand.Reader, policy.Length)
}
