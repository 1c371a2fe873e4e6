package check

import (
	"context"
	"crypto/rand"
	"errors"

	"redstart/internal/core/profile"
	"redstart/internal/core/result"
	"redstart/internal/driver"
)

// Another is the name of the check that not just any password opens the device.
const Another = "another password"

// wrongPassword looks whether the device takes a password that is none of its own: one that takes any opens
// with the planned one too. It is tried only where a wrong try costs nothing, as the profile says.
var wrongPassword = &Check{
	Wants: func(s Subject) []Want {
		if s.Given.User == "" || !s.Profile.SetsPassword() || s.Profile.Accounts.Tries > 0 ||
			len(s.Profile.Acts[profile.SignIn]) == 0 {
			return nil
		}
		return one(Another, "refused")
	},
	Look: func(ctx context.Context, v *Visit, _ Want) (result.Look, error) {
		return v.once(Another, func() (result.Look, error) {
			r, err := v.read(ctx) // before its conversation ends
			if err != nil {
				return result.Look{}, err
			}
			if !r.login.Good {
				return result.Unseen("no stored credential was accepted"), nil
			}
			none, err := v.Profile.Password.Generate(rand.Reader, 0)
			if err != nil {
				return result.Unseen("no password can be made by its rules"), nil
			}
			switch err := v.fresh().SignIn(ctx, profile.Login{User: r.user, Password: none}); {
			case err == nil:
				return result.Saw("accepted", false), nil
			case errors.Is(err, driver.ErrLogin):
				return result.Saw("refused", true), nil
			default:
				return result.Unseen(plain(err).Error()), ctx.Err()
			}
		})
	},
}
