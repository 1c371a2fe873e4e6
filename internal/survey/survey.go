// Package survey finds devices on a segment, over a port. Each way of finding
// is a prober in a file of its own; a survey runs them all, merges what they
// tell by MAC, and ends when the segment has gone quiet. A watch does the same
// by listening, for as long as it is wanted.
package survey

import (
	"context"
	"maps"
	"net/netip"
	"slices"
	"time"

	"golang.org/x/time/rate"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/lan/bench"
)

// Paces, in frames per second.
const (
	Normal = 1000
	Gentle = 50
)

// MostPace is how many frames per second may ask who is there.
const MostPace = 10_000

// ErrPace refuses a pace out of range.
var ErrPace = problem.New(problem.Usage, "the pace must be 1 to 10,000 frames per second", "")

const (
	leastPasses = 2
	mostPasses  = 5
	// from the last question of a pass to the next pass: a box that was busy may answer then
	passGap    = 400 * time.Millisecond
	sourceWait = 200 * time.Millisecond // from the last probe for an address to taking it
	quietLeast = 400 * time.Millisecond // no news for so long ends a survey; longer where news trickles
	quietMost  = 2 * time.Second
	mostNews   = 16 // after the last pass, what one device tells anew counts so often
	earDepth   = 1 << 14
)

// mostUnquiet is after how long the survey ends in any case, once its last pass is over.
var mostUnquiet = time.Minute

// Ask asks a device who it is, as its profile may need. It is called from
// several goroutines.
type Ask func(context.Context, *device.Found) ([]device.Sighting, error)

// Options shape a survey or a watch.
type Options struct {
	Sweep   []netip.Addr          // addresses to ask for besides the profiles' factory addresses
	Subnets []netip.Prefix        // to ask from an address of each, besides the factory addresses' subnets
	Avoid   func(netip.Addr) bool // addresses that are not ours to borrow; nil: none
	Pace    int                   // frames per second; 0: Normal
	// LookOnly leaves out every question that makes somebody keep something in mind.
	LookOnly bool
	Ask      Ask // nil: nobody is asked who it is
	// Choice gives the profile that a person chose for a device by now, "" for
	// none; nil: as Known has it.
	Choice func(address.MAC) string
	// Known are devices found before; a survey adds to them.
	Known []*device.Found
	// Keep are those of them that are not forgotten to make room for others.
	Keep map[address.MAC]bool
}

// Progress is how far a survey is.
type Progress struct {
	Probes  int   `json:"probes"`  // sent so far
	Planned int   `json:"planned"` // to be sent in all, as far as it is known
	Found   int   `json:"found"`   // devices seen in this survey
	Passes  []int `json:"passes"`  // how many devices were heard in each pass
	// Flooded is how many frames came of senders that there was no room for: then nothing can
	// be said of whether all were found.
	Flooded int `json:"flooded,omitempty"`
	// Unquiet says that somebody went on telling something new until the survey was ended.
	Unquiet  bool `json:"unquiet,omitempty"`
	Believed int  `json:"believed"` // how many devices there are, judged by how well the passes agree; 0: unknown
}

// Run surveys the segment until it has gone quiet or the context ends. Every
// device that is new or told something new is handed to emit, from one
// goroutine. Devices of Known that were not seen are not handed out.
func Run(ctx context.Context, b *bench.Bench, profiles profile.Set, o Options,
	emit func(*device.Found, Progress)) (Progress, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s := &survey{inventory: newInventory(b, profiles, o)}
	defer s.close()
	s.emit = func(f *device.Found) {
		s.progress.Found = len(s.seen)
		emit(f.Clone(), s.progress)
	}
	listener := b.Listen(earDepth, s.wants)
	defer listener.Close()
	err := s.run(ctx, listener)
	cancel()
	s.asking.Wait()
	s.progress.Found = len(s.seen)
	s.progress.Believed, s.progress.Flooded = s.believed(), s.flooded
	return s.progress, err
}

type survey struct {
	*inventory
	progress Progress
	heardIn  []map[address.MAC]bool // by pass
	lastNews time.Time
	pause    time.Duration // between pieces of news, lately
}

// sender puts questions on the segment at the survey's pace.
type sender struct {
	bench *bench.Bench
	limit *rate.Limiter
	count chan int // frames sent since the last word; closed at the end
	err   error    // valid once count is closed
}

// send puts the frames on the segment in a goroutine of its own.
func (s *survey) send(ctx context.Context, limit *rate.Limiter, p *pass, stage int) *sender {
	out := &sender{bench: s.bench, limit: limit, count: make(chan int)}
	go func() {
		defer close(out.count)
		n := 0
		for frame := range s.questions(p, stage) {
			if out.limit.Wait(ctx) != nil {
				return // stopped
			}
			if out.err = out.bench.Send(frame); out.err != nil {
				return
			}
			if n++; n%100 == 0 {
				select {
				case out.count <- n:
					n = 0
				case <-ctx.Done():
					return
				}
			}
		}
		select {
		case out.count <- n:
		case <-ctx.Done():
		}
	}()
	return out
}

