package check

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
	"redstart/internal/core/result"
	"redstart/internal/wire/bacnet"
)

// Part is an entry that hangs behind the device, and what should be so of it.
type Part struct {
	Tag, Name, Serial, Model string
	plan.PartRow
}

// named is how checks of the device call a part of it.
const named = "behind it: "

// parts asks whether what hangs behind the device is there and answers through it.
var parts = &Check{
	Wants: func(s Subject) (list []Want) {
		for _, p := range s.Parts {
			list = append(list, Want{Name: named + p.Tag, Expected: "answers", Key: p.Tag})
		}
		return list
	},
	Look: func(ctx context.Context, v *Visit, w Want) (result.Look, error) {
		list, err := v.Of(ctx, v.Parts[slices.IndexFunc(v.Parts, func(p Part) bool { return p.Tag == w.Key })])
		if err != nil {
			return result.Look{}, err
		}
		for _, c := range append(result.Failing(list), list...) {
			switch {
			case c.Verdict == result.Failed:
				return result.Saw(c.Name+": "+c.Observed, false), nil
			case c.Verdict == result.NotLookedAt:
				return result.Unseen(c.Name + ": " + c.Observed), nil
			}
		}
		return result.Saw("answers", true), nil
	},
}

// Of looks at what hangs behind the device, as far as that tells of it.
func (v *Visit) Of(ctx context.Context, p Part) ([]result.Check, error) {
	var list []result.Check
	add := func(name, expected string, l result.Look) {
		list = append(list, result.Of(name, expected, l, time.Now().UTC()))
	}
	here, err := v.here(ctx)
	if err != nil {
		return nil, err
	}
	if p.Name == "" || !here {
		why := "what it is called there is not known yet"
		if !here {
			why = "what it hangs behind is not at its planned address"
		}
		add("answers", "yes", result.Unseen(why))
		return list, nil
	}
	if !v.Profile.TellsParts() {
		l, err := v.station(ctx, p.Name)
		if err == nil {
			add("answers", "yes", l)
		}
		return list, err
	}
	r, err := v.read(ctx)
	if err != nil {
		return nil, err
	}
	told, l := v.partTold(r, p.Name)
	add("answers", "yes", l)
	if told.Name == "" {
		return list, nil
	}
	by := func(l result.Look) result.Look { l.By = r.read.By; return l }
	for _, x := range []struct{ key, planned string }{{fact.Model, p.Model}, {fact.Serial, p.Serial}} {
		if seen := told.Facts[x.key]; seen != "" && x.planned != "" {
			add(x.key, x.planned, by(result.Saw(seen, strings.EqualFold(seen, x.planned))))
		}
	}
	if p.Setting != nil && p.Row != nil {
		differ := p.Setting.RowsDiffer(profile.RowsText([]profile.Row{p.Row}), onlyRow(p, r.facts["setting."+p.Setting.Key]))
		add("as planned", "yes", by(result.Saw(cmp.Or(differ, "yes"), differ == "")))
	}
	return list, nil
}

// longestSilence is how long ago a part may have been heard that is there: what sends by radio sends each day.
const longestSilence = 24 * time.Hour

// partTold finds what the device told of a part, and judges whether it answers.
func (v *Visit) partTold(r *reading, name string) (profile.PartRow, result.Look) {
	switch {
	case !r.read.Taken:
		return profile.PartRow{}, result.Unseen(r.read.Said)
	case !r.read.Good:
		return profile.PartRow{}, result.Saw(r.read.Said, false)
	}
	rows, err := v.Profile.Parts.Rows(r.facts[fact.Parts])
	if err != nil {
		return profile.PartRow{}, result.Saw("what it tells of what hangs behind it "+err.Error(), false)
	}
	for _, row := range rows {
		if strings.EqualFold(row.Name, name) {
			said := cmp.Or(row.State, "told of")
			if heard := row.Facts[fact.Heard]; heard != "" {
				said += "; last heard " + heard
				if at, err := time.Parse(time.RFC3339, heard); err == nil && time.Since(at) > longestSilence {
					return row, result.Look{Taken: true, Said: said, By: r.read.By} // it answered once
				}
			}
			return row, result.Look{Taken: true, Good: row.Answers, Said: said, By: r.read.By}
		}
	}
	return profile.PartRow{}, result.Saw(fmt.Sprintf("it does not tell of %s", name), false)
}

// onlyRow keeps of a table that was told the row of one part.
func onlyRow(p Part, told string) string {
	rows, err := profile.ParseRows(told)
	if err != nil {
		return told
	}
	key := p.Setting.Columns[0].Key
	return profile.RowsText(slices.DeleteFunc(rows, func(r profile.Row) bool { return r[key] != p.Row[key] }))
}

// station asks a BACnet station behind a router, written as network/address, to show itself
// (ASHRAE 135, 16.10).
func (v *Visit) station(ctx context.Context, name string) (result.Look, error) {
	network, _, _ := strings.Cut(name, "/")
	number, err := strconv.ParseUint(network, 10, 16)
	if err != nil || len(v.Profile.Networks) == 0 {
		return result.Unseen("the profile of what it hangs behind does not say how that tells of it"), nil
	}
	heard, err := v.whoIs(ctx, bacnet.Station{Network: uint16(number)})
	switch {
	case err != nil:
		return result.Unseen(plain(err).Error()), ctx.Err()
	case heard[name]:
		return result.Saw("answers Who-Is through it", true), nil
	}
	return result.Saw("it answers no Who-Is through it", false), nil
}
