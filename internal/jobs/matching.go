package jobs

import (
	"context"
	"slices"
	"strings"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/label"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/core/value"
	"redstart/internal/store"
)

// Propose proposes matches for what is not matched yet.
func (s *Site) Propose(ctx context.Context) (match.Result, error) {
	now, err := s.plan.Snapshot(ctx)
	if err != nil {
		return match.Result{}, err
	}
	return now.Proposals(), nil
}

func takes(a api.Acceptance, p match.Proposal) bool {
	switch {
	case len(a.Tags) > 0:
		return slices.Contains(a.Tags, p.Tag)
	case p.Part:
		return slices.Contains(a.Profiles, p.Profile)
	case len(a.Reasons) > 0:
		return slices.Contains(a.Reasons, p.By)
	case len(a.Profiles) > 0:
		return slices.Contains(a.Profiles, p.Profile)
	}
	return !p.Guess
}

// Accept accepts proposals, all that are chosen or none, and gives them.
func (s *Site) Accept(ctx context.Context, in api.Acceptance, who string) ([]match.Proposal, error) {
	if err := knownReasons(in.Reasons); err != nil {
		return nil, err
	}
	if !in.All && len(in.Tags)+len(in.Reasons)+len(in.Profiles) == 0 {
		return nil, problem.New(problem.Usage, "it is not said which proposals are accepted",
			"give tags, reasons, profiles, or all")
	}
	all, err := s.Propose(ctx)
	if err != nil {
		return nil, err
	}
	accepted, matches := []match.Proposal{}, []store.Match{}
	for _, p := range all.Proposals {
		if takes(in, p) {
			accepted = append(accepted, p)
			matches = append(matches, store.Match{Tag: p.Tag, MAC: p.MAC, By: p.By, Why: p.Why})
		}
	}
	for _, t := range in.Tags {
		if !slices.ContainsFunc(accepted, func(p match.Proposal) bool { return p.Tag == t }) {
			return nil, problem.New(problem.Conflict, "there is no proposal for this entry",
				"match it by hand: redstart match set TAG MAC").About(t)
		}
	}
	noted := s.plan.Noting()
	if err := s.store.SetMatches(ctx, matches, who); err != nil {
		return nil, err
	}
	noted(who, "matched "+value.Count(len(matches), "device"))
	s.plan.Changed()
	return accepted, nil
}

// Match says by hand which box an entry is.
func (s *Site) Match(ctx context.Context, tag string, mac address.MAC, by, why, who string) error {
	e, err := s.matchable(ctx, tag, false)
	if err != nil {
		return err
	}
	if other, err := s.store.TagOf(ctx, mac); err != nil {
		return err
	} else if other != "" && other != tag {
		return problem.New(problem.Conflict, "this box is matched with "+other+" already",
			"undo that match first").About(mac.String())
	}
	if err := s.fits(ctx, e, mac); err != nil {
		return err
	}
	noted := s.plan.Noting()
	if err := s.store.SetMatches(ctx, []store.Match{{Tag: tag, Was: e.Device, MAC: mac, By: by, Why: why}},
		who); err != nil {
		return err
	}
	noted(who, "matched with "+mac.String())
	s.plan.EntryChanged(tag)
	s.plan.Changed()
	return nil
}

// fits refuses a box of another model than an entry's.
func (s *Site) fits(ctx context.Context, e store.Entry, mac address.MAC) error {
	f, err := s.plan.Found(ctx, mac)
	if err != nil {
		return err
	}
	if f.Profile != "" && f.Profile != e.Profile || f.Profile == "" && len(f.Maybe) > 0 &&
		!slices.Contains(f.Maybe, e.Profile) {
		is := f.Profile
		if is == "" {
			is = strings.Join(f.Maybe, " or a ")
		}
		return problem.New(problem.Conflict, "this box is a "+is+", but the plan says "+e.Profile,
			"choose another box or mend the plan").About(e.Tag)
	}
	return nil
}

// UndoMatches undoes matches, all that are chosen or none, and gives the entries'
// tags. For a reason, those are chosen whose devices were not set yet and whose
// match is not locked.
func (s *Site) UndoMatches(ctx context.Context, in api.Undo, who string) ([]string, error) {
	if (len(in.Tags) == 0) == (len(in.Reasons) == 0) {
		return nil, problem.New(problem.Usage, "tags or reasons say what to undo", "give one of them")
	}
	if err := knownReasons(in.Reasons); err != nil {
		return nil, err
	}
	undone, matches := []string{}, []store.Match{}
	undo := func(e store.Entry) {
		undone = append(undone, e.Tag)
		matches = append(matches, store.Match{Tag: e.Tag, Was: e.Device})
	}
	for _, tag := range in.Tags {
		e, err := s.matchable(ctx, tag, in.Configured)
		if err != nil {
			return nil, err
		}
		if e.Device.IsZero() {
			return nil, problem.New(problem.Conflict, "no device is matched with it", "").About(tag)
		}
		undo(e)
	}
	if len(in.Reasons) > 0 {
		entries, err := s.store.Entries(ctx)
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			if !e.Device.IsZero() && !e.Locked && (e.State == state.Matched || in.Configured && e.Set()) &&
				slices.Contains(in.Reasons, e.MatchedBy) {
				undo(e)
			}
		}
	}
	noted := s.plan.Noting()
	if err := s.store.SetMatches(ctx, matches, who); err != nil {
		return nil, err
	}
	noted(who, value.Count(len(matches), "device")+" matched no more")
	s.plan.Changed()
	return undone, nil
}

