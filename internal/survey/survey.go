// Package survey finds devices on a segment, over a port. Each way of finding
// is a prober in a file of its own; a survey runs them all, merges what they
// tell by MAC, and ends when the segment has gone quiet.
package survey

import (
	"context"
	"iter"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/profile"
	"redstart/internal/lan/bench"
	"redstart/internal/wire/ethernet"
)

// Paces, in frames per second.
const (
	Normal = 1000
	Gentle = 50
)

const (
	leastPasses = 2
	mostPasses  = 5
	passGap     = 400 * time.Millisecond // from the last question of a pass to the next pass: a box that was busy may answer then
	quiet       = 500 * time.Millisecond // no news for so long ends a survey
	earDepth    = 1 << 14
	asking      = 64 // devices asked side by side who they are
	askTries    = 2
)

// Options shape a survey.
type Options struct {
	Sweep []netip.Addr // addresses to ask for besides the profiles' factory addresses
	Pace  int          // frames per second; 0: Normal
	// Ask asks a recognised device who it is; nil leaves that out. It is
	// called from several goroutines.
	Ask func(context.Context, device.Found) (map[string]string, error)
	// Known are devices found before; a survey adds to them.
	Known []*device.Found
}

// Progress is how far a survey is.
type Progress struct {
	Probes  int `json:"probes"`  // sent so far
	Planned int `json:"planned"` // to be sent in all
	Found   int `json:"found"`   // devices seen in this survey
}

// prober is one way of finding.
type prober struct {
	protocol string
	// frames makes the questions of one pass; nil for a prober that only listens.
	frames func(from address.MAC, sweep []netip.Addr) iter.Seq[[]byte]
	// read understands an answer, or any other frame; facts may be empty.
	read func(ethernet.Frame) (facts map[string]string, ok bool)
}

// probers are all ways of finding, the most telling first.
var probers = []prober{dcpProber, arpProber, trafficProber}

// Run surveys the segment until it has gone quiet or the context ends. Every
// device that is new or told something new is handed to emit, from one
// goroutine. Devices of Known that were not seen are not handed out.
func Run(ctx context.Context, b *bench.Bench, profiles profile.Set, o Options, emit func(*device.Found, Progress)) (Progress, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s := &survey{bench: b, profiles: profiles, options: o, emit: emit, found: map[address.MAC]*device.Found{},
		seen: map[address.MAC]bool{}, asked: map[address.MAC]int{}, busy: map[address.MAC]bool{}, answers: make(chan answer, asking)}
	for _, f := range o.Known {
		s.found[f.MAC] = f
	}
	sweep := s.sweep()
	onePass := 0
	for _, p := range probers {
		if p.frames != nil {
			for range p.frames(b.MAC(), sweep) {
				onePass++
			}
		}
	}
	s.progress.Planned = leastPasses * onePass
	ear := b.Listen(earDepth, func(ethernet.Frame) bool { return true })
	defer ear.Close()

	sent := make(chan int)
	failed := make(chan error, 1)
	var sending sync.WaitGroup
	sending.Add(1)
	go func() {
		defer sending.Done()
		defer close(sent)
		if err := s.send(ctx, sweep, sent); err != nil {
			failed <- err
		}
	}()
	err := s.collect(ctx, ear, sent)
	cancel()
	sending.Wait()
	s.asking.Wait()
	select {
	case err = <-failed:
	default:
	}
	return s.progress, err
}

type survey struct {
	bench    *bench.Bench
	profiles profile.Set
	options  Options
	emit     func(*device.Found, Progress)
	progress Progress
	found    map[address.MAC]*device.Found
	seen     map[address.MAC]bool
	total    atomic.Int64 // devices seen, for the sender to read

	asked   map[address.MAC]int  // how often
	busy    map[address.MAC]bool // being asked, or waiting for it
	open    int                  // asks under way
	waiting []*device.Found      // for a free place to be asked
	answers chan answer
	asking  sync.WaitGroup
}

type answer struct {
	mac   address.MAC
	facts map[string]string
	err   error
}

// sweep lists the addresses to ask for: factory addresses first, since fresh
// boxes are what a survey is for.
func (s *survey) sweep() []netip.Addr {
	var list []netip.Addr
	seen := map[netip.Addr]bool{}
	add := func(a netip.Addr) {
		if !seen[a] {
			seen[a] = true
			list = append(list, a)
		}
	}
	for _, p := range s.profiles.Sorted() {
		for _, a := range p.Factory.Address.List() {
			add(a)
		}
	}
	for _, a := range s.options.Sweep {
		add(a)
	}
	return list
}

