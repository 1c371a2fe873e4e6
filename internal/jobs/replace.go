package jobs

import (
	"context"
	"fmt"
	"strings"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/match"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/planning"
	"redstart/internal/store"
)

// Replace takes the box of an entry out and puts a new one in its place; the entry
// keeps its plan and its history. The plan names the new box where it named the old.
func (s *Site) Replace(ctx context.Context, tag string, in api.Replacement, who string) (api.Replaced, error) {
	defer s.all.Plans.Hold()()
	out := api.Replaced{Tag: tag, New: in.MAC}
	e, err := s.store.Entry(ctx, tag)
	if err != nil {
		return out, err
	}
	out.Old = e.Device
	switch {
	case e.Device.IsZero():
		return out, problem.New(problem.Conflict, "it has no box to be replaced",
			"match it: redstart match set "+tag+" MAC").About(tag)
	case e.State == state.Configuring:
		return out, problem.New(problem.Conflict, "a run is setting its device",
			"wait until it is done, or give the run up").About(tag)
	}
	if out.New.IsZero() {
		if out.New, err = s.spare(ctx, e); err != nil {
			return out, err
		}
	}
	if other, err := s.store.TagOf(ctx, out.New); err != nil {
		return out, err
	} else if other != "" {
		return out, problem.New(problem.Conflict, "this box is matched with "+other,
			"choose another, or undo that match first").About(out.New.String())
	}
	if err := s.fits(ctx, e, out.New); err != nil {
		return out, err
	}
	c := store.Changes{Matches: []store.Match{{Tag: tag, Was: e.Device, MAC: out.New, By: match.ByHand,
		Why: fmt.Sprintf("it replaces %s, as %s says", e.Device, who)}}}
	before, after := e.Entry, e.Entry
	if !after.MAC.IsZero() {
		after.MAC = out.New
	}
	if after.Serial != "" {
		f, err := s.plan.Found(ctx, out.New)
		if err != nil {
			return out, err
		}
		after.Serial = f.Value(fact.Serial)
	}
	if after.MAC != before.MAC || after.Serial != before.Serial {
		c.Edits = []store.Edit{{Before: &before, After: &after}}
		_, err = s.plan.Apply(ctx, who, fmt.Sprintf("%s replaced: %s instead of %s", tag, out.New, out.Old), c)
	} else {
		err = s.store.SetMatches(ctx, c.Matches, who)
	}
	if err != nil {
		return out, err
	}
	s.plan.EntryChanged(tag)
	s.plan.Changed()
	return out, nil
}

// spare gives the one box that can take the place of an entry's.
func (s *Site) spare(ctx context.Context, e store.Entry) (address.MAC, error) {
	all, err := s.store.Entries(ctx)
	if err != nil {
		return address.MAC{}, err
	}
	found, err := s.store.Devices(ctx)
	if err != nil {
		return address.MAC{}, err
	}
	tags := planning.TagsByDevice(all)
	var spare []string
	var mac address.MAC
	for _, f := range s.plan.Here(found) {
		if tags[f.MAC] == "" && f.Profile == e.Profile && f.State != device.Set {
			spare, mac = append(spare, f.MAC.String()), f.MAC
		}
	}
	switch len(spare) {
	case 1:
		return mac, nil
	case 0:
		return mac, problem.New(problem.Conflict, "no fresh box of its model is on the segment that no entry has",
			"plug the new box in and find it: redstart find").About(e.Tag)
	}
	return mac, problem.New(problem.Conflict, "several fresh boxes of its model are there: "+
		strings.Join(spare[:min(5, len(spare))], ", "), "say which: redstart match replace "+e.Tag+" MAC").About(e.Tag)
}
