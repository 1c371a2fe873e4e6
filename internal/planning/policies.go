package planning

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"redstart/internal/api"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// Unlocked says why no password can be stored or used, if so.
func (s *Planning) Unlocked() error {
	if err := s.Vault.Lost(); err != nil {
		return err
	}
	if s.Vault.Locked() {
		return ErrVaultLocked
	}
	return nil
}

// ErrVaultLocked refuses what needs a password while the vault is locked.
var ErrVaultLocked = problem.New(problem.Conflict, "the vault is locked, so no password could be stored or used",
	"unlock it first: redstart vault unlock")

func changed(c api.PolicyChange, p plan.Policy) plan.Policy {
	p.For = c.For
	set(&p.Mode, c.Mode)
	set(&p.Length, c.Length)
	set(&p.Users, c.Users)
	set(&p.User, c.User)
	set(&p.Recovery, c.Recovery)
	if p.Users != plan.RenameUser && p.Users != plan.AddUser {
		p.User = ""
	}
	return p
}

func set[T any](to *T, from *T) {
	if from != nil {
		*to = *from
	}
}

// SetPolicy changes how logins are made for the site, a kind or a profile.
func (s *Site) SetPolicy(ctx context.Context, in api.PolicyChange, who string) (plan.Site, error) {
	s.all.editing.Lock()
	data, err := s.store.Data(ctx)
	s.all.editing.Unlock()
	if err != nil {
		return data, err
	}
	was := plan.Policy{Mode: plan.OneEach, Users: plan.KeepUser}
	if i := slices.IndexFunc(data.Policies, func(c plan.Policy) bool { return c.For == in.For }); i >= 0 {
		was = data.Policies[i]
	}
	return s.change(ctx, "policy set: "+changed(in, was).Words(), who, func(data plan.Site) (plan.Site, error) {
		return s.withPolicy(ctx, data, in)
	})
}

func (s *Site) withPolicy(ctx context.Context, data plan.Site, in api.PolicyChange) (plan.Site, error) {
	data.Policies = slices.Clone(data.Policies)
	at := slices.IndexFunc(data.Policies, func(c plan.Policy) bool { return c.For == in.For })
	if at < 0 {
		at = len(data.Policies)
		data.Policies = append(data.Policies, plan.Policy{Mode: plan.OneEach, Users: plan.KeepUser})
	}
	policy := changed(in, data.Policies[at])
	switch {
	case policy.Mode != plan.Given && in.Password != "":
		return data, problem.New(problem.Usage, "a password is given, but the mode is "+policy.Mode,
			"give the mode given, too").About(in.For)
	case policy.Mode != plan.Given:
		policy.Given = ""
	case in.Password != "":
		var err error
		if policy.Given, err = s.all.Vault.At(s.store).Keep(ctx, in.Password); err != nil {
			return data, err
		}
	}
	data.Policies[at] = policy
	return data, nil
}

// TurnPolicies makes the passwords anew that kinds share, for the entries of a run.
func (s *Site) TurnPolicies(ctx context.Context, entries []store.Entry, who string) error {
	p, _, err := s.Bare(ctx)
	if err != nil {
		return err
	}
	kinds := map[string]plan.Policy{} // by what they are for
	for _, e := range entries {
		q := p.Profiles[e.Profile]
		if q == nil {
			continue
		}
		switch policy := p.Site.PolicyFor(q); policy.Mode {
		case plan.Given:
			return problem.New(problem.Conflict, "its password is one that a person gave",
				"give another: redstart vault policy set").About(e.Tag)
		case plan.OneKind:
			kinds[policy.For] = policy
		}
	}
	if len(kinds) == 0 {
		return nil
	}
	_, err = s.change(ctx, "shared passwords made anew", who, func(data plan.Site) (plan.Site, error) {
		data.Policies = slices.Clone(data.Policies)
		for i, c := range data.Policies {
			if _, turned := kinds[c.For]; turned {
				data.Policies[i].Turn++
			}
		}
		return data, nil
	})
	return err
}

// RemovePolicy takes a policy away.
func (s *Site) RemovePolicy(ctx context.Context, of, who string) (plan.Site, error) {
	return s.change(ctx, "policy taken away: "+of, who, func(data plan.Site) (plan.Site, error) {
		rest := slices.DeleteFunc(slices.Clone(data.Policies), func(c plan.Policy) bool { return c.For == of })
		if len(rest) == len(data.Policies) {
			return data, problem.New(problem.Missing, "there is no such policy", "").About(of)
		}
		data.Policies = rest
		return data, nil
	})
}

// Credentials lists what is stored for an entry's device: the accepted one first,
// then the others, newest first. No password is opened.
func (s *Site) Credentials(ctx context.Context, tag string) ([]api.Credential, error) {
	e, err := s.store.Entry(ctx, tag)
	if err != nil {
		return nil, err
	}
	list := []api.Credential{}
	if e.Device.IsZero() {
		return list, nil
	}
	rows, err := s.all.Store.Credentials(ctx, e.Device)
	if err != nil {
		return nil, err
	}
	for _, c := range rows {
		list = append(list, api.Credential{ID: c.ID, User: c.User, State: c.State, At: c.StateAt, ToldBy: c.ToldBy,
			Origin: c.Origin, MadeAt: c.MadeAt})
	}
	slices.SortStableFunc(list, func(a, b api.Credential) int { return rank[a.State] - rank[b.State] })
	return list, nil
}

// rank orders credentials by how much they are worth.
var rank = map[string]int{state.Accepted: 0, state.Pending: 1, state.Superseded: 2, state.Refused: 3}

// Reveal gives the credential that an entry's device accepts, another one of it by
// its number, or one of its secret settings, and records who asked. One that was
// not proven yet is given where there is none better, and said to be so.
func (s *Site) Reveal(ctx context.Context, tag, setting string, id int64, who string) (api.Shown, error) {
	e, err := s.store.Entry(ctx, tag)
	if err != nil {
		return api.Shown{}, err
	}
	if setting != "" {
		return s.revealSetting(ctx, e, setting, who)
	}
	if e.Device.IsZero() {
		return api.Shown{}, problem.New(problem.Conflict, "no device is matched with it",
			"match it first: redstart match").About(tag)
	}
	logins, err := s.all.Vault.Logins(ctx, e.Device)
	if err != nil {
		return api.Shown{}, err
	}
	slices.SortStableFunc(logins, func(a, b vault.Login) int { return rank[a.State] - rank[b.State] })
	for _, l := range logins {
		if id != 0 && l.ID != id || id == 0 && l.State != state.Accepted && l.State != state.Pending {
			continue
		}
		return api.Shown{User: l.User, Password: l.Password, State: l.State, ToldBy: l.ToldBy},
			s.store.AddNote(ctx, tag, who, fmt.Sprintf("credential %d shown", l.ID))
	}
	return api.Shown{}, problem.New(problem.Conflict, "no such credential of this device is stored",
		"commission it first, or list them: redstart vault credentials "+tag).About(tag)
}

func (s *Site) revealSetting(ctx context.Context, e store.Entry, setting, who string) (api.Shown, error) {
	secret, ok, err := "", false, error(nil)
	if token := e.Settings[setting]; strings.HasPrefix(token, vault.Prefix) {
		secret, ok, err = s.all.Vault.At(s.store).Secret(ctx, token)
	}
	if err == nil && !ok {
		err = problem.New(problem.Missing, "it has no such secret", "").About(e.Tag)
	}
	if err != nil {
		return api.Shown{}, err
	}
	return api.Shown{Password: secret}, s.store.AddNote(ctx, e.Tag, who, setting+" shown")
}
