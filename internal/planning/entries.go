package planning

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
	"redstart/internal/core/procedure"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/store"
	"redstart/internal/task"
)

// Opens tells what opens each box, without opening the vault.
func (s *Site) Opens(ctx context.Context) (map[address.MAC]procedure.Login, error) {
	credentials, err := s.all.Store.Opening(ctx)
	if err != nil {
		return nil, err
	}
	opens := map[address.MAC]procedure.Login{}
	for mac, c := range credentials {
		opens[mac] = procedure.Login{Known: true, User: c.User, Stamp: c.Stamp}
	}
	return opens, nil
}

// Pick picks entries by tag; no tags mean all.
func Pick(entries []store.Entry, tags []string) ([]store.Entry, error) {
	if len(tags) == 0 {
		return entries, nil
	}
	byTag := map[string]store.Entry{}
	for _, e := range entries {
		byTag[e.Tag] = e
	}
	var list []store.Entry
	for _, tag := range tags {
		e, ok := byTag[tag]
		if !ok {
			return nil, problem.New(problem.Missing, "there is no such entry in the plan",
				"list the entries with: redstart plan list").About(tag)
		}
		list = append(list, e)
	}
	return list, nil
}

// told is an entry as it is told to people.
func told(e store.Entry) api.Entry {
	return api.Entry{Entry: e.Entry, State: e.State, Reason: e.Reason, Device: e.Device, MatchedBy: e.MatchedBy, MatchedWhy: e.MatchedWhy,
		Locked: e.Locked, CheckedAt: e.CheckedAt, Unseen: e.Unseen, HandBy: e.HandBy, HandAt: e.HandAt}
}

// View is an entry with its box, which is where it is; nil and the zero value when
// that does not matter.
func View(r plan.Resolver, e store.Entry, f *device.Found, where api.Whereabouts) api.EntryView {
	v := api.EntryView{Entry: told(e), Whereabouts: where}
	v.Unwired = e.State == state.Planned && !r.Wired(e.Entry)
	v.ByHand = r.Profiles[e.Profile] != nil && !r.Profiles[e.Profile].Sets() && e.Behind == ""
	if p := r.Profiles[e.Profile]; e.Given != nil && p != nil && e.State != state.Configuring {
		v.Differs = procedure.Differ(*e.Given, procedure.For(r, e.Entry, p))
	}
	if e.State == state.Configured || e.State == state.Verified {
		if v.Differs = append(v.Differs, another(e, f)...); v.Differs != nil {
			v.State = state.Configured
		}
	}
	if p := r.Profiles[e.Profile]; p != nil && v.State == state.Configured && !e.CheckedAt.IsZero() && len(e.Unseen) > 0 {
		v.Untold = v.Differs == nil && !slices.ContainsFunc(e.Unseen, func(check string) bool {
			s := p.Setting(check)
			return s == nil || !s.Sealed()
		})
	}
	if f != nil {
		v.Seen, v.BoxID = stamp.Time{Time: f.Last}, f.Value(fact.Serial)
	}
	return v
}

// another says in what the box that is matched is not the one that is planned now.
func another(e store.Entry, f *device.Found) (list []string) {
	if !e.MAC.IsZero() && !e.Device.IsZero() && e.MAC != e.Device {
		list = append(list, fmt.Sprintf("mac: the box has %s, planned %s", e.Device, e.MAC))
	}
	if f == nil || e.Serial == "" {
		return list
	}
	if told := f.Value(fact.Serial); told != "" && !strings.EqualFold(told, e.Serial) {
		list = append(list, fmt.Sprintf("serial: the box has %s, planned %s", told, e.Serial))
	}
	return list
}

