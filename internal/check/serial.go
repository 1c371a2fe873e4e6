package check

import (
	"cmp"
	"context"
	"strings"

	"redstart/internal/core/fact"
	"redstart/internal/core/result"
)

// Serial is the name of the check of the serial.
const Serial = "serial"

// serial looks whether the device tells the serial that is planned, or that it told when
// it was set.
var serial = &Check{
	Wants: func(s Subject) []Want {
		if s.Serial == "" {
			return nil
		}
		return one(Serial, s.Serial)
	},
	Anywhere: true,
	Look: func(ctx context.Context, v *Visit, w Want) (result.Look, error) {
		said := "it is not at its planned address"
		if here, err := v.here(ctx); err != nil {
			return result.Look{}, err
		} else if here {
			r, err := v.read(ctx)
			if err != nil {
				return result.Look{}, err
			}
			if now := r.facts[fact.Serial]; now != "" {
				return result.Saw(now, strings.EqualFold(now, w.Expected)), nil
			}
			said = r.read.Said
		}
		if told := v.State.Serial; told != "" && !strings.EqualFold(told, w.Expected) {
			return result.Saw(told+", told earlier", false), nil
		}
		return result.Unseen(cmp.Or(said, "it does not tell its serial")), nil
	},
}
