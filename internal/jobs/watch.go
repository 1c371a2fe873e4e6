package jobs

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/lan/bench"
	"redstart/internal/segments"
	"redstart/internal/survey"
)

// usualRound is how often a watch asks each device whether it is still there.
const usualRound = 5 * time.Second

// watching is a standing watch of a site's segment.
type watching struct {
	site  *Site
	on    *segments.Segment
	over  *bench.Bench // what it listens at: another one once the segment was away
	stop  context.CancelFunc
	ended chan struct{}

	mu   sync.Mutex
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
		s.EndWatch()
	}
	return s.store.SetWatched(ctx, on)
}

// EndWatch ends the standing watch for now.
func (s *Site) EndWatch() {
	if w := s.watch(); w != nil {
		w.end()
	}
}

// end ends the watch, and waits until it has.
func (w *watching) end() {
	w.stop()
	<-w.ended
}

// ResumeWatches goes on with the watches that stand, once there is a segment.
func (s *Jobs) ResumeWatches(ctx context.Context) error {
	keys, err := s.Store.Watched(ctx)
	if err != nil {
		return err
	}
	for _, key := range keys {
		site, err := s.open(ctx, key)
		if err == nil && site.segment.Bench() != nil {
			err = site.beginWatch()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (s *Site) beginWatch() error {
	over := s.segment.Bench()
	if w := s.watch(); w != nil {
		if w.over == over {
			return nil
		}
		w.end() // it is of before the segment went away, and may take a moment to notice
	}
	if err := s.segment.May(false); err != nil {
		return err
	}
	o, _, err := s.options(s.all.life)
	if err != nil {
		return err
	}
	o.Known = s.plan.Here(o.Known)
	if o.Ask != nil {
		o.Ask = func(ctx context.Context, f *device.Found) ([]device.Sighting, error) {
			if s.surveying() {
				return nil, nil // the survey asks everybody
			}
			now, _, err := s.plan.Bare(ctx) // the plan may have changed since the watch began
			if err != nil {
				return nil, err
			}
			return s.inquirer(now.Needs())(ctx, f)
		}
	}
	o.Choice = func(mac address.MAC) string {
		f, err := s.store.Device(context.WithoutCancel(s.all.life), mac)
		if err != nil {
			s.all.Log.Warn("the choice of a profile could not be read", "mac", mac.String(), "error", err)
		}
		if err == nil && f.Chosen {
			return f.Profile
		}
		return ""
	}
	round := s.all.Round
	if round <= 0 {
		round = usualRound
	}
	ctx, stop := context.WithCancel(s.all.life)
	w := &watching{site: s, on: s.segment.Segment(), over: over, stop: stop, ended: make(chan struct{})}
	s.all.mu.Lock()
	if s.all.watches[s.store.Key] != nil {
		s.all.mu.Unlock()
		stop()
		return nil
	}
	s.all.watches[s.store.Key] = w
	s.all.mu.Unlock()
	s.plan.Watched(true)
	s.all.Hub.Publish(s.store.Key, "watch", api.Watching{On: true})
	s.all.Log.Info("watching the segment", "site", s.store.Key)
	keep := s.keepDevices()
	s.all.work.Add(1)
	go func() {
		defer s.all.work.Done()
		defer stop()
		err := survey.Watch(ctx, over, s.all.Plans.Profiles(), o, round, func(kind string, f *device.Found) {
			if kind != survey.Departed {
				keep.add(f)
			}
			w.note(kind, f)
		})
		_ = keep.close() // it logs what it could not store
		if err != nil && !errors.Is(err, context.Canceled) {
			s.all.Log.Error("the watch ended", "site", s.store.Key, "error", err)
		}
		s.all.mu.Lock()
		delete(s.all.watches, s.store.Key)
		s.all.mu.Unlock()
		s.plan.Watched(false)
		close(w.ended)
		s.all.Hub.Publish(s.store.Key, "watch", api.Watching{On: false})
	}()
	return nil
}

func (s *Site) surveying() bool {
	return s.all.Works.On(s.segment.Segment(), func(a api.Work) bool { return a.Kind == api.Finding })
}

// note tells everyone who came or went.
func (w *watching) note(kind string, f *device.Found) {
	v := w.site.plan.Brief(f)
	v.Here = kind != survey.Departed
	p := api.Presence{Kind: kind, Device: v, At: time.Now().UTC()}
	w.site.plan.Missed(f.MAC, kind == survey.Departed)
	w.mu.Lock()
	if kind == survey.Arrived || kind == survey.Returned {
		others := slices.DeleteFunc(slices.Clone(w.came), func(o api.Presence) bool { return o.Device.MAC == f.MAC })
		w.came = slices.Insert(others, 0, p)[:min(len(others)+1, mostArrivals)]
	}
	w.mu.Unlock()
	w.site.all.Hub.Publish(w.site.store.Key, "device", v)
	w.site.all.Hub.Publish(w.site.store.Key, "presence", p)
	if kind != survey.Learned {
		w.site.plan.Changed()
	}
}

// arrivals lists who came lately, the latest first.
func (w *watching) arrivals() []api.Presence {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Clone(w.came)
}

// watch gives the site's standing watch; nil when there is none.
func (s *Site) watch() *watching {
	s.all.mu.Lock()
	defer s.all.mu.Unlock()
	return s.all.watches[s.store.Key]
}

// arrived tells everyone of a device that a survey heard.
func (s *Site) arrived(f *device.Found) {
	v := s.plan.Brief(f)
	v.Here = true
	s.all.Hub.Publish(s.store.Key, "device", v)
}
