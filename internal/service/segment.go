package service

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"redstart/internal/core/problem"
	"redstart/internal/lan"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/capture"
	"redstart/internal/lan/lookonly"
	"redstart/internal/lan/nic"
	"redstart/internal/survey"
)

// segment is what the service is plugged into.
type segment struct {
	name  string
	bench *bench.Bench
	port  *capture.Port
	dark  atomic.Bool // it has no link
}

// linked is a port that knows whether it has a link.
type linked interface{ Link() bool }

const (
	lookAtLink = 500 * time.Millisecond
	plugAgain  = 2 * time.Second
)

var (
	errGone = problem.New(problem.Machine, "the segment is gone: its interface was taken away", "plug it in again; what was under way goes on then")
	errDark = problem.New(problem.Machine, "the segment has no link", "check the cable and the switch; what was under way goes on then")
)

var (
	errNoSegment = problem.New(problem.Machine, "the service is not plugged into a segment", "start it with --interface NAME, choose an interface in the console, or use: redstart demo")
	errLookOnly  = problem.New(problem.Conflict, "this service only looks; nothing can be set and no address handed out", "start it without --look-only")
)

// plug joins a segment. The port belongs to the service from then on.
func (s *Service) plug(p lan.Port, name string) {
	outer := capture.On(p)
	var port lan.Port = outer
	if s.config.LookOnly {
		port = lookonly.On(outer)
	}
	at := &segment{name: name, bench: bench.New(port), port: outer}
	s.segment.Store(at)
	s.segmentChanged()
	link, _ := p.(linked)
	s.work.Add(1)
	go func() {
		defer s.work.Done()
		s.follow(at, link)
	}()
}

// segmentChanged tells everyone that the segment came, went, or has a link again.
func (s *Service) segmentChanged() {
	s.mu.Lock()
	close(s.plugs)
	s.plugs = make(chan struct{})
	s.mu.Unlock()
	s.hub.publish("", "segment", none{})
}

// follow watches over a segment until it goes: work that is under way is cut off,
// not failed, and goes on when it is back.
func (s *Service) follow(at *segment, link linked) {
	look := time.NewTicker(lookAtLink)
	defer look.Stop()
	for {
		select {
		case <-s.life.Done():
			return
		case <-at.bench.Done():
			if s.segment.CompareAndSwap(at, nil) {
				s.log.Error("the segment is gone: the interface was taken away", "segment", at.name)
				s.cutOffWork(at, errGone)
				s.segmentChanged()
				s.reopen(at.name)
			}
			return
		case <-look.C:
			if link == nil || at.dark.Load() == !link.Link() {
				continue
			}
			at.dark.Store(!link.Link())
			if at.dark.Load() {
				s.log.Error("the segment has no link", "segment", at.name)
				s.cutOffWork(at, errDark)
			} else {
				s.log.Info("the segment has a link again", "segment", at.name)
			}
			s.segmentChanged()
		}
	}
}

// reopen tries to open a segment that went away until it is back, or until
// somebody plugs the service in elsewhere.
func (s *Service) reopen(name string) {
	if s.config.Reopen == nil {
		return
	}
	again := time.NewTicker(plugAgain)
	defer again.Stop()
	for s.segment.Load() == nil {
		select {
		case <-s.life.Done():
			return
		case <-again.C:
		}
		if p, err := s.config.Reopen(); err == nil {
			s.log.Info("the segment is back", "segment", name)
			s.plug(p, name)
			if err := s.resumeWatches(s.life); err != nil {
				s.log.Error("the watch could not go on", "error", err)
			}
			return
		}
	}
}

// bench is what conversations are held over; nil without a segment.
func (s *Service) bench() *bench.Bench {
	if at := s.segment.Load(); at != nil {
		return at.bench
	}
	return nil
}

// plugged gives the error of a service without a segment, or of one that only
// looks where something is to be set.
func (s *Service) plugged(sets bool) error {
	switch {
	case s.bench() == nil:
		return errNoSegment
	case s.segment.Load().dark.Load():
		return errDark
	case sets && s.config.LookOnly:
		return errLookOnly
	}
	return nil
}

// InterfaceView is one interface of the computer, with what it hears and what
// speaks against using it.
type InterfaceView struct {
	nic.Interface
	Hears    *survey.Hearing `json:"hears"` // nil when it cannot be listened to
	Warnings []string        `json:"warnings"`
	InUse    bool            `json:"inUse"`
}

// longestListen bounds how long interfaces are listened to.
const longestListen = 30 * time.Second

// Interfaces lists the computer's interfaces and listens to each for a while; it
// sends nothing.
func (s *Service) Interfaces(ctx context.Context, listen time.Duration) ([]InterfaceView, error) {
	list, err := nic.List()
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, min(listen, longestListen))
	defer cancel()
	at := s.segment.Load()
	views := make([]InterfaceView, len(list))
	var all sync.WaitGroup
	for i, n := range list {
		views[i] = InterfaceView{Interface: n, Warnings: []string{}, InUse: at != nil && at.name == interfaceName(n.Name)}
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
func warnings(v InterfaceView) (list []string) {
	if !v.Up {
		return []string{"it is switched off: ip link set " + v.Name + " up"}
	}
	if !v.Link {
		list = append(list, "no link: check the cable")
	}
	if v.Wireless {
		list = append(list, "it is wireless: boxes on a cable are not behind it, and many access points drop what finding needs")
	}
	if v.DefaultRoute {
		list = append(list, "the computer's way to the rest of the world goes by it: it is likely the office network, not the boxes'")
	}
	if h := v.Hears; h != nil {
		if h.Storm {
			list = append(list, fmt.Sprintf("a storm: %.0f broadcasts a second; look for a loop before anything else", h.Broadcasts))
		}
		if len(h.Servers) > 0 {
			list = append(list, fmt.Sprintf("a DHCP server answers there: %s", h.Servers[0]))
		}
	}
	return list
}

func interfaceName(name string) string { return "interface " + name }

// Plug takes the service to another interface. It is refused while work is under way.
func (s *Service) Plug(name string) error {
	if s.underWay(func(Work) bool { return true }) {
		return problem.New(problem.Conflict, "work is under way", "wait until it is done, or stop it")
	}
	p, err := nic.Open(name, false)
	if err != nil {
		return err
	}
	s.endWatches()
	s.closePages()
	if old := s.segment.Swap(nil); old != nil {
		if err := old.bench.Close(); err != nil {
			s.log.Warn("the old segment did not close well", "segment", old.name, "error", err)
		}
	}
	s.plug(p, interfaceName(name))
	s.log.Info("plugged in", "segment", interfaceName(name))
	return s.resumeWatches(s.life)
}
