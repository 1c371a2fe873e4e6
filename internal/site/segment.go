package site

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/lan"
	"redstart/internal/lan/adapter"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/capture"
	"redstart/internal/lan/lookonly"
	"redstart/internal/lan/nic"
	"redstart/internal/survey"
)

// segment is one flat network that the service is, or was, plugged into.
type segment struct {
	name   string
	reopen func() (lan.Port, error)
	live   atomic.Pointer[plugged] // nil while it is gone
	closed atomic.Bool             // somebody unplugged it
}

// plugged is a segment while it is there.
type plugged struct {
	bench *bench.Bench
	port  *capture.Port
	dark  atomic.Bool // it has no link
}

// Plug is a segment that a service begins with.
type Plug struct {
	Name string // an interface, "simulated site"
	Port lan.Port
	// Reopen opens it again after it went away; nil: somebody must plug the service in.
	Reopen func() (lan.Port, error)
}

// linked is a port that knows whether it has a link.
type linked interface{ Link() bool }

const (
	lookAtLink = 500 * time.Millisecond
	plugAgain  = 2 * time.Second
)

var (
	errGone = problem.New(problem.Machine, "the segment is gone: its interface was taken away",
		"plug it in again; what was under way goes on then")
	errDark = problem.New(problem.Machine, "the segment has no link",
		"check the cable and the switch; what was under way goes on then")
)

var (
	errNoSegment = problem.New(problem.Machine, "the service is not plugged into a segment",
		"start it with --interface NAME, choose an interface in the console, or use: redstart demo")
	errLookOnly = problem.New(problem.Conflict,
		"this service only looks; nothing can be set and no address handed out", "start it without --look-only")
)

// join joins a segment. Its port belongs to the service from then on.
func (s *Service) join(p Plug) *segment {
	at := &segment{name: p.Name, reopen: p.Reopen}
	s.mu.Lock()
	s.segments = append(s.segments, at)
	s.mu.Unlock()
	s.plugIn(at, p.Port)
	return at
}

// plugIn has a segment be there, with a port.
func (s *Service) plugIn(at *segment, p lan.Port) {
	outer := capture.On(p)
	var port lan.Port = outer
	if s.config.LookOnly {
		port = lookonly.On(outer, survey.Question)
	}
	now := &plugged{bench: bench.New(port), port: outer}
	at.live.Store(now)
	s.segmentChanged()
	link, _ := p.(linked)
	s.work.Add(1)
	go func() {
		defer s.work.Done()
		s.follow(at, now, link)
	}()
}

// segmentChanged tells everyone that a segment came, went, or has a link again.
func (s *Service) segmentChanged() {
	s.mu.Lock()
	close(s.plugs)
	s.plugs = make(chan struct{})
	s.mu.Unlock()
	s.hub.Publish("", "segment", struct{}{})
}

// follow watches over a segment until it goes: work that is under way on it is cut off,
// not failed, and goes on when it is back.
func (s *Service) follow(at *segment, now *plugged, link linked) {
	look := time.NewTicker(lookAtLink)
	defer look.Stop()
	for {
		select {
		case <-s.life.Done():
			return
		case <-now.bench.Done():
			if at.live.CompareAndSwap(now, nil) && !at.closed.Load() {
				s.log.Error("the segment is gone: the interface was taken away", "segment", at.name)
				s.works.CutOff(at, errGone)
				s.segmentChanged()
				s.reopen(at)
			}
			return
		case <-look.C:
			if link == nil || now.dark.Load() == !link.Link() {
				continue
			}
			now.dark.Store(!link.Link())
			if now.dark.Load() {
				s.log.Error("the segment has no link", "segment", at.name)
				s.works.CutOff(at, errDark)
			} else {
				s.log.Info("the segment has a link again", "segment", at.name)
			}
			s.segmentChanged()
		}
	}
}

// reopen tries to open a segment that went away until it is back, or until
// somebody unplugs it.
func (s *Service) reopen(at *segment) {
	if at.reopen == nil {
		return
	}
	again := time.NewTicker(plugAgain)
	defer again.Stop()
	for at.live.Load() == nil && !at.closed.Load() {
		select {
		case <-s.life.Done():
			return
		case <-again.C:
		}
		if p, err := at.reopen(); err == nil {
			s.log.Info("the segment is back", "segment", at.name)
			s.plugIn(at, p)
			if err := s.resumeWatches(s.life); err != nil {
				s.log.Error("the watch could not go on", "error", err)
			}
			return
		}
	}
}

// named gives a segment by its name; nil when the service is not on it.
func (s *Service) named(name string) *segment {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, at := range s.segments {
		if at.name == name {
			return at
		}
	}
	return nil
}

// segment gives the segment that the site uses: the one that it names, or while it names
// none, the first. nil when the service is not on it.
func (s *Site) segment() *segment {
	s.mu.Lock()
	defer s.mu.Unlock()
	name, chosen := s.uses[s.store.ID]
	for _, at := range s.segments {
		if !chosen || name == "" || at.name == name {
			return at
		}
	}
	return nil
}

// plugged gives the site's segment while it is there.
func (s *Site) plugged() *plugged {
	if at := s.segment(); at != nil {
		return at.live.Load()
	}
	return nil
}

// bench is what conversations are held over; nil without a segment.
func (s *Site) bench() *bench.Bench {
	if now := s.plugged(); now != nil {
		return now.bench
	}
	return nil
}

// may gives the error of a site without a segment, or of a service that only looks
// where something is to be set.
func (s *Site) may(sets bool) error {
	now := s.plugged()
	switch {
	case now == nil:
		s.mu.Lock()
		name := s.uses[s.store.ID]
		s.mu.Unlock()
		if name != "" {
			return problem.New(problem.Machine, "the service is not plugged into "+name+", which this site uses",
				"plug it in there, or have the site use another: redstart find plug NAME")
		}
		return errNoSegment
	case now.dark.Load():
		return errDark
	case sets && s.config.LookOnly:
		return errLookOnly
	}
	return nil
}

