package check

import (
	"context"

	"redstart/internal/core/result"
)

// NewLogin is the name of the check of the login that is stored.
const NewLogin = "new login"

// newLogin looks whether the device accepts a stored credential, and tells which.
var newLogin = &Check{
	Wants: func(s Subject) []Want {
		if s.Given.User == "" {
			return nil
		}
		return one(NewLogin, "accepted")
	},
	Look: func(ctx context.Context, v *Visit, _ Want) (result.Look, error) {
		r, err := v.read(ctx)
		if err != nil {
			return result.Look{}, err
		}
		return r.login, nil
	},
}