// run makes pass after pass. It owns all that was found; nothing else touches
// it while it runs.
func (s *survey) run(ctx context.Context, listener *bench.Listener) error {
	pace := s.options.Pace
	if pace <= 0 {
		pace = Normal
	}
	// A burst of 10 ms keeps the pace exact where timers are coarse.
	limit := rate.NewLimiter(rate.Limit(pace), max(1, pace/100))
	for len(s.heardIn) < mostPasses {
		before := s.heardOf()
		s.lastNews = time.Time{} // the wait between passes says nothing of how fast news comes
		s.heardIn = append(s.heardIn, map[address.MAC]bool{})
		s.progress.Passes = append(s.progress.Passes, 0)
		p, err := s.newPass(ctx)
		if err != nil {
			return err
		}
		expected := 0
		if n := len(s.heardIn); n <= leastPasses {
			expected = len(p.sweep)
			s.progress.Planned = s.progress.Probes + (count(s.questions(p, sourceless))+expected)*(leastPasses-n+1)
		}
		if err := s.listen(ctx, listener, s.send(ctx, limit, p, sourceless), sourceWait); err != nil {
			return err
		}
		if p.wanted = s.unclaimed(p.wanted); len(p.wanted) > 0 {
			s.progress.Planned += len(p.wanted)
			if err := s.listen(ctx, listener, s.send(ctx, limit, p, probing), sourceWait); err != nil {
				return err
			}
		}
		s.settle()
		for _, stage := range []int{sourced, further} {
			p.sources, p.nets = slices.Clone(s.sources), slices.Clone(s.nets)
			n := count(s.questions(p, stage))
			if n == 0 && stage == further {
				continue // nobody told anything to follow up
			}
			s.progress.Planned += n - expected
			expected = 0
			if err := s.listen(ctx, listener, s.send(ctx, limit, p, stage), passGap); err != nil {
				return err
			}
			p.known = s.snapshot()
		}
		// A pass that brought nobody new says that the passes before missed
		// nobody; one that did says that it may have missed some itself.
		if len(s.heardIn) >= leastPasses && s.heardOf() == before {
			break
		}
	}
	return s.listen(ctx, listener, nil, 0)
}

func count(frames func(func([]byte) bool)) (n int) {
	for range frames {
		n++
	}
	return n
}

// listen takes in what comes while a sender works and for a while after. With no
// sender it takes in what comes until the segment is quiet.
func (s *survey) listen(ctx context.Context, listener *bench.Listener, out *sender, after time.Duration) error {
	var sent <-chan int
	untilQuiet := out == nil
	wait, end := time.NewTimer(s.quiet()), time.NewTimer(mostUnquiet)
	defer wait.Stop()
	defer end.Stop()
	defer s.catchUp(true)
	told := map[address.MAC]int{} // pieces of news
	if out != nil {
		sent = out.count
	}
	for {
		select {
		case f := <-listener.Frames():
			mac, news := s.hear(ctx, f)
			if n := len(s.heardIn) - 1; !mac.IsZero() && !s.heardIn[n][mac] {
				s.heardIn[n][mac] = true
				s.progress.Passes[n]++
			}
			if news && untilQuiet {
				told[mac]++
			}
			s.news(news && told[mac] <= mostNews)
		case a := <-s.answers:
			s.news(s.take(ctx, a))
		case n, more := <-sent:
			s.progress.Probes += n
			s.progress.Planned = max(s.progress.Probes, s.progress.Planned)
			if !more {
				if out.err != nil {
					return out.err
				}
				sent = nil
				wait.Reset(after)
			}
			continue
		case <-wait.C:
			if len(listener.Frames()) > 0 { // a busy machine has not come to it yet
				wait.Reset(time.Millisecond)
				continue
			}
			if sent == nil && (!untilQuiet || s.open == 0) {
				return nil
			}
			wait.Reset(s.quiet())
			continue
		case <-end.C:
			if untilQuiet {
				s.progress.Unquiet = true
				return nil
			}
			continue
		case <-s.bench.Done():
			return bench.ErrGone
		case <-ctx.Done():
			return ctx.Err()
		}
		if untilQuiet && s.lastNews.After(time.Now().Add(-time.Millisecond)) {
			wait.Reset(s.quiet())
		}
	}
}

// news keeps count of how fast news comes.
func (s *survey) news(is bool) {
	if !is {
		return
	}
	now := time.Now()
	if !s.lastNews.IsZero() {
		s.pause = (3*s.pause + now.Sub(s.lastNews)) / 4
	}
	s.lastNews = now
}

// quiet is how long nothing new must come before the survey ends.
func (s *survey) quiet() time.Duration {
	return min(max(4*s.pause, quietLeast), quietMost)
}

// believed reckons how many devices there are from how many two passes heard,
// each and both (Chapman's estimator of capture and recapture).
func (s *survey) believed() int {
	if len(s.heardIn) < 2 {
		return 0
	}
	a, b := s.heardIn[0], s.heardIn[1]
	both := 0
	for mac := range a {
		if b[mac] {
			both++
		}
	}
	estimate := (len(a)+1)*(len(b)+1)/(both+1) - 1
	return max(estimate, len(s.seen))
}

// newPass prepares the questions of a pass.
func (s *survey) newPass(ctx context.Context) (*pass, error) {
	link, err := s.bench.Link(ctx)
	return &pass{from: s.bench.MAC(), six: s.six, xid: s.xid, link: link, wanted: s.candidates(), sweep: s.sweep()}, err
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
		for _, a := range append(p.Factory.Address.List(), p.Factory.Service.List()...) {
			add(a)
		}
	}
	for _, mac := range slices.SortedFunc(maps.Keys(s.found), func(a, b address.MAC) int {
		return slices.Compare(a[:], b[:])
	}) {
		for _, a := range s.found[mac].Addresses() {
			add(a) // known from before, or heard by now
		}
	}
	for _, a := range s.options.Sweep {
		add(a)
	}
	return list
}
