package jobs

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/planning"
	"redstart/internal/store"
)

// Adopt makes entries from found devices, and matches them. The plan gets what
// a device has already, if it was set; a fresh one gets the next free address.
func (s *Site) Adopt(ctx context.Context, in api.Adoption, preview bool, who string) (api.Edited, error) {
	if in.All == (len(in.MACs) > 0) {
		return planning.Edited(), problem.New(problem.Usage, "MACs or all say what to adopt", "give one of them")
	}
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return planning.Edited(), err
	}
	found, err := s.store.Devices(ctx)
	if err != nil {
		return planning.Edited(), err
	}
	tags := planning.TagsByDevice(entries)
	used := map[string]bool{}
	for _, e := range entries {
		used[e.Tag] = true
	}
	chosen := map[address.MAC]bool{}
	for _, mac := range in.MACs {
		chosen[mac] = true
	}
	here := s.plan.Here(found)
	var patches []plan.Patch
	becomes := map[string]address.MAC{}
	for _, f := range found {
		switch {
		case len(in.MACs) == 0 && (f.Profile == "" || tags[f.MAC] != "" || !slices.Contains(here, f)):
			continue
		case len(in.MACs) > 0 && !chosen[f.MAC]:
			continue
		case f.Profile == "":
			return planning.Edited(), problem.New(problem.Conflict, "no profile fits this box",
				"say which: redstart find choose MAC PROFILE").About(f.MAC.String())
		case tags[f.MAC] != "":
			return planning.Edited(), problem.New(problem.Conflict, "this box is "+tags[f.MAC]+" already",
				"").About(f.MAC.String())
		}
		delete(chosen, f.MAC)
		tag := in.Tag
		if tag == "" || len(in.MACs) != 1 {
			tag = s.freeTag(f, in.Area, used)
		}
		used[tag] = true
		becomes[tag] = f.MAC
		patches = append(patches, plan.Patch{Set: s.asFound(f, tag, in.Area)})
	}
	for mac := range chosen {
		return planning.Edited(), problem.New(problem.Missing, "no such box was found",
			"find first: redstart find").About(mac.String())
	}
	if len(patches) == 0 {
		return planning.Edited(), problem.New(problem.Conflict, "every found device that a profile fits is in the plan already",
			"")
	}
	changes := api.Edits{What: fmt.Sprintf("%d found devices adopted", len(patches)), Patches: patches}
	var matches []store.Match
	for tag, mac := range becomes {
		matches = append(matches, store.Match{Tag: tag, MAC: mac, By: match.ByMAC,
			Why: "it was adopted from this box"})
	}
	return s.plan.EditAndMatch(ctx, changes, matches, preview, who)
}

// asFound is what the plan says of a device that is taken over as it is.
func (s *Site) asFound(f *device.Found, tag, area string) map[string]string {
	set := map[string]string{"tag": tag, "profile": f.Profile, "mac": f.MAC.String(), "address": plan.Next,
		"name": plan.Auto}
	if serial := f.Value(fact.Serial); serial != "" {
		set["serial"] = serial
	}
	if area != "" {
		set["area"] = area
	}
	if a := f.AddressNow(); a.IsValid() && f.State == device.Set {
		set["address"] = a.String()
	}
	if name := f.Value(fact.Name); name != "" && f.State == device.Set &&
		s.all.Plans.Profiles()[f.Profile].Name.Check(name) == nil {
		set["name"] = name
	}
	return set
}

// freeTag makes a tag for an adopted device: its own name if it was given one.
func (s *Site) freeTag(f *device.Found, area string, used map[string]bool) string {
	name := strings.ToUpper(f.Value(fact.Name))
	if f.State == device.Set && name != "" && !used[name] && !strings.ContainsAny(name, "\"\\\x00/?#%, ;") &&
		len(name) <= 64 {
		return name
	}
	if area == "" {
		area = "FOUND"
	}
	short := strings.ToUpper(strings.ReplaceAll(s.all.Plans.Profiles()[f.Profile].Kind, " ", "-"))
	for n := 1; ; n++ {
		if tag := fmt.Sprintf("%s-%s-%02d", area, short, n); !used[tag] {
			return tag
		}
	}
}
