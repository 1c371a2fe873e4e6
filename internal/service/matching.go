package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/label"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/store"
)

// Propose proposes matches for what is not matched yet.
func (s *Site) Propose(ctx context.Context) (match.Result, error) {
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return match.Result{}, err
	}
	found, err := s.store.Devices(ctx)
	if err != nil {
		return match.Result{}, err
	}
	seg := match.Segment{Found: s.here(found), Matched: tagsByDevice(entries)}
	for _, e := range entries {
		seg.Entries = append(seg.Entries, e.Entry)
	}
	return match.Propose(seg), nil
}

// Acceptance chooses proposals; nothing given means all, except those by order
// where the counts do not agree.
type Acceptance struct {
	Tags     []string `json:"tags"`
	Reasons  []string `json:"reasons"`  // mac, serial, port, name, address, order
	Profiles []string `json:"profiles"` // take also the part that order proposes for these
}

func (a Acceptance) takes(p match.Proposal) bool {
	switch {
	case len(a.Tags) > 0:
		return slices.Contains(a.Tags, p.Tag)
	case p.Part:
		return slices.Contains(a.Profiles, p.Profile)
	case len(a.Reasons) > 0:
		return slices.Contains(a.Reasons, p.By)
	}
	return len(a.Profiles) == 0 || slices.Contains(a.Profiles, p.Profile)
}

// Accept accepts proposals and gives what was accepted.
func (s *Site) Accept(ctx context.Context, in Acceptance, who string) ([]match.Proposal, error) {
	if err := knownReasons(in.Reasons); err != nil {
		return nil, err
	}
	all, err := s.Propose(ctx)
	if err != nil {
		return nil, err
	}
	accepted := []match.Proposal{}
	for _, p := range all.Proposals {
		if in.takes(p) {
			accepted = append(accepted, p)
		}
	}
	for _, t := range in.Tags {
		if !slices.ContainsFunc(accepted, func(p match.Proposal) bool { return p.Tag == t }) {
			return nil, problem.New(problem.Conflict, "there is no proposal for this entry", "match it by hand: redstart match set TAG MAC").About(t)
		}
	}
	for _, p := range accepted {
		if err := s.store.SetMatch(ctx, p.Tag, p.MAC, p.By, p.Why, who); err != nil {
			return nil, err
		}
	}
	s.publishEntries()
	return accepted, nil
}

// Match says by hand which box an entry is.
func (s *Site) Match(ctx context.Context, tag string, mac address.MAC, by, why, who string) error {
	e, err := s.unset(ctx, tag)
	if err != nil {
		return err
	}
	if other, err := s.store.TagOf(ctx, mac); err != nil {
		return err
	} else if other != "" && other != tag {
		return problem.New(problem.Conflict, "this box is matched with "+other+" already", "undo that match first").About(mac.String())
	}
	f, err := s.found(ctx, mac)
	if err != nil {
		return err
	}
	if f.Profile != "" && f.Profile != e.Profile || f.Profile == "" && len(f.Maybe) > 0 && !slices.Contains(f.Maybe, e.Profile) {
		is := f.Profile
		if is == "" {
			is = strings.Join(f.Maybe, " or a ")
		}
		return problem.New(problem.Conflict, "this box is a "+is+", but the plan says "+e.Profile, "choose another box or mend the plan").About(tag)
	}
	if err := s.store.SetMatch(ctx, tag, mac, by, why, who); err != nil {
		return err
	}
	s.publishEntry(tag)
	s.publishEntries()
	return nil
}

// Undo chooses matches to undo: of entries, or all that were made for reasons.
type Undo struct {
	Tags    []string `json:"tags"`
	Reasons []string `json:"reasons"`
}

// UndoMatches undoes matches and gives the entries' tags. Of entries that are
// named, all are undone or none; for a reason, those whose devices were not set
// yet and whose match is not locked.
func (s *Site) UndoMatches(ctx context.Context, in Undo, who string) ([]string, error) {
	if (len(in.Tags) == 0) == (len(in.Reasons) == 0) {
		return nil, problem.New(problem.Usage, "tags or reasons say what to undo", "give one of them")
	}
	if err := knownReasons(in.Reasons); err != nil {
		return nil, err
	}
	for _, tag := range in.Tags {
		e, err := s.unset(ctx, tag)
		if err != nil {
			return nil, err
		}
		if e.Device.IsZero() {
			return nil, problem.New(problem.Conflict, "no device is matched with it", "").About(tag)
		}
	}
	chosen := slices.Clone(in.Tags)
	if len(in.Reasons) > 0 {
		entries, err := s.store.Entries(ctx)
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			if !e.Device.IsZero() && !e.Locked && e.State == store.Matched && slices.Contains(in.Reasons, e.MatchedBy) {
				chosen = append(chosen, e.Tag)
			}
		}
	}
	undone := []string{}
	for _, tag := range chosen {
		if err := s.store.SetMatch(ctx, tag, address.MAC{}, "", "", who); err != nil {
			return undone, err
		}
		undone = append(undone, tag)
	}
	s.publishEntries()
	return undone, nil
}