func knownReasons(list []string) error {
	for _, r := range list {
		if !slices.Contains(match.Reasons, r) {
			return problem.New(problem.Usage, "there is no such reason",
				"choose among: "+strings.Join(match.Reasons, ", ")).About(r)
		}
	}
	return nil
}

// Lock keeps the matches of entries, or lets them change again, all or none.
func (s *Site) Lock(ctx context.Context, in api.Locking, who string) error {
	if len(in.Tags) == 0 {
		return problem.New(problem.Usage, "it is not said which entries are meant", "give their tags")
	}
	for _, tag := range in.Tags {
		if e, err := s.store.Entry(ctx, tag); err != nil {
			return err
		} else if e.Device.IsZero() {
			return problem.New(problem.Conflict, "no device is matched with it", "match it first").About(tag)
		}
	}
	if err := s.store.SetLocked(ctx, in.Tags, in.Locked, who); err != nil {
		return err
	}
	for _, tag := range in.Tags {
		s.plan.EntryChanged(tag)
	}
	return nil
}

// matchable gives an entry whose match may still change: nothing was done with its
// box, or what was done failed, and nobody locked it; configured ones only where
// that is meant.
func (s *Site) matchable(ctx context.Context, tag string, configured bool) (store.Entry, error) {
	e, err := s.store.Entry(ctx, tag)
	switch {
	case err != nil:
	case e.State == state.Configuring:
		err = problem.New(problem.Conflict, "a run is setting its device",
			"wait until it is done, or give the run up").About(tag)
	case e.Set() && !configured:
		err = problem.New(problem.Conflict, "its device was set already ("+e.State+")",
			"to put another box in its place: redstart match replace "+tag+
				"; to undo the match all the same: redstart match undo "+tag+" --also-configured").About(tag)
	case e.Locked:
		err = problem.New(problem.Conflict, "its match is locked",
			"unlock it first: redstart match unlock "+tag).About(tag)
	}
	return e, err
}

// Scanned takes in a label: of an entry to choose it, of a box to say that it is
// the chosen entry.
func (s *Site) Scanned(ctx context.Context, in api.Scan, who string) (api.Scanned, error) {
	l := label.Parse(in.Text)
	out := api.Scanned{Label: l, Outcome: api.ScanUnknown, Text: "nothing on this label is known here"}
	if l.LoRaWAN != nil && l.LoRaWAN.Torn {
		return out, problem.New(problem.Usage, "this code does not fit its checksum: it was misread, or is damaged",
			"scan it once more, or type what is printed beside it")
	}
	if l.Empty() {
		return out, problem.New(problem.Usage, "no MAC, serial or tag can be read from this",
			"scan the code next to MAC or S/N, or type it")
	}
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return out, err
	}
	if i := slices.IndexFunc(entries, func(e store.Entry) bool {
		return l.Whole != "" && strings.EqualFold(e.Tag, l.Whole)
	}); i >= 0 {
		out.Outcome, out.Tag, out.Text = api.ScanEntry, entries[i].Tag, entries[i].Tag+
			" is chosen; now scan the label of its box"
		return out, nil
	}
	if card := l.LoRaWAN; card != nil {
		chosen := slices.ContainsFunc(entries, func(e store.Entry) bool { return e.Tag == in.Tag && e.Behind != "" })
		if in.Cards || chosen {
			out.Outcome = api.ScanCard
			out.Tag, out.Text, err = s.card(ctx, entries, *card, in, who)
			return out, err
		}
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
		if out.Device, err = s.plan.DeviceView(ctx, f, tag); err != nil {
			return out, err
		}
		out.Outcome, out.Tag, out.Text = api.ScanDevice, tag, "this box was found; choose its entry"
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
		out.Outcome, out.Tag, out.Device.Tag, out.Text = api.ScanMatched, in.Tag, in.Tag, in.Tag+" is "+f.MAC.String()
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
	edited, err := s.plan.Edit(ctx, api.Edits{What: "label of " + in.Tag + " scanned",
		Patches: []plan.Patch{{Tag: in.Tag, Set: set}}}, false, who)
	if err == nil && len(edited.Complaints) > 0 {
		err = problem.New(problem.Usage, edited.Complaints[0].Reason, "").About(in.Tag)
	}
	if err != nil {
		return out, err
	}
	out.Outcome, out.Tag, out.Text = api.ScanNoted, in.Tag, "this box is not on the segment; the plan names it now, and it is matched as soon as it is found"
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
		for _, known := range f.Values(fact.Serial) {
			if slices.ContainsFunc(serials, func(s string) bool { return strings.EqualFold(s, known) }) {
				return f, nil
			}
		}
	}
	return nil, nil
}
