package check

import (
	"context"

	"redstart/internal/core/fact"
	"redstart/internal/core/profile"
	"redstart/internal/core/result"
	"redstart/internal/core/value"
)

// firmware compares the version that the device has with the one that is asked for at least.
var firmware = &Check{
	Wants: func(s Subject) []Want {
		asked := s.Given.Settings[profile.FirmwareAsked]
		if asked == "" {
			return nil
		}
		return one("firmware", asked+" or newer")
	},
	Look: func(ctx context.Context, v *Visit, _ Want) (result.Look, error) {
		r, err := v.read(ctx)
		if err != nil {
			return result.Look{}, err
		}
		has, asked := r.facts[fact.Firmware], v.Given.Settings[profile.FirmwareAsked]
		if has == "" {
			return result.Untold("it does not tell which firmware it has"), nil
		}
		l := result.Saw(has, value.CompareVersions(has, asked) >= 0)
		l.By = r.read.By
		return l, nil
	},
}
