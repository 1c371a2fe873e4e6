package site

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/survey"
)

// usualRound is how often a watch asks each device whether it is still there.
const usualRound = 5 * time.Second

// watching is a standing watch of a site's segment.
type watching struct {
	site  *Site
	on    *segment
	stop  context.CancelFunc
	ended chan struct{}

	mu   sync.Mutex
	gone map[address.MAC]bool
	came []api.Presence // lately, the latest first
}

// mostArrivals are told to a page that looks again.
const mostArrivals = 20

// Watch begins or ends the standing watch of the site's segment. It stands until
// it is ended: the next service goes on with it.
func (s *Site) Watch(ctx context.Context, on bool) error {
	if on {
		if err := s.beginWatch(); err != nil {
			return err
		}
	} else {
		s.endWatch()
	}
	return s.store.SetWatched(ctx, on)
}

func (s *Site) endWatch() {
	if w := s.watch(); w != nil {
		w.stop()
		<-w.ended
	}
}

// resumeWatches goes on with the watches that stand, once there is a segment.
func (s *Service) resumeWatches(ctx context.Context) error {
	keys, err := s.store.Watched(ctx)
	if err != nil {
		return err
	}
	for _, key := range keys {
		site, err := s.At(ctx, key)
		if err == nil && site.bench() != nil {
			err = site.beginWatch()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (s *Site) beginWatch() error {
	if s.watch() != nil {
		return nil
	}
	if err := s.may(false); err != nil {
		return err
	}
	o, _, err := s.options(s.life)
	if err != nil {
		return err
	}
	o.Known = s.here(o.Known)
	if o.Ask != nil {
		o.Ask = func(ctx context.Context, f *device.Found) ([]device.Sighting, error) {
			if s.surveying() {
				return nil, nil // the survey asks everybody
			}
			now, _, err := s.bare(ctx) // the plan may have changed since the watch began
			if err != nil {
				return nil, err
			}
			return s.inquirer(now.Needs())(ctx, f)
		}
	}
	o.Choice = func(mac address.MAC) string {
		f, err := s.store.Device(context.WithoutCancel(s.life), mac)
		if err != nil {
			s.log.Warn("the choice of a profile could not be read", "mac", mac.String(), "error", err)
		}
		if err == nil && f.Chosen {
			return f.Profile
		}
		return ""
	}
	round := s.config.Round
	if round <= 0 {
		round = usualRound
	}
	ctx, stop := context.WithCancel(s.life)
	w := &watching{site: s, on: s.segment(), stop: stop, ended: make(chan struct{}), gone: map[address.MAC]bool{}}
	s.mu.Lock()
	if s.watches[s.store.Key] != nil {
		s.mu.Unlock()
		stop()
		return nil
	}
	s.watches[s.store.Key] = w
	s.mu.Unlock()
	s.presence.Add(1)
	s.hub.Publish(s.store.Key, "watch", api.Watching{On: true})
	s.log.Info("watching the segment", "site", s.store.Key)
	keep := s.keepDevices()
	s.work.Add(1)
	go func() {
		defer s.work.Done()
		defer stop()
		err := survey.Watch(ctx, s.bench(), s.Profiles(), o, round, func(kind string, f *device.Found) {
			if kind != survey.Departed {
				keep.add(f)
			}
			w.note(kind, f)
		})
		_ = keep.close() // it logs what it could not store
		if err != nil && !errors.Is(err, context.Canceled) {
			s.log.Error("the watch ended", "site", s.store.Key, "error", err)
		}
		s.mu.Lock()
		delete(s.watches, s.store.Key)
		s.mu.Unlock()
		s.presence.Add(1)
		close(w.ended)
		s.hub.Publish(s.store.Key, "watch", api.Watching{On: false})
	}()
	return nil
}

func (s *Site) surveying() bool {
	return s.works.On(s.segment(), func(a api.Work) bool { return a.Kind == api.Finding })
}

// note tells everyone who came or went.
func (w *watching) note(kind string, f *device.Found) {
	v := w.site.brief(f)
	v.Here = kind != survey.Departed
	p := api.Presence{Kind: kind, Device: v, At: time.Now().UTC()}
	w.mu.Lock()
	if gone := kind == survey.Departed; w.gone[f.MAC] != gone {
		w.gone[f.MAC] = gone
		w.site.presence.Add(1)
	}
	if kind == survey.Arrived || kind == survey.Returned {
		others := slices.DeleteFunc(slices.Clone(w.came), func(o api.Presence) bool { return o.Device.MAC == f.MAC })
		w.came = slices.Insert(others, 0, p)[:min(len(others)+1, mostArrivals)]
	}
	w.mu.Unlock()
	w.site.hub.Publish(w.site.store.Key, "device", v)
	w.site.hub.Publish(w.site.store.Key, "presence", p)
	if kind != survey.Told {
		w.site.publishEntries()
	}
}

// arrivals lists who came lately, the latest first.
func (w *watching) arrivals() []api.Presence {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Clone(w.came)
}

func (w *watching) hasGone(mac address.MAC) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.gone[mac]
}

func (s *Service) endWatches(at *segment) {
	s.mu.Lock()
	list := slices.Collect(maps.Values(s.watches))
	s.mu.Unlock()
	for _, w := range list {
		if w.on == at {
			w.site.endWatch()
		}
	}
}

// watch gives the site's standing watch; nil when there is none.
func (s *Site) watch() *watching {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.watches[s.store.Key]
}

// arrived tells everyone of a device that a survey heard.
func (s *Site) arrived(f *device.Found) {
	v := s.brief(f)
	v.Here = true
	s.hub.Publish(s.store.Key, "device", v)
}
