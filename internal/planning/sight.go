package planning

import (
	"context"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/stamp"
)

// Recognise says which profile a device has.
func (s *Planning) Recognise(f *device.Found) { f.Recognise(s.Profiles()) }

// ViewOf gives a device with what the profiles say of it.
func (s *Planning) ViewOf(f *device.Found, tag string, where api.Whereabouts) api.DeviceView {
	v := api.DeviceView{Found: f, Tag: tag, Whereabouts: where, Waits: f.Waits(), Contradictions: f.Contradictions()}
	if p := s.Profiles()[f.Profile]; p != nil {
		v.Kind, v.Blinks = p.Kind, len(p.Acts[profile.Blink]) > 0
	}
	_, _, v.Page = s.PagePort(f)
	return v
}

// Brief is what everyone is told of a device that was heard.
func (s *Site) Brief(f *device.Found) api.DeviceView {
	tag, err := s.store.TagOf(context.WithoutCancel(s.all.life), f.MAC)
	if err != nil {
		s.all.Log.Warn("the entry of a device could not be read", "mac", f.MAC.String(), "error", err)
	}
	return s.all.ViewOf(f, tag, whereIs(f, true, time.Time{}))
}

// DeviceView gives a device with where it is.
func (s *Site) DeviceView(ctx context.Context, f *device.Found, tag string) (*api.DeviceView, error) {
	where, err := s.Where(ctx)
	if err != nil {
		return nil, err
	}
	v := s.all.ViewOf(f, tag, where(f))
	return &v, nil
}

// away is who is missed on the segments that are watched.
type away struct {
	number atomic.Uint64 // of changes
	mu     sync.Mutex
	gone   map[string]map[address.MAC]bool // by the keys of the sites that are watched
}

// Watched notes that the site's segment is watched from now on, or no longer.
func (s *Site) Watched(on bool) {
	a := &s.all.away
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.gone, s.store.Key)
	if on {
		a.gone[s.store.Key] = map[address.MAC]bool{}
	}
	a.number.Add(1)
}

// Missed notes that the watch misses a box, or hears it again.
func (s *Site) Missed(mac address.MAC, gone bool) {
	a := &s.all.away
	a.mu.Lock()
	defer a.mu.Unlock()
	if of := a.gone[s.store.Key]; of != nil && of[mac] != gone {
		of[mac] = gone
		a.number.Add(1)
	}
}

// isHere tells who is on the segment: whom the last whole survey heard, or who
// was heard since, and whom the watch does not miss.
func (s *Site) isHere(ctx context.Context) (func(*device.Found) bool, error) {
	began, err := s.store.LastBegan(ctx)
	if err != nil {
		return nil, err
	}
	a := &s.all.away
	return func(f *device.Found) bool {
		a.mu.Lock()
		defer a.mu.Unlock()
		return !f.Last.Before(began.Time) && !a.gone[s.store.Key][f.MAC]
	}, nil
}

// Where tells where devices are.
func (s *Site) Where(ctx context.Context) (func(*device.Found) api.Whereabouts, error) {
	began, err := s.store.LastBegan(ctx)
	if err != nil {
		return nil, err
	}
	here, err := s.isHere(ctx)
	return func(f *device.Found) api.Whereabouts { return whereIs(f, here(f), began.Time) }, err
}

func whereIs(f *device.Found, here bool, since time.Time) api.Whereabouts {
	w := api.Whereabouts{Here: here}
	at, told := f.Where()
	if w.Was = at; at.IsValid() {
		w.WasAt = stamp.Time{Time: told}
	}
	if here && !told.Before(since) {
		w.Now = at
	}
	return w
}

// Here keeps those that are on the segment.
func (s *Site) Here(list []*device.Found) []*device.Found {
	is, err := s.isHere(s.all.life)
	if err != nil {
		return nil // the service is ending
	}
	return slices.DeleteFunc(slices.Clone(list), func(f *device.Found) bool { return !is(f) })
}

// Found gives a device that was found.
func (s *Site) Found(ctx context.Context, mac address.MAC) (*device.Found, error) {
	f, err := s.store.Device(ctx, mac)
	if err == nil && f.MAC.IsZero() {
		err = problem.New(problem.Missing, "no such box was found", "find first: redstart find").About(mac.String())
	}
	return f, err
}

// Device gives everything known of a found device.
func (s *Site) Device(ctx context.Context, mac address.MAC) (*api.DeviceView, error) {
	f, err := s.Found(ctx, mac)
	if err != nil {
		return nil, err
	}
	tag, err := s.store.TagOf(ctx, mac)
	if err != nil {
		return nil, err
	}
	return s.DeviceView(ctx, f, tag)
}

// PagePort tells how a device's page is reached, as far as it is known.
func (s *Planning) PagePort(f *device.Found) (scheme string, port uint16, ok bool) {
	if !f.AddressNow().IsValid() {
		return "", 0, false
	}
	if p := s.Profiles()[f.Profile]; p != nil {
		if scheme, port, ok = p.Page(); ok {
			return scheme, port, true
		}
		switch {
		case slices.Contains(p.Ports, 443):
			return "https", 443, true
		case slices.Contains(p.Ports, 80):
			return "http", 80, true
		}
	}
	open := f.Values(fact.Open)
	switch {
	case slices.Contains(open, "443/tcp"):
		return "https", 443, true
	case slices.Contains(open, "80/tcp"):
		return "http", 80, true
	}
	return "", 0, false
}