// send puts every pass's questions on the segment at the survey's pace.
func (s *survey) send(ctx context.Context, sweep []netip.Addr, sent chan<- int) error {
	pace := s.options.Pace
	if pace <= 0 {
		pace = Normal
	}
	// A burst of 10 ms keeps the pace exact where timers are coarse.
	gap := time.NewTimer(passGap)
	defer gap.Stop()
	limit := rate.NewLimiter(rate.Limit(pace), max(1, pace/100))
	count := 0
	for pass := 1; pass <= mostPasses; pass++ {
		before := s.total.Load()
		for _, p := range probers {
			if p.frames == nil {
				continue
			}
			for frame := range p.frames(s.bench.MAC(), sweep) {
				if limit.Wait(ctx) != nil {
					return nil // stopped
				}
				if err := s.bench.Send(frame); err != nil {
					return err
				}
				if count++; count%100 == 0 && !tell(ctx, sent, count) {
					return nil
				}
			}
		}
		if !tell(ctx, sent, count) {
			return nil
		}
		gap.Reset(passGap)
		select {
		case <-gap.C:
		case <-ctx.Done():
			return nil
		}
		// A pass that brought nobody new says that the passes before missed
		// nobody; one that did says that it may have missed some itself.
		if pass >= leastPasses && s.total.Load() == before {
			return nil
		}
	}
	return nil
}

func tell(ctx context.Context, sent chan<- int, count int) bool {
	select {
	case sent <- count:
		return true
	case <-ctx.Done():
		return false
	}
}

// collect owns all that was found; nothing else touches it while it runs.
func (s *survey) collect(ctx context.Context, ear *bench.Ear, sent <-chan int) error {
	silence := time.NewTimer(quiet)
	defer silence.Stop()
	sending := true
	for {
		select {
		case f := <-ear.Frames():
			if s.hear(ctx, f) {
				silence.Reset(quiet)
			}
		case a := <-s.answers:
			s.open--
			delete(s.busy, a.mac)
			if a.err == nil {
				s.merge(ctx, device.Sighting{MAC: a.mac, Protocol: "web", At: time.Now(), Facts: a.facts})
			} else {
				s.ask(ctx, s.found[a.mac])
			}
			for len(s.waiting) > 0 && s.open < asking {
				next := s.waiting[0]
				s.waiting = s.waiting[1:]
				delete(s.busy, next.MAC)
				s.ask(ctx, next)
			}
			silence.Reset(quiet)
		case n, more := <-sent:
			if !more {
				sending, sent = false, nil
				continue
			}
			s.progress.Probes = n
			s.progress.Planned = max(n, s.progress.Planned)
			silence.Reset(quiet)
		case <-silence.C:
			if !sending && s.open == 0 {
				return nil
			}
			silence.Reset(quiet)
		case <-s.bench.Done():
			return bench.ErrGone
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (s *survey) hear(ctx context.Context, f ethernet.Frame) (news bool) {
	if f.Source == s.bench.MAC() {
		return false
	}
	for _, p := range probers {
		if facts, ok := p.read(f); ok {
			return s.merge(ctx, device.Sighting{MAC: f.Source, Protocol: p.protocol, At: time.Now(), Facts: facts})
		}
	}
	return false
}

// merge adds a sighting, recognises the device anew, and asks it who it is.
func (s *survey) merge(ctx context.Context, sighting device.Sighting) (news bool) {
	f := s.found[sighting.MAC]
	if f == nil {
		f = &device.Found{}
		s.found[sighting.MAC] = f
	}
	news = f.Add(sighting) || !s.seen[f.MAC]
	if !s.seen[f.MAC] {
		s.seen[f.MAC] = true
		s.progress.Found++
		s.total.Add(1)
	}
	if news {
		f.Recognise(s.profiles)
		s.emit(f, s.progress)
	}
	s.ask(ctx, f)
	return news
}

// ask has a recognised device asked who it is, unless it said so already.
func (s *survey) ask(ctx context.Context, f *device.Found) {
	p := s.profiles[f.Profile]
	if s.options.Ask == nil || p == nil || p.OnlyDCP(profile.Identify) || f.Value(device.Serial) != "" ||
		len(f.Addresses()) == 0 || s.asked[f.MAC] == askTries || s.busy[f.MAC] {
		return
	}
	s.busy[f.MAC] = true
	if s.open == asking {
		s.waiting = append(s.waiting, f)
		return
	}
	s.asked[f.MAC]++
	s.open++
	s.asking.Add(1)
	known := device.Found{MAC: f.MAC, Profile: f.Profile, Facts: append([]device.Fact(nil), f.Facts...)}
	go func() {
		defer s.asking.Done()
		facts, err := s.options.Ask(ctx, known)
		select {
		case s.answers <- answer{known.MAC, facts, err}:
		case <-ctx.Done():
		}
	}()
}
