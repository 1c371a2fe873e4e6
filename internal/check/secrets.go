package check

import (
	"context"
	"maps"
	"slices"

	"redstart/internal/core/result"
)

// secrets names the secret settings, which no device tells again. Some tell whether what
// they were given works.
var secrets = &Check{
	Wants: func(s Subject) (list []Want) {
		for _, key := range slices.Sorted(maps.Keys(s.Given.Secrets)) {
			if s.Given.Secrets[key] != "" {
				expected := "as planned"
				if slices.Contains(s.Profile.ReadsBack(), "setting."+key) ||
					s.Profile.Second != nil && s.Profile.Second.Password == key {
					expected = "works"
				}
				list = append(list, Want{Name: key, Expected: expected, Key: key})
			}
		}
		return list
	},
	Anywhere: true,
	Look: func(ctx context.Context, v *Visit, w Want) (result.Look, error) {
		if w.Expected != "works" {
			return result.Untold("it is a secret that the device never tells again"), nil
		}
		if here, err := v.here(ctx); err != nil || !here {
			return result.Unseen("it is not at its planned address"), err
		}
		if v.second(w.Key) {
			return v.once("second login", func() (result.Look, error) { return v.secondLogin(ctx, w.Key) })
		}
		r, err := v.read(ctx)
		if err != nil {
			return result.Look{}, err
		}
		switch told := r.facts["setting."+w.Key]; {
		case !r.read.Good:
			return result.Unseen(r.read.Said), nil
		case told == "yes":
			return result.Look{Taken: true, Good: true, Said: "works", By: r.read.By}, nil
		case told == "no":
			return result.Saw("the device says that it does not work", false), nil
		}
		return result.Untold("the device does not say whether it works"), nil
	},
}
