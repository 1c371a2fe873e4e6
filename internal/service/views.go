package service

import (
	"context"
	"net/netip"

	"redstart/internal/core/address"
	"redstart/internal/core/check"
	"redstart/internal/core/device"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/store"
)

// EntryView is a line of the plan with what is known of its box.
type EntryView struct {
	store.Entry
	Present netip.Addr  `json:"present"` // the box's present address
	Seen    store.Stamp `json:"seen"`    // when it was last heard
	BoxID   string      `json:"boxSerial"`
	// Differs says in words in what a configured device differs from the plan as
	// it is now. Such an entry is never shown as verified.
	Differs []string `json:"differs,omitempty"`
}

// DeviceView is a found device with the entry that it is.
type DeviceView struct {
	*device.Found
	Tag     string     `json:"tag"`
	Present netip.Addr `json:"present"`
}

// Detail is everything known of one entry.
type Detail struct {
	Entry    EntryView        `json:"entry"`
	Steps    []procedure.Step `json:"steps"` // what commissioning it consists of
	Checks   []check.Check    `json:"checks"`
	History  []store.Note     `json:"history"`
	Device   *DeviceView      `json:"device"` // nil when none is matched
	Settings []plan.Value     `json:"settings"`
	Login    string           `json:"login"` // user name of the stored credential; "" when there is none
}

func first(list []netip.Addr) netip.Addr {
	if len(list) == 0 {
		return netip.Addr{}
	}
	return list[0]
}

func view(r plan.Resolver, e store.Entry, f *device.Found) EntryView {
	v := EntryView{Entry: e}
	if p := r.Profiles[e.Profile]; e.Given != nil && p != nil && e.State != store.Configuring {
		if v.Differs = procedure.Differ(*e.Given, procedure.For(r, e.Entry, p)); v.Differs != nil && e.State == store.Verified {
			v.State = store.Configured
		}
	}
	if f != nil {
		v.Present, v.Seen, v.BoxID = first(f.Addresses()), store.Stamp{Time: f.Last}, f.Value(device.Serial)
	}
	return v
}

// Entries lists the plan with what is known of each box.
func (s *Site) Entries(ctx context.Context) ([]EntryView, error) {
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return nil, err
	}
	devices, err := s.store.Devices(ctx)
	if err != nil {
		return nil, err
	}
	byMAC := map[address.MAC]*device.Found{}
	for _, f := range devices {
		byMAC[f.MAC] = f
	}
	r, err := s.resolver(ctx)
	if err != nil {
		return nil, err
	}
	list := make([]EntryView, len(entries))
	for i, e := range entries {
		list[i] = view(r, e, byMAC[e.Device])
	}
	return list, nil
}

func tagsByDevice(entries []store.Entry) map[address.MAC]string {
	tags := map[address.MAC]string{}
	for _, e := range entries {
		if !e.Device.IsZero() {
			tags[e.Device] = e.Tag
		}
	}
	return tags
}

// Segment is everything found on the segment and what a person should know of it.
type Segment struct {
	Name     string           `json:"name"`    // what the service is plugged into; "" for nothing
	Sent     uint64           `json:"sent"`    // frames that we put on it since the service started
	Dropped  uint64           `json:"dropped"` // frames that came faster than we could take them
	Devices  []DeviceView     `json:"devices"`
	Findings []device.Finding `json:"findings"`
}

// Devices lists everything found.
func (s *Site) Devices(ctx context.Context) (Segment, error) {
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return Segment{}, err
	}
	found, err := s.store.Devices(ctx)
	if err != nil {
		return Segment{}, err
	}
	tags := tagsByDevice(entries)
	out := Segment{Name: s.config.Segment, Devices: []DeviceView{}, Findings: device.Findings(found)}
	if s.bench != nil {
		out.Sent, out.Dropped = s.bench.Sent.Load(), s.bench.Dropped.Load()
	}
	for _, f := range found {
		out.Devices = append(out.Devices, DeviceView{f, tags[f.MAC], first(f.Addresses())})
	}
	if out.Findings == nil {
		out.Findings = []device.Finding{}
	}
	return out, nil
}

// Detail gives everything known of one entry.
func (s *Site) Detail(ctx context.Context, tag string) (Detail, error) {
	e, err := s.store.Entry(ctx, tag)
	if err != nil {
		return Detail{}, err
	}
	r, err := s.resolver(ctx)
	if err != nil {
		return Detail{}, err
	}
	d := Detail{Entry: view(r, e, nil), Steps: []procedure.Step{}, Settings: append([]plan.Value{}, r.Settings(e.Entry)...)}
	if d.Checks, err = s.store.Checks(ctx, tag); err != nil {
		return d, err
	}
	if d.History, err = s.store.History(ctx, tag); err != nil {
		return d, err
	}
	if p := s.profiles[e.Profile]; p != nil && p.Sets() {
		d.Steps = procedure.Steps(p, procedure.For(r, e.Entry, p))
	}
	if e.Device.IsZero() {
		return d, nil
	}
	f, err := s.store.Device(ctx, e.Device)
	if err != nil {
		return d, err
	}
	d.Entry, d.Device = view(r, e, f), &DeviceView{f, tag, first(f.Addresses())}
	credentials, err := s.store.Credentials(ctx, e.Device)
	if len(credentials) > 0 {
		d.Login = credentials[0].User
	}
	return d, err
}

