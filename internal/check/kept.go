package check

import (
	"context"

	"redstart/internal/core/result"
)

// Kept is the name of the check that the settings survive a power cut.
const Kept = "kept over a restart"

// kept judges whether the settings are known to survive a power cut: they were read after
// a restart that was seen after the last write.
var kept = &Check{
	Wants:    func(Subject) []Want { return one(Kept, "read again after it") },
	Anywhere: true,
	Look: func(ctx context.Context, v *Visit, _ Want) (result.Look, error) {
		here, err := v.here(ctx)
		if err != nil {
			return result.Look{}, err
		}
		r := &reading{}
		if here {
			if r, err = v.read(ctx); err != nil {
				return result.Look{}, err
			}
		}
		switch {
		case v.restarted.Taken && !v.restarted.Good:
			return v.restarted, nil
		case v.changedAt.IsZero() && !v.restarted.Good:
			// Somebody else set it. Only a restart of this very look comes after all that was written.
			return result.Unseen("it is not known when it was last written to"), nil
		case v.byHandOnly:
			return result.Unseen("nothing here restarts it: switch it off and on, and verify it without asking for a restart"), nil
		case v.restartedAt.IsZero():
			return result.Unseen("no restart was seen after the last change"), nil
		case !r.read.Taken || !r.read.Good:
			return result.Unseen("it restarted after the last change, but was not read again"), nil
		}
		l := result.Saw("read again after it", true)
		l.By = v.evidence
		return l, nil
	},
}
