package check

import (
	"context"
	"fmt"
	"time"

	"redstart/internal/core/fact"
	"redstart/internal/core/result"
	"redstart/internal/core/value"
)

// Clock is the name of the check of the clock.
const Clock = "clock"

const (
	// clockMay is how far a clock may be from ours.
	clockMay = 2 * time.Second
	// clockSlow is how long a device may take to tell it: by so much nobody knows when.
	clockSlow = 4 * time.Second
)

// clock compares the device's clock with ours, where a run sets it.
var clock = &Check{
	Wants: func(s Subject) []Want {
		if !s.Profile.SetsClock() {
			return nil
		}
		return one(Clock, "within 2 s of ours")
	},
	Look: func(ctx context.Context, v *Visit, _ Want) (result.Look, error) {
		r, err := v.read(ctx)
		switch {
		case err != nil:
			return result.Look{}, err
		case !r.read.Taken:
			return result.Unseen(r.read.Said), nil
		case !r.read.Good:
			return result.Saw(r.read.Said, false), nil
		}
		zone, err := time.LoadLocation(v.Given.SiteWide[fact.Zone])
		if err != nil {
			return result.Unseen("the planned time zone is unknown here"), nil
		}
		at, ok := value.Clock(r.facts[fact.Clock], time.UTC)
		if !ok {
			at, ok = value.Clock(r.facts[fact.ClockLocal], zone)
		}
		if !ok {
			return result.Saw("not said", false), nil
		}
		if took := r.until.Sub(r.from); took > clockSlow {
			return result.Unseen(fmt.Sprintf("it takes %s to tell its clock, too long to compare it",
				took.Round(time.Second))), nil
		}
		l := clockLook(at, r.from, r.until)
		if l.Good {
			l.By = r.read.By
		}
		return l, nil
	},
}

// clockLook judges a clock that was read between two moments of ours. Many tell whole
// seconds only.
func clockLook(told, from, until time.Time) result.Look {
	behind, ahead := from.Sub(told), told.Sub(until)
	switch {
	case behind > clockMay+time.Second:
		return result.Saw(fmt.Sprintf("%s, %s behind", told.UTC().Format(time.RFC3339), roughly(behind)), false)
	case ahead > clockMay:
		return result.Saw(fmt.Sprintf("%s, %s ahead", told.UTC().Format(time.RFC3339), roughly(ahead)), false)
	}
	return result.Saw(told.UTC().Format(time.RFC3339), true)
}

// roughly tells a duration in its largest unit: what matters of a wrong clock is its size.
func roughly(d time.Duration) string {
	switch {
	case d > 2*365*24*time.Hour:
		return fmt.Sprintf("%d years", d/(365*24*time.Hour))
	case d > 48*time.Hour:
		return fmt.Sprintf("%d days", d/(24*time.Hour))
	}
	return d.Round(time.Second).String()
}
