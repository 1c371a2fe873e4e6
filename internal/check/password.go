package check

import (
	"context"

	"redstart/internal/core/procedure"
	"redstart/internal/core/result"
)

// Password is the name of the check of how the password was made.
const Password = "password"

// password looks whether the credential that is accepted is the one that the policy wants.
var password = &Check{
	Wants: func(s Subject) []Want {
		if s.Given.User == "" || s.Given.Login == "" {
			return nil
		}
		return one(Password, procedure.LoginWords(s.Given.Login))
	},
	Look: func(ctx context.Context, v *Visit, _ Want) (result.Look, error) {
		r, err := v.read(ctx)
		switch {
		case err != nil:
			return result.Look{}, err
		case !r.login.Taken || !r.login.Good:
			return result.Unseen("no stored credential was accepted"), nil
		case r.user != v.Given.User:
			return result.Saw("that of the user "+r.user, false), nil
		}
		l := result.Saw(procedure.LoginWords(r.stamp), procedure.LoginFits(r.stamp, v.Given.Login))
		if !l.Good && l.Said == procedure.LoginWords(v.Given.Login) {
			l.Said = "an earlier one"
		}
		l.By = r.login.By
		return l, nil
	},
}
