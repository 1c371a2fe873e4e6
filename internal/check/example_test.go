package check

import (
	"context"
	"slices"
	"testing"

	"redstart/internal/core/result"
)

// example is a whole check: the device names its maker as its profile does.
// docs/adding.md walks through it.
var example = &Check{
	Wants: func(s Subject) []Want {
		if s.Profile.Maker == "" {
			return nil // it does not apply
		}
		return one("maker", s.Profile.Maker)
	},
	Look: func(ctx context.Context, v *Visit, w Want) (result.Look, error) {
		r, err := v.read(ctx) // what it tells with the stored login, asked once for all checks
		if err != nil {
			return result.Look{}, err
		}
		told, ok := r.facts["maker"]
		if !ok {
			return result.Unseen("it does not tell its maker"), nil // never counted as passed
		}
		return result.Saw(told, told == w.Expected), nil
	},
}

func TestTheExampleJoinsByOneLine(t *testing.T) {
	was := All
	defer func() { All = was }()
	All = append(slices.Clone(All), example)
	for told, want := range map[string]result.Verdict{"": result.NotLookedAt, "Ovalis": result.Passed,
		"Heron": result.Failed} {
		v := good(t)
		if told != "" {
			v.reading.facts["maker"] = told
		}
		list := run(t, v)
		last := list[len(list)-1]
		if last.Name != "maker" || last.Verdict != want || result.Verified(list) != (want == result.Passed) {
			t.Errorf("%q: %+v", told, last)
		}
	}
}
