package check

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"redstart/internal/core/profile"
	"redstart/internal/core/result"
	"redstart/internal/driver"
	"redstart/internal/vault"
)

// conditions asks what must be so of the device besides what it was given.
var conditions = &Check{
	Wants: func(s Subject) (list []Want) {
		vars := s.Given.Variables()
		for _, c := range s.Profile.Conditions {
			if c.When == "" || s.Given.Settings[c.When]+s.Given.Secrets[c.When] != "" {
				list = append(list, Want{Name: c.Label, Expected: c.Expected(vars), Key: c.Fact()})
			}
		}
		return list
	},
	Look: readBack,
}

// secondLogin tries, in a conversation of its own, the login that may only look.
func (v *Visit) secondLogin(ctx context.Context, key string) (result.Look, error) {
	if _, err := v.read(ctx); err != nil { // before its conversation ends
		return result.Look{}, err
	}
	password, ok, err := v.Secret(ctx, v.Given.Secrets[key])
	if err != nil || !ok {
		return result.Unseen("it cannot be opened here"), ctx.Err()
	}
	login := profile.Login{User: v.Profile.Second.User, Password: password}
	if err := v.tries.May(ctx, login); err != nil {
		return result.Unseen(plain(err).Error()), nil
	}
	switch err := v.fresh().SignIn(ctx, login); {
	case err == nil:
		return result.Look{Taken: true, Good: true, Said: "works", By: "signed in as " + login.User}, nil
	case errors.Is(err, driver.ErrLogin):
		return result.Saw("refused", false), v.tries.Refused(ctx, vault.Login{Login: login})
	default:
		return result.Unseen(cmp.Or(plain(err).Error(), "no answer")), ctx.Err()
	}
}

// second reports whether a secret setting is the password of the second login.
func (v *Visit) second(key string) bool {
	s := v.Profile.Second
	return s != nil && s.Password == key && slices.Contains(v.Profile.Sent(), key)
}
