package check

import (
	"context"
	"maps"
	"slices"

	"redstart/internal/core/result"
)

// secrets names the secret settings, which no device tells again.
var secrets = &Check{
	Wants: func(s Subject) (list []Want) {
		for _, key := range slices.Sorted(maps.Keys(s.Given.Secrets)) {
			if s.Given.Secrets[key] != "" {
				list = append(list, Want{Name: key, Expected: "as planned", Key: key})
			}
		}
		return list
	},
	Anywhere: true,
	Look: func(context.Context, *Visit, Want) (result.Look, error) {
		return result.Unseen("it is a secret that the device never tells again"), nil
	},
}
