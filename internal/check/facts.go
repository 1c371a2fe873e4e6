package check

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"redstart/internal/core/result"
)

// facts reads name and address back.
var facts = &Check{
	Wants: func(s Subject) (list []Want) {
		vars := s.Given.Variables()
		for _, key := range []string{"name", "address", "mask", "gateway"} {
			list = append(list, Want{Name: key, Expected: cmp.Or(vars[key], nothing), Key: key})
		}
		return list
	},
	Look: readBack,
}

// settings reads each setting back that the profile declares and sends.
var settings = &Check{
	Wants: func(s Subject) (list []Want) {
		for _, key := range slices.Sorted(maps.Keys(s.Given.Settings)) {
			list = append(list, Want{Name: key, Expected: cmp.Or(s.Given.Settings[key], nothing), Key: "setting." + key})
		}
		return list
	},
	Look: readBack,
}

// nothing is shown for an empty value.
const nothing = "nothing"

// readBack judges what was read of one thing.
func readBack(ctx context.Context, v *Visit, w Want) (result.Look, error) {
	if !slices.Contains(v.Profile.ReadsBack(), w.Key) {
		return result.Unseen("its profile does not say how to read it back"), nil
	}
	r, err := v.read(ctx)
	if err != nil {
		return result.Look{}, err
	}
	seen, said := r.facts[w.Key]
	switch {
	case !r.read.Taken:
		return result.Unseen(r.read.Said), nil
	case !r.read.Good:
		return result.Saw(r.read.Said, false), nil
	case !said || seen == "" && w.Expected != nothing:
		return result.Saw("not said", false), nil
	}
	l := result.Saw(cmp.Or(seen, nothing), cmp.Or(seen, nothing) == w.Expected)
	if l.Good {
		l.By = r.read.By
	}
	return l, nil
}