func (s *Site) publishEntry(tag string) {
	ctx := s.life
	e, err := s.store.Entry(ctx, tag)
	if err != nil {
		return // it left the plan, or the service is ending
	}
	f, err := s.store.Device(ctx, e.Device)
	if err != nil {
		return
	}
	if r, err := s.resolver(ctx); err == nil {
		s.hub.publish(s.store.Key, "entry", view(r, e, f))
	}
}

// publishEntries tells everyone to load the plan anew.
func (s *Site) publishEntries() { s.hub.publish(s.store.Key, "plan", none{}) }

// Proposals are matches to accept and what could not be decided.
type Proposals struct {
	Proposals []match.Proposal `json:"proposals"`
	Open      []match.Open     `json:"open"`
}

// Propose proposes matches for what is not matched yet.
func (s *Site) Propose(ctx context.Context) (Proposals, error) {
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return Proposals{}, err
	}
	found, err := s.store.Devices(ctx)
	if err != nil {
		return Proposals{}, err
	}
	tags := tagsByDevice(entries)
	var open []plan.Entry
	for _, e := range entries {
		if e.Device.IsZero() && !e.NotWired {
			open = append(open, e.Entry)
		}
	}
	var free []*device.Found
	for _, f := range found {
		if tags[f.MAC] == "" {
			free = append(free, f)
		}
	}
	out := Proposals{Proposals: []match.Proposal{}, Open: []match.Open{}}
	proposals, undecided := match.Propose(open, free)
	out.Proposals, out.Open = append(out.Proposals, proposals...), append(out.Open, undecided...)
	return out, nil
}

// Accept accepts proposals; no tags mean all. It gives what was accepted.
func (s *Site) Accept(ctx context.Context, tags []string, who string) ([]match.Proposal, error) {
	all, err := s.Propose(ctx)
	if err != nil {
		return nil, err
	}
	wanted := map[string]bool{}
	for _, t := range tags {
		wanted[t] = true
	}
	accepted := []match.Proposal{}
	for _, p := range all.Proposals {
		if len(tags) > 0 && !wanted[p.Tag] {
			continue
		}
		delete(wanted, p.Tag)
		accepted = append(accepted, p)
	}
	for t := range wanted {
		return nil, problem.New(problem.Conflict, "there is no proposal for this entry", "match it by hand: redstart match set TAG MAC").About(t)
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
func (s *Site) Match(ctx context.Context, tag string, mac address.MAC, who string) error {
	e, err := s.unset(ctx, tag)
	if err != nil {
		return err
	}
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return err
	}
	if other := tagsByDevice(entries)[mac]; other != "" && other != tag {
		return problem.New(problem.Conflict, "this box is matched with "+other+" already", "undo that match first").About(mac.String())
	}
	f, err := s.store.Device(ctx, mac)
	if err != nil {
		return err
	}
	if f.MAC.IsZero() {
		return problem.New(problem.Missing, "no such box was found", "find first: redstart find").About(mac.String())
	}
	if f.Profile != "" && f.Profile != e.Profile {
		return problem.New(problem.Conflict, "this box is a "+f.Profile+", but the plan says "+e.Profile, "choose another box or mend the plan").About(tag)
	}
	if err := s.store.SetMatch(ctx, tag, mac, match.ByHand, "chosen by "+who, who); err != nil {
		return err
	}
	s.publishEntry(tag)
	return nil
}

// Unmatch undoes a match.
func (s *Site) Unmatch(ctx context.Context, tag, who string) error {
	e, err := s.unset(ctx, tag)
	if err != nil {
		return err
	}
	if e.Device.IsZero() {
		return problem.New(problem.Conflict, "no device is matched with it", "").About(tag)
	}
	if err := s.store.SetMatch(ctx, tag, address.MAC{}, "", "", who); err != nil {
		return err
	}
	s.publishEntry(tag)
	return nil
}

// unset gives an entry whose match may still change: nothing was done with its
// box, or what was done failed.
func (s *Site) unset(ctx context.Context, tag string) (store.Entry, error) {
	e, err := s.store.Entry(ctx, tag)
	if err == nil && e.State != store.Planned && e.State != store.Matched && e.State != store.Attention {
		err = problem.New(problem.Conflict, "its device was set already ("+e.State+")", "the match stays").About(tag)
	}
	return e, err
}

// Blink makes a found device show itself.
func (s *Site) Blink(ctx context.Context, mac address.MAC) error {
	if s.bench == nil {
		return errNoSegment
	}
	f, err := s.store.Device(ctx, mac)
	if err != nil {
		return err
	}
	p := s.profiles[f.Profile]
	if p == nil || len(p.Acts[profile.Blink]) == 0 {
		return problem.New(problem.Conflict, "this model cannot be made to blink", "compare its MAC and serial with the label").About(mac.String())
	}
	talk := driver.New(s.bench, driver.Target{MAC: mac, Address: first(f.Addresses()), Profile: p})
	defer talk.Close()
	_, err = talk.Do(ctx, profile.Blink, nil)
	return err
}