func knownReasons(list []string) error {
	for _, r := range list {
		if !slices.Contains(match.Reasons, r) {
			return problem.New(problem.Usage, "there is no such reason", "choose among: "+strings.Join(match.Reasons, ", ")).About(r)
		}
	}
	return nil
}

// Locking is whether a match stays.
type Locking struct {
	Locked bool `json:"locked"`
}

// Lock keeps the match of an entry, or lets it change again.
func (s *Site) Lock(ctx context.Context, tag string, locked bool, who string) error {
	e, err := s.store.Entry(ctx, tag)
	if err != nil {
		return err
	}
	if e.Device.IsZero() {
		return problem.New(problem.Conflict, "no device is matched with it", "match it first").About(tag)
	}
	if err := s.store.SetLocked(ctx, tag, locked, who); err != nil {
		return err
	}
	s.publishEntry(tag)
	return nil
}

// unset gives an entry whose match may still change: nothing was done with its
// box, or what was done failed, and nobody locked it.
func (s *Site) unset(ctx context.Context, tag string) (store.Entry, error) {
	e, err := s.store.Entry(ctx, tag)
	switch {
	case err != nil:
	case e.State != store.Planned && e.State != store.Matched && e.State != store.Attention:
		err = problem.New(problem.Conflict, "its device was set already ("+e.State+")", "the match stays").About(tag)
	case e.Locked:
		err = problem.New(problem.Conflict, "its match is locked", "unlock it first: redstart match unlock "+tag).About(tag)
	}
	return e, err
}

// Scan is a label that was scanned, for an entry if one was chosen before.
type Scan struct {
	Text string `json:"text"`
	Tag  string `json:"tag"`
}

// What a scan came to.
const (
	ScanEntry   = "entry"   // the label names an entry
	ScanMatched = "matched" // the box is the chosen entry from now on
	ScanNoted   = "noted"   // the box is not there; the plan names it from now on
	ScanDevice  = "device"  // the label names a box that was found
	ScanUnknown = "unknown" // nobody knows it
)

// Scanned is what a label said and what came of it.
type Scanned struct {
	Label   label.Label `json:"label"`
	Outcome string      `json:"outcome"`
	Tag     string      `json:"tag"` // of the entry
	Device  *DeviceView `json:"device"`
	Text    string      `json:"text"` // in words
}

// Scanned takes in a label: of an entry to choose it, of a box to say that it is
// the chosen entry.
func (s *Site) Scanned(ctx context.Context, in Scan, who string) (Scanned, error) {
	l := label.Parse(in.Text)
	out := Scanned{Label: l, Outcome: ScanUnknown, Text: "nothing on this label is known here"}
	if l.Empty() {
		return out, problem.New(problem.Usage, "no MAC, serial or tag can be read from this", "scan the code next to MAC or S/N, or type it")
	}
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return out, err
	}
	if i := slices.IndexFunc(entries, func(e store.Entry) bool { return l.Whole != "" && strings.EqualFold(e.Tag, l.Whole) }); i >= 0 {
		out.Outcome, out.Tag, out.Text = ScanEntry, entries[i].Tag, entries[i].Tag+" is chosen; now scan the label of its box"
		return out, nil
	}
	f, err := s.labelled(ctx, l)
	if err != nil {
		return out, err
	}
	if f != nil {
		tag, err := s.store.TagOf(ctx, f.MAC)
		if err != nil {
			return out, err
		}
		if out.Device, err = s.deviceView(ctx, f, tag); err != nil {
			return out, err
		}
		out.Outcome, out.Tag, out.Text = ScanDevice, tag, "this box was found; choose its entry"
		if tag != "" {
			out.Text = "this box is " + tag
		}
	}
	switch {
	case in.Tag == "" || out.Tag == in.Tag:
		return out, nil
	case f != nil:
		if err := s.Match(ctx, in.Tag, f.MAC, match.ByLabel, "its label was scanned", who); err != nil {
			return out, err
		}
		out.Outcome, out.Tag, out.Device.Tag, out.Text = ScanMatched, in.Tag, in.Tag, in.Tag+" is "+f.MAC.String()
		return out, nil
	}
	set := map[string]string{}
	switch {
	case len(l.MACs) > 0:
		set["mac"] = l.MACs[0].String()
	case len(l.Serials) > 0:
		set["serial"] = l.Serials[0]
	default:
		set["serial"] = l.Whole
	}
	edited, err := s.Edit(ctx, Edits{What: "label of " + in.Tag + " scanned", Patches: []plan.Patch{{Tag: in.Tag, Set: set}}}, false, who)
	if err == nil && len(edited.Complaints) > 0 {
		err = problem.New(problem.Usage, edited.Complaints[0].Reason, "").About(in.Tag)
	}
	if err != nil {
		return out, err
	}
	out.Outcome, out.Tag, out.Text = ScanNoted, in.Tag, "this box is not on the segment; the plan names it now, and it is matched as soon as it is found"
	return out, nil
}