// Segments lists the segments that the service is on, with the sites that use each.
func (s *Service) Segments(ctx context.Context) ([]api.SegmentView, error) {
	sites, err := s.store.Sites(ctx)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	all := slices.Clone(s.segments)
	s.mu.Unlock()
	list := []api.SegmentView{}
	for _, at := range all {
		now := at.live.Load()
		v := api.SegmentView{Name: at.name, Here: now != nil, Dark: now != nil && now.dark.Load(), Sites: []string{}}
		for _, data := range sites {
			if site, err := s.At(ctx, data.Key); err == nil && site.segment() == at {
				v.Sites = append(v.Sites, data.Key)
			}
		}
		list = append(list, v)
	}
	return list, nil
}

// Use has the site use a segment, and plugs the service into it first if it is not on it:
// an interface, or a virtual LAN on one. It is refused while work on the site is under way.
func (s *Site) Use(ctx context.Context, name string) error {
	if s.works.UnderWay(func(w api.Work) bool { return w.Site == s.store.Key && w.Kind != api.Making }) {
		return problem.New(problem.Conflict, "work on this site is under way", "wait until it is done, or stop it")
	}
	at := s.named(name)
	if at == nil {
		p, err := adapter.Open(name, false)
		if err != nil {
			return err
		}
		at = s.join(Plug{Name: name, Port: p, Reopen: func() (lan.Port, error) { return adapter.Open(name, false) }})
		s.log.Info("plugged in", "segment", name)
	}
	if err := s.store.SetSegment(ctx, at.name); err != nil {
		return err
	}
	s.endWatch()
	s.pages.CloseAll()
	s.mu.Lock()
	s.uses[s.store.ID] = at.name
	s.mu.Unlock()
	s.segmentChanged()
	return s.resumeWatches(s.life)
}

// pin has the sites that use a segment because it is the first name it: without it they
// would find themselves on another.
func (s *Service) pin(at *segment) error {
	sites, err := s.store.Sites(s.life)
	if err != nil {
		return err
	}
	for _, data := range sites {
		of, err := s.At(s.life, data.Key)
		if err != nil {
			return err
		}
		if of.segment() != at {
			continue
		}
		if err := of.store.SetSegment(s.life, at.name); err != nil {
			return err
		}
		s.mu.Lock()
		s.uses[of.store.ID] = at.name
		s.mu.Unlock()
	}
	return nil
}

// Unplug leaves a segment. It is refused while work on it is under way.
func (s *Service) Unplug(name string) error {
	at := s.named(name)
	if at == nil {
		return problem.New(problem.Missing, "the service is not on this segment",
			"list them: redstart find --interfaces").About(name)
	}
	if err := s.pin(at); err != nil {
		return err
	}
	busy := s.works.On(at, func(api.Work) bool { return true })
	s.mu.Lock()
	if !busy {
		s.segments = slices.DeleteFunc(s.segments, func(o *segment) bool { return o == at })
		at.closed.Store(true)
	}
	s.mu.Unlock()
	if busy {
		return problem.New(problem.Conflict, "work on this segment is under way",
			"wait until it is done, or stop it").About(name)
	}
	s.endWatches(at)
	s.pages.CloseAll()
	var err error
	if now := at.live.Swap(nil); now != nil {
		err = now.bench.Close()
	}
	s.segmentChanged()
	s.log.Info("unplugged", "segment", name)
	return err
}

// longestListen bounds how long interfaces are listened to.
const longestListen = 30 * time.Second

// Interfaces lists the computer's interfaces and listens to each for a while; it
// sends nothing.
func (s *Service) Interfaces(ctx context.Context, listen time.Duration) ([]api.InterfaceView, error) {
	list, err := nic.List()
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, min(listen, longestListen))
	defer cancel()
	views := make([]api.InterfaceView, len(list))
	var all sync.WaitGroup
	for i, n := range list {
		views[i] = api.InterfaceView{Interface: n, Warnings: []string{}, InUse: s.named(n.Name) != nil}
		if !n.Up || listen <= 0 {
			continue
		}
		p, err := nic.Open(n.Name, false)
		if err != nil {
			views[i].Warnings = append(views[i].Warnings, err.Error())
			continue
		}
		all.Add(1)
		go func() {
			defer all.Done()
			h := survey.Hear(ctx, p)
			views[i].Hears = &h
		}()
	}
	all.Wait()
	for i := range views {
		views[i].Warnings = append(views[i].Warnings, warnings(views[i])...)
	}
	return views, nil
}

// warnings say what speaks against an interface.
func warnings(v api.InterfaceView) (list []string) {
	if !v.Up {
		return []string{"it is switched off: ip link set " + v.Name + " up"}
	}
	if !v.Link {
		list = append(list, "no link: check the cable")
	}
	if v.Wireless {
		list = append(list,
			"it is wireless: boxes on a cable are not behind it, and many access points drop what finding needs")
	}
	if v.DefaultRoute {
		list = append(list,
			"the computer's way to the rest of the world goes by it: it is likely the office network, not the boxes'")
	}
	if h := v.Hears; h != nil {
		if h.Storm {
			list = append(list, fmt.Sprintf("a storm: %.0f broadcasts a second; look for a loop before anything else",
				h.Broadcasts))
		}
		if len(h.Servers) > 0 {
			list = append(list, fmt.Sprintf("a DHCP server answers there: %s", h.Servers[0]))
		}
	}
	return list
}
