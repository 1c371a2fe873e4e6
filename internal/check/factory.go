package check

import (
	"context"
	"errors"

	"redstart/internal/core/profile"
	"redstart/internal/core/result"
	"redstart/internal/driver"
	"redstart/internal/vault"
)

// Factory is the name of the check that the factory login is dead.
const Factory = "factory login"

// factoryLogin tries, in a conversation of its own, what opens a fresh box: it must be
// refused.
var factoryLogin = &Check{
	Wants: func(s Subject) []Want {
		if s.Given.User == "" {
			return nil
		}
		return one(Factory, "refused")
	},
	Look: func(ctx context.Context, v *Visit, _ Want) (result.Look, error) {
		return v.once(Factory, func() (result.Look, error) {
			if _, err := v.read(ctx); err != nil { // before its conversation ends
				return result.Look{}, err
			}
			return v.factoryLogin(ctx)
		})
	},
}

func (v *Visit) factoryLogin(ctx context.Context) (result.Look, error) {
	client := v.fresh()
	var err error
	switch f := v.Profile.FactoryLogin(v.Serial); {
	case f != nil && v.login != nil && v.login.Login == *f: // somebody stored it: it opens the device all the same
		return result.Saw("accepted", false), nil
	case f != nil && len(v.Profile.Acts[profile.SignIn]) > 0:
		if err := v.tries.May(ctx, *f); err != nil {
			return result.Unseen(plain(err).Error()), nil
		}
		err = client.SignIn(ctx, *f)
		if errors.Is(err, driver.ErrLogin) {
			if err := v.tries.Refused(ctx, vault.Login{Login: *f}); err != nil {
				return result.Look{}, err
			}
		}
	case f == nil && v.Profile.LoginFromSerial():
		return result.Unseen("its factory login is made from its serial, which is not known"), nil
	case len(v.Profile.Acts[profile.FactoryEntry]) > 0:
		_, err = client.Do(ctx, profile.FactoryEntry, nil)
	default:
		return result.Unseen("its profile does not say how to try it"), nil
	}
	switch {
	case err == nil:
		return result.Saw("accepted", false), nil
	case errors.Is(err, driver.ErrLogin):
		return result.Saw("refused", true), nil
	}
	return result.Unseen(plain(err).Error()), ctx.Err()
}
