// Package segments is which flat networks the service is plugged into, whether each is there, and
// which of them each site uses.
package segments

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/events"
	"redstart/internal/lan"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/capture"
	"redstart/internal/lan/lookonly"
	"redstart/internal/store"
	"redstart/internal/survey"
	"redstart/internal/works"
)

// Records keep which segment each site uses.
type Records interface {
	Uses(context.Context) ([]store.Use, error)
	SetUse(ctx context.Context, site int64, segment string) error
}

// Config says what is told of segments, and to whom.
type Config struct {
	// LookOnly lets nothing out but questions, whatever anybody asks for.
	LookOnly bool
	Records  Records
	Works    *works.Works
	Hub      *events.Hub
	Log      *slog.Logger
	// Ends ends what stands on a segment that is left: by one site, or with no key by all.
	Ends func(at *Segment, site string)
	// Resumes goes on with what stands, once there is a segment for it.
	Resumes func(context.Context) error
}

// Segments are those of one service.
type Segments struct {
	Config
	life context.Context // ends when the service does
	work sync.WaitGroup  // that follows each segment

	mu   sync.Mutex
	list []*Segment       // in the order in which they were plugged in
	uses map[int64]string // the segment that each site names
	next chan struct{}    // closes when a segment changes, and is made anew
}

// Segment is one flat network that the service is, or was, plugged into.
type Segment struct {
	Name   string
	reopen func() (lan.Port, error)
	live   atomic.Pointer[Plugged] // nil while it is gone
	closed atomic.Bool             // somebody unplugged it
}

// Plugged is a segment while it is there.
type Plugged struct {
	Bench *bench.Bench
	Port  *capture.Port
	dark  atomic.Bool // it has no link
}

// Dark reports whether it has no link.
func (p *Plugged) Dark() bool { return p.dark.Load() }

// Plug is a segment that a service begins with.
type Plug struct {
	Name string // an interface, "simulated site"
	Port lan.Port
	// Reopen opens it again after it went away; nil: somebody must plug the service in.
	Reopen func() (lan.Port, error)
}

// New gives the segments of a service that ends with a context; it is on none yet.
func New(ctx, life context.Context, c Config) (*Segments, error) {
	uses, err := c.Records.Uses(ctx)
	s := &Segments{Config: c, life: life, uses: map[int64]string{}, next: make(chan struct{})}
	for _, u := range uses {
		s.uses[u.Site] = u.Segment
	}
	return s, err
}

// Close leaves every segment, once the service has ended.
func (s *Segments) Close() error {
	s.work.Wait()
	var err error
	for _, at := range s.list {
		if now := at.live.Load(); now != nil {
			err = errors.Join(err, now.Bench.Close())
		}
	}
	return err
}

const (
	lookAtLink = 500 * time.Millisecond
	plugAgain  = 2 * time.Second
)

var (
	ErrGone = problem.New(problem.Machine, "the segment is gone: its interface was taken away",
		"plug it in again; what was under way goes on then")
	ErrDark = problem.New(problem.Machine, "the segment has no link",
		"check the cable and the switch; what was under way goes on then")
)

var (
	ErrNone = problem.New(problem.Machine, "the service is not plugged into a segment",
		"start it with --interface NAME, choose an interface in the console, or use: redstart demo")
	errLookOnly = problem.New(problem.Conflict,
		"this service only looks; nothing can be set and no address handed out", "start it without --look-only")
)

// Join joins a segment. Its port belongs to the service from then on.
func (s *Segments) Join(p Plug) *Segment {
	at := &Segment{Name: p.Name, reopen: p.Reopen}
	s.mu.Lock()
	s.list = append(s.list, at)
	s.mu.Unlock()
	s.plugIn(at, p.Port)
	return at
}

// plugIn has a segment be there, with a port.
func (s *Segments) plugIn(at *Segment, p lan.Port) {
	outer := capture.On(p)
	var port lan.Port = outer
	if s.LookOnly {
		port = lookonly.On(outer, survey.Question)
	}
	now := &Plugged{Bench: bench.New(port), Port: outer}
	at.live.Store(now)
	s.changed()
	link, _ := p.(lan.Linked)
	s.work.Go(func() { s.follow(at, now, link) })
}

// changed tells everyone that a segment came, went, or has a link again.
func (s *Segments) changed() {
	s.mu.Lock()
	close(s.next)
	s.next = make(chan struct{})
	s.mu.Unlock()
	s.Hub.Publish("", "segment", struct{}{})
}

