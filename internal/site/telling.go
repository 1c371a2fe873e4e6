package site

import (
	"context"
	"maps"
	"reflect"
	"slices"
	"sync"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/notice"
	"redstart/internal/core/plan"
	"redstart/internal/planning"
)

// gathered is how long changes are gathered before they are told: many in a row are told at once.
const gathered = 100 * time.Millisecond

// telling tells everyone what changed at sites: not that something did, so that nobody asks for
// everything again.
type telling struct {
	wake chan struct{} // holds one token when something is to be told

	mu   sync.Mutex
	due  map[int64]string   // keys of sites of which something is to be told
	told map[int64]*toldNow // what everybody knows of each
}

// toldNow is what everybody who listens knows of a site.
type toldNow struct {
	mu       sync.Mutex // held by who tells
	entries  map[string]api.EntryView
	order    []string
	devices  map[address.MAC]api.DeviceView
	findings map[string][]plan.Finding
	segment  []notice.Notice
	moment   planning.Moment
}

func newTelling() *telling {
	return &telling{wake: make(chan struct{}, 1), due: map[int64]string{}, told: map[int64]*toldNow{}}
}

// changed has everyone told, soon, what changed at a site.
func (t *telling) changed(site int64, key string) {
	t.mu.Lock()
	t.due[site] = key
	t.mu.Unlock()
	select {
	case t.wake <- struct{}{}:
	default:
	}
}

// keepTelling tells what changed until the service ends.
func (s *Service) keepTelling() {
	for {
		select {
		case <-s.telling.wake:
		case <-s.life.Done():
			return
		}
		select {
		case <-time.After(gathered):
		case <-s.life.Done():
			return
		}
		s.telling.mu.Lock()
		due := s.telling.due
		s.telling.due = map[int64]string{}
		s.telling.mu.Unlock()
		for _, key := range due {
			at, err := s.At(s.life, key)
			if err == nil {
				err = at.tellChanged(s.life)
			}
			if err != nil && s.life.Err() == nil {
				s.Log.Warn("what changed could not be told", "site", key, "error", err)
			}
		}
	}
}

// of gives what everybody knows of a site.
func (t *telling) of(id int64) *toldNow {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.told[id] == nil {
		t.told[id] = &toldNow{}
	}
	return t.told[id]
}

// Attend is called before somebody begins to listen to the site: what they load after that and
// what they are told then fit together.
func (s *Site) Attend(ctx context.Context) error {
	t := s.all.telling.of(s.Records.ID)
	t.mu.Lock()
	defer t.mu.Unlock()
	if s.all.Events.Listened(s.Records.Key) && t.entries != nil {
		return nil
	}
	known := t.entries != nil
	changed, err := s.changes(ctx, t)
	if err == nil && known { // who comes back was not told yet
		s.all.Events.Publish(s.Records.Key, "changes", changed)
	}
	return err
}

// tellChanged tells what changed since it was told last.
func (s *Site) tellChanged(ctx context.Context) error {
	t := s.all.telling.of(s.Records.ID)
	t.mu.Lock()
	defer t.mu.Unlock()
	if !s.all.Events.Listened(s.Records.Key) {
		// Nobody knows anything, so nothing is kept; whoever comes begins anew.
		t.entries, t.order, t.devices, t.findings, t.segment = nil, nil, nil, nil, nil
		s.all.Events.Publish(s.Records.Key, "plan", struct{}{})
		return nil
	}
	known := t.entries != nil
	changed, err := s.changes(ctx, t)
	if err != nil {
		return err
	}
	if !known { // somebody came in this moment: they read it whole, and from now on are told what changes
		s.all.Events.Publish(s.Records.Key, "plan", struct{}{})
		return nil
	}
	// Also where nothing of it changed: a file or a licence may have.
	s.all.Events.Publish(s.Records.Key, "changes", changed)
	return nil
}

// changes works out what is not as it was told last, and takes it for told.
func (s *Site) changes(ctx context.Context, t *toldNow) (out api.Changes, err error) {
	now, err := s.Plan.Checked(ctx)
	if err != nil {
		return out, err
	}
	list, err := s.Plan.Entries(ctx)
	if err != nil {
		return out, err
	}
	segment, err := s.Jobs.Devices(ctx)
	if err != nil {
		return out, err
	}
	entries, order := make(map[string]api.EntryView, len(list)), make([]string, len(list))
	for i, e := range list {
		entries[e.Tag], order[i] = e, e.Tag
		if was, known := t.entries[e.Tag]; !known || !reflect.DeepEqual(was, e) {
			out.Entries = append(out.Entries, e)
		}
	}
	if !slices.Equal(order, t.order) {
		out.Order, out.Empty = order, len(order) == 0
	}
	devices := make(map[address.MAC]api.DeviceView, len(segment.Devices))
	for _, d := range segment.Devices {
		devices[d.MAC] = d
		if was, known := t.devices[d.MAC]; !known || !sameDevice(was, d) {
			out.Devices = append(out.Devices, d)
		}
	}
	for mac := range t.devices {
		if _, here := devices[mac]; !here {
			out.Gone = append(out.Gone, mac)
		}
	}
	findings := map[string][]plan.Finding{}
	for _, f := range now.Findings {
		findings[f.Tag] = append(findings[f.Tag], f)
	}
	for tag := range both(findings, t.findings) {
		if !reflect.DeepEqual(findings[tag], t.findings[tag]) {
			if out.Findings == nil {
				out.Findings = map[string][]plan.Finding{}
			}
			out.Findings[tag] = append([]plan.Finding{}, findings[tag]...)
		}
	}
	if !reflect.DeepEqual(segment.Findings, t.segment) {
		out.Segment = &segment.Findings
	}
	out.Matches = now.At.Entries != t.moment.Entries || now.At.Devices != t.moment.Devices
	t.entries, t.order, t.devices, t.findings, t.segment, t.moment = entries, order, devices, findings, segment.Findings, now.At
	return out, nil
}

// both has the keys of two maps.
func both(a, b map[string][]plan.Finding) map[string]bool {
	keys := map[string]bool{}
	for k := range maps.Keys(a) {
		keys[k] = true
	}
	for k := range maps.Keys(b) {
		keys[k] = true
	}
	return keys
}

// sameDevice reports whether two views of a device show the same. Devices that were found are
// never changed in place.
func sameDevice(a, b api.DeviceView) bool {
	return a.Found == b.Found && a.Tag == b.Tag && a.Whereabouts == b.Whereabouts && a.Kind == b.Kind && a.Blinks == b.Blinks &&
		a.Page == b.Page && maps.Equal(a.PartTags, b.PartTags)
}