// labelled gives the device that a label names; nil when none was found.
func (s *Site) labelled(ctx context.Context, l label.Label) (*device.Found, error) {
	found, err := s.store.Devices(ctx)
	if err != nil {
		return nil, err
	}
	serials := l.Serials
	if l.Whole != "" {
		serials = append(slices.Clone(serials), l.Whole)
	}
	for _, f := range found {
		if slices.Contains(l.MACs, f.MAC) {
			return f, nil
		}
	}
	for _, f := range found {
		for _, known := range f.Values(device.Serial) {
			if slices.ContainsFunc(serials, func(s string) bool { return strings.EqualFold(s, known) }) {
				return f, nil
			}
		}
	}
	return nil, nil
}

// Adoption takes found devices into the plan as new entries.
type Adoption struct {
	MACs []address.MAC `json:"macs"` // none: every device with a profile and no entry
	Tag  string        `json:"tag"`  // of a single one; "" makes one
	Area string        `json:"area"`
}

// Adopt makes entries from found devices, and matches them. The plan gets what
// a device has already, if it was set; a fresh one gets the next free address.
func (s *Site) Adopt(ctx context.Context, in Adoption, preview bool, who string) (Edited, error) {
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return edited(), err
	}
	found, err := s.store.Devices(ctx)
	if err != nil {
		return edited(), err
	}
	tags := tagsByDevice(entries)
	used := map[string]bool{}
	for _, e := range entries {
		used[e.Tag] = true
	}
	chosen := map[address.MAC]bool{}
	for _, mac := range in.MACs {
		chosen[mac] = true
	}
	here := s.here(found)
	var patches []plan.Patch
	becomes := map[string]address.MAC{}
	for _, f := range found {
		switch {
		case len(in.MACs) == 0 && (f.Profile == "" || tags[f.MAC] != "" || !slices.Contains(here, f)):
			continue
		case len(in.MACs) > 0 && !chosen[f.MAC]:
			continue
		case f.Profile == "":
			return edited(), problem.New(problem.Conflict, "no profile fits this box", "say which: redstart find choose MAC PROFILE").About(f.MAC.String())
		case tags[f.MAC] != "":
			return edited(), problem.New(problem.Conflict, "this box is "+tags[f.MAC]+" already", "").About(f.MAC.String())
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
		return edited(), problem.New(problem.Missing, "no such box was found", "find first: redstart find").About(mac.String())
	}
	if len(patches) == 0 {
		return edited(), problem.New(problem.Conflict, "every found device that a profile fits is in the plan already", "")
	}
	out, err := s.Edit(ctx, Edits{What: fmt.Sprintf("%d found devices adopted", len(patches)), Patches: patches}, preview, who)
	if err != nil || preview || len(out.Complaints) > 0 {
		return out, err
	}
	for tag, mac := range becomes {
		if err := s.store.SetMatch(ctx, tag, mac, match.ByMAC, "it was adopted from this box", who); err != nil {
			return out, err
		}
	}
	s.publishEntries()
	return out, nil
}

// asFound is what the plan says of a device that is taken over as it is.
func (s *Site) asFound(f *device.Found, tag, area string) map[string]string {
	set := map[string]string{"tag": tag, "profile": f.Profile, "mac": f.MAC.String(), "address": plan.Next, "name": plan.Auto}
	if serial := f.Value(device.Serial); serial != "" {
		set["serial"] = serial
	}
	if area != "" {
		set["area"] = area
	}
	if a := first(f.Addresses()); a.IsValid() && f.State == device.Set {
		set["address"] = a.String()
	}
	if name := f.Value(device.Name); name != "" && f.State == device.Set && s.profiles[f.Profile].Name.Check(name) == nil {
		set["name"] = name
	}
	return set
}

// freeTag makes a tag for an adopted device: its own name if it was given one.
func (s *Site) freeTag(f *device.Found, area string, used map[string]bool) string {
	name := strings.ToUpper(f.Value(device.Name))
	if f.State == device.Set && name != "" && !used[name] && !strings.ContainsAny(name, "\"\\\x00/?#%, ;") && len(name) <= 64 {
		return name
	}
	if area == "" {
		area = "FOUND"
	}
	short := strings.ToUpper(strings.ReplaceAll(s.profiles[f.Profile].Kind, " ", "-"))
	for n := 1; ; n++ {
		if tag := fmt.Sprintf("%s-%s-%02d", area, short, n); !used[tag] {
			return tag
		}
	}
}