// Change closes when a segment comes, goes, or has a link again; it is taken before looking.
func (s *Segments) Change() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.next
}

// follow watches over a segment until it goes: work that is under way on it is cut off,
// not failed, and goes on when it is back.
func (s *Segments) follow(at *Segment, now *Plugged, link lan.Linked) {
	look := time.NewTicker(lookAtLink)
	defer look.Stop()
	for {
		select {
		case <-s.life.Done():
			return
		case <-now.Bench.Done():
			if at.live.CompareAndSwap(now, nil) && !at.closed.Load() {
				s.Log.Error("the segment is gone: the interface was taken away", "segment", at.Name)
				s.Works.CutOff(at, ErrGone)
				s.changed()
				s.reopen(at)
			}
			return
		case <-look.C:
			if link == nil || now.dark.Load() == !link.Link() {
				continue
			}
			now.dark.Store(!link.Link())
			if now.dark.Load() {
				s.Log.Error("the segment has no link", "segment", at.Name)
				s.Works.CutOff(at, ErrDark)
			} else {
				s.Log.Info("the segment has a link again", "segment", at.Name)
			}
			s.changed()
		}
	}
}

// reopen tries to open a segment that went away until it is back, or until
// somebody unplugs it.
func (s *Segments) reopen(at *Segment) {
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
			s.Log.Info("the segment is back", "segment", at.Name)
			s.plugIn(at, p)
			if err := s.Resumes(s.life); err != nil {
				s.Log.Error("the watch could not go on", "error", err)
			}
			return
		}
	}
}

// named gives a segment by its name; nil when the service is not on it.
func (s *Segments) named(name string) *Segment {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, at := range s.list {
		if at.Name == name {
			return at
		}
	}
	return nil
}

// of gives the segment that a site uses: the one that it names, or while it names none, the
// first. nil when the service is not on it.
func (s *Segments) of(site int64) *Segment {
	s.mu.Lock()
	defer s.mu.Unlock()
	name, chosen := s.uses[site]
	for _, at := range s.list {
		if !chosen || name == "" || at.Name == name {
			return at
		}
	}
	return nil
}

// List lists the segments that the service is on, with the sites that use each.
func (s *Segments) List(ctx context.Context) ([]api.SegmentView, error) {
	sites, err := s.Records.Uses(ctx)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	all := slices.Clone(s.list)
	s.mu.Unlock()
	list := []api.SegmentView{}
	for _, at := range all {
		now := at.live.Load()
		v := api.SegmentView{Name: at.Name, Here: now != nil, Dark: now != nil && now.Dark(), Sites: []string{}}
		for _, u := range sites {
			if s.of(u.Site) == at {
				v.Sites = append(v.Sites, u.Key)
			}
		}
		list = append(list, v)
	}
	return list, nil
}

// use has a site use a segment from now on.
func (s *Segments) use(ctx context.Context, site int64, at *Segment) error {
	if err := s.Records.SetUse(ctx, site, at.Name); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.uses[site] = at.Name
	return nil
}

// pin has the sites that use a segment because it is the first name it: without it they
// would find themselves on another.
func (s *Segments) pin(at *Segment) error {
	sites, err := s.Records.Uses(s.life)
	if err != nil {
		return err
	}
	for _, u := range sites {
		if s.of(u.Site) != at {
			continue
		}
		if err := s.use(s.life, u.Site, at); err != nil {
			return err
		}
	}
	return nil
}

// Unplug leaves a segment. It is refused while work on it is under way.
func (s *Segments) Unplug(name string) error {
	at := s.named(name)
	if at == nil {
		return problem.New(problem.Missing, "the service is not on this segment",
			"list them: redstart find --interfaces").About(name)
	}
	if err := s.pin(at); err != nil {
		return err
	}
	busy := s.Works.On(at, func(api.Work) bool { return true })
	s.mu.Lock()
	if !busy {
		s.list = slices.DeleteFunc(s.list, func(o *Segment) bool { return o == at })
		at.closed.Store(true)
	}
	s.mu.Unlock()
	if busy {
		return problem.New(problem.Conflict, "work on this segment is under way",
			"wait until it is done, or stop it").About(name)
	}
	s.Ends(at, "")
	var err error
	if now := at.live.Swap(nil); now != nil {
		err = now.Bench.Close()
	}
	s.changed()
	s.Log.Info("unplugged", "segment", name)
	return err
}
