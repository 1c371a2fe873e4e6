package segments

import (
	"context"

	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/lan"
	"redstart/internal/lan/adapter"
	"redstart/internal/lan/bench"
)

// Site is the segment that one site uses.
type Site struct {
	all *Segments
	id  int64
	key string
}

// At gives the segment of a site, by its number and its key.
func (s *Segments) At(id int64, key string) *Site { return &Site{s, id, key} }

// Segment gives the segment that the site uses; nil when the service is not on it.
func (s *Site) Segment() *Segment { return s.all.of(s.id) }

// Plugged gives the site's segment while it is there.
func (s *Site) Plugged() *Plugged {
	if at := s.Segment(); at != nil {
		return at.live.Load()
	}
	return nil
}

// Bench is what conversations are held over; nil without a segment.
func (s *Site) Bench() *bench.Bench {
	if now := s.Plugged(); now != nil {
		return now.Bench
	}
	return nil
}

// May gives the error of a site without a segment, or of a service that only looks
// where something is to be set.
func (s *Site) May(sets bool) error {
	now := s.Plugged()
	switch {
	case now == nil:
		s.all.mu.Lock()
		name := s.all.uses[s.id]
		s.all.mu.Unlock()
		if name != "" {
			return problem.New(problem.Machine, "the service is not plugged into "+name+", which this site uses",
				"plug it in there, or have the site use another: redstart find plug NAME")
		}
		return ErrNone
	case now.Dark():
		return ErrDark
	case sets && s.all.LookOnly:
		return errLookOnly
	}
	return nil
}

// Use has the site use a segment, and plugs the service into it first if it is not on it:
// an interface, or a virtual LAN on one. It is refused while work on the site is under way.
func (s *Site) Use(ctx context.Context, name string) error {
	if s.all.Works.UnderWay(func(w api.Work) bool { return w.Site == s.key && w.Kind != api.Making }) {
		return problem.New(problem.Conflict, "work on this site is under way", "wait until it is done, or stop it")
	}
	at := s.all.named(name)
	if at == nil {
		p, err := adapter.Open(name, false)
		if err != nil {
			return err
		}
		at = s.all.Join(Plug{Name: name, Port: p, Reopen: func() (lan.Port, error) { return adapter.Open(name, false) }})
		s.all.Log.Info("plugged in", "segment", name)
	}
	left := s.Segment()
	if err := s.all.use(ctx, s.id, at); err != nil {
		return err
	}
	s.all.Ends(left, s.key)
	s.all.changed()
	return s.all.Resumes(s.all.life)
}
