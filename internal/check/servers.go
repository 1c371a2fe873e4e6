package check

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"redstart/internal/core/result"
)

// servers looks whether the device's servers show what they showed when it was set: its
// certificate, its host key.
var servers = &Check{
	Wants: func(s Subject) (list []Want) {
		for _, kind := range slices.Sorted(maps.Keys(s.Servers)) {
			list = append(list, Want{Name: kind, Expected: short(s.Servers[kind]), Key: kind})
		}
		return list
	},
	Look: func(ctx context.Context, v *Visit, w Want) (result.Look, error) {
		r, err := v.read(ctx)
		if err != nil {
			return result.Look{}, err
		}
		seen, shown := r.servers[w.Key]
		if !shown && !r.read.Taken {
			return result.Unseen(r.read.Said), nil
		}
		return result.Saw(short(seen), seen == v.Servers[w.Key]), nil
	},
}

// short is a fingerprint as it is shown.
func short(fingerprint string) string {
	if len(fingerprint) > 16 {
		return fingerprint[:16] + "…"
	}
	return cmp.Or(fingerprint, "none")
}
