package check

import (
	"context"

	"redstart/internal/core/result"
)

// MAC is the name of the check of the matched box against the plan's MAC.
const MAC = "MAC"

// matched looks whether the box is the one that the plan names by its MAC.
var matched = &Check{
	Anywhere: true,
	Wants: func(s Subject) []Want {
		if s.PlannedMAC.IsZero() {
			return nil
		}
		return one(MAC, s.PlannedMAC.String())
	},
	Look: func(_ context.Context, v *Visit, _ Want) (result.Look, error) {
		return result.Saw(v.MAC.String(), v.MAC == v.PlannedMAC), nil
	},
}