// Entries lists the plan with what is known of each box.
func (s *Site) Entries(ctx context.Context) ([]api.EntryView, error) {
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
	r, err := s.Resolver(ctx)
	if err != nil {
		return nil, err
	}
	where, err := s.Where(ctx)
	if err != nil {
		return nil, err
	}
	parts := PartsOf(entries, devices)
	list := make([]api.EntryView, len(entries))
	for i, e := range entries {
		if f := byMAC[e.Device]; f != nil {
			list[i] = View(r, e, f, where(f))
		} else {
			list[i] = View(r, e, nil, api.Whereabouts{})
		}
		if part, told := parts[e.Tag]; told {
			hangs(&list[i], part, where(byMAC[part.MAC]))
		}
	}
	return list, nil
}

// PartsOf tells which entries boxes tell of that they hang behind, by tag.
func PartsOf(entries []store.Entry, found []*device.Found) map[string]match.Part {
	s := match.Segment{Found: found, Matched: TagsByDevice(entries)}
	for _, e := range entries {
		if e.Behind != "" {
			s.Entries = append(s.Entries, e.Entry)
		}
	}
	parts := map[string]match.Part{}
	if len(s.Entries) == 0 {
		return parts
	}
	for _, p := range match.Parts(s) {
		parts[p.Tag] = p
	}
	return parts
}

// hangs shows an entry as matched that its box tells of.
func hangs(v *api.EntryView, p match.Part, box api.Whereabouts) {
	v.HangsAs, v.Here = p.Part, box.Here
	if v.State == state.Planned {
		v.State, v.MatchedBy, v.MatchedWhy = state.Matched, "part", v.Behind+" tells of "+p.Part
	}
}

// TagsByDevice gives the entry that each matched box is.
func TagsByDevice(entries []store.Entry) map[address.MAC]string {
	tags := map[address.MAC]string{}
	for _, e := range entries {
		if !e.Device.IsZero() {
			tags[e.Device] = e.Tag
		}
	}
	return tags
}

// Detail gives everything known of one entry.
func (s *Site) Detail(ctx context.Context, tag string) (api.Detail, error) {
	e, err := s.store.Entry(ctx, tag)
	if err != nil {
		return api.Detail{}, err
	}
	r, err := s.Resolver(ctx)
	if err != nil {
		return api.Detail{}, err
	}
	d := api.Detail{Entry: View(r, e, nil, api.Whereabouts{}), Steps: []api.Step{},
		Settings: append([]plan.Value{}, r.Settings(e.Entry)...)}
	if d.Checks, err = s.store.Checks(ctx, tag); err != nil {
		return d, err
	}
	notes, err := s.store.History(ctx, tag)
	if err != nil {
		return d, err
	}
	for _, n := range notes {
		d.History = append(d.History, api.Note(n))
	}
	opens, err := s.Opens(ctx)
	if err != nil {
		return d, err
	}
	if p := r.Profiles[e.Profile]; p != nil && p.Sets() {
		d.Steps = task.Views(task.Steps(p, procedure.For(r, e.Entry, p), opens[e.Device]))
	}
	if e.Device.IsZero() {
		return d, nil
	}
	f, err := s.store.Device(ctx, e.Device)
	if err != nil {
		return d, err
	}
	if d.Device, err = s.DeviceView(ctx, f, tag); err != nil {
		return d, err
	}
	d.Entry = View(r, e, f, d.Device.Whereabouts)
	list, err := s.Credentials(ctx, tag)
	if len(list) > 0 {
		d.Login = &list[0]
	}
	return d, err
}

// EntryChanged tells everyone what became of an entry.
func (s *Site) EntryChanged(tag string) {
	ctx := s.all.life
	e, err := s.store.Entry(ctx, tag)
	if err != nil {
		return // it left the plan, or the service is ending
	}
	f, err := s.store.Device(ctx, e.Device)
	if err != nil {
		return
	}
	r, err := s.Resolver(ctx)
	if err != nil {
		return
	}
	if e.Behind != "" {
		s.Changed() // what its box tells of it belongs to it
		return
	}
	if where, err := s.Where(ctx); err == nil {
		s.all.Hub.Publish(s.store.Key, "entry", View(r, e, f, where(f)))
	}
}
