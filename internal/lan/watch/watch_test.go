package watch_test

import (
	"context"
	"errors"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/profile"
	"redstart/internal/lan"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/segment"
	"redstart/internal/lan/watch"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/ethernet"
)

var (
	us       = address.MAC{2, 0x52, 0x53, 0, 0, 1}
	box      = address.MAC{0x0a, 0x4f, 0x56, 0, 0, 7}
	old      = netip.MustParseAddr("192.168.77.20")
	planned  = netip.MustParseAddr("10.40.8.30")
	forNever = 1500 * time.Millisecond // how long a test waits for what must not happen
)

// actor is a box that answers ARP for one address as long as the test wants.
type actor struct {
	port *segment.Port
	at   chan netip.Addr // where it is from now on; invalid: away
}

func stage(t *testing.T) (*bench.Bench, *actor) {
	t.Helper()
	var s segment.Segment
	b := bench.New(s.Attach(us, 64))
	t.Cleanup(func() { b.Close() })
	a := &actor{s.Attach(box, 64), make(chan netip.Addr)}
	frames, done := make(chan ethernet.Frame), make(chan struct{})
	t.Cleanup(func() { a.port.Close(); <-done })
	go func() {
		defer close(done)
		defer close(frames)
		for {
			raw, err := a.port.Receive()
			if err == lan.ErrClosed {
				return
			}
			if f, err := ethernet.Parse(raw); err == nil {
				frames <- f
			}
		}
	}()
	go func() {
		var at netip.Addr
		for {
			select {
			case at = <-a.at:
			case f, open := <-frames:
				if !open {
					return
				}
				if p, ok := bench.ARP(f); ok && p.TargetIP == at {
					_ = a.port.Send(arp.Packet{Operation: arp.Reply, SenderMAC: box, SenderIP: at, TargetMAC: us,
						TargetIP: netip.IPv4Unspecified()}.Frame(us))
				}
			}
		}
	}()
	return b, a
}

func (a *actor) announce(at netip.Addr) {
	a.at <- at
	_ = a.port.Send(arp.Announcement(box, at))
}

func limited(t *testing.T, d time.Duration) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), d)
	t.Cleanup(cancel)
	return ctx
}

func TestFindTellsWhereTheBoxIs(t *testing.T) {
	b, a := stage(t)
	a.at <- planned
	w := watch.New(b, box, nil)
	defer w.Close()
	at, err := w.Find(limited(t, time.Minute), []netip.Addr{old, planned}, false)
	if err != nil || at != planned {
		t.Errorf("%s, %v", at, err)
	}
	a.at <- netip.Addr{}
	absent := watch.New(b, address.MAC{2, 9, 9, 9, 9, 9}, nil)
	defer absent.Close()
	if _, err := absent.Find(limited(t, 300*time.Millisecond), []netip.Addr{old}, true); !errors.Is(err,
		watch.ErrAbsent) {
		t.Errorf("an absent box was found: %v", err)
	}
}

// model is a family that shows its restarts in some ways, in the pace of a test.
func model(shows ...string) *profile.Profile {
	return &profile.Profile{Restart: profile.RestartTimes{Takes: profile.Duration(time.Second),
		AtMost: profile.Duration(time.Minute), Silent: profile.Duration(time.Second), Shows: shows}}
}

// teller is what a box tells of itself; it may change while it is asked.
type teller struct {
	mu    sync.Mutex
	facts map[string]string
	err   error
}

func (x *teller) set(facts map[string]string, err error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.facts, x.err = facts, err
}

func (x *teller) tell(context.Context, netip.Addr) (map[string]string, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.facts, x.err
}

func TestARestartThatIsShown(t *testing.T) {
	for name, c := range map[string]struct {
		shows  []string
		before map[string]string
		during func(a *actor, x *teller)
		want   string // of the evidence, or the error
		failed error
	}{
		"silent for long": {nil, nil, func(a *actor, _ *teller) {
			a.at <- netip.Addr{}
			time.AfterFunc(1300*time.Millisecond, func() { a.at <- planned })
		}, "it answered nothing for", nil},
		"silent for a moment": {nil, nil, func(a *actor, _ *teller) {
			a.at <- netip.Addr{}
			time.AfterFunc(300*time.Millisecond, func() { a.announce(planned) })
		}, "", watch.ErrNoRestart},
		"never gone": {nil, nil, func(a *actor, _ *teller) {
			a.announce(planned)
		}, "", watch.ErrNoRestart},
		"faster than any silence, counted": {[]string{"starts"}, map[string]string{"starts": "4"},
			func(_ *actor, x *teller) {
				x.set(map[string]string{"starts": "5"}, nil)
			}, "from 4 to 5", nil},
		"its up-time began anew": {[]string{"uptime"}, map[string]string{"uptime": "900.0"}, func(_ *actor, x *teller) {
			x.set(map[string]string{"uptime": "0.4"}, nil)
		}, "its up-time began anew", nil},
		"its up-time went on": {[]string{"uptime"}, map[string]string{"uptime": "900.0"}, func(_ *actor, x *teller) {
			x.set(map[string]string{"uptime": "990.0"}, nil)
		}, "", watch.ErrNoRestart},
		"away, but its up-time went on": {[]string{"uptime"}, map[string]string{"uptime": "900.0"},
			func(a *actor, x *teller) {
				a.at <- netip.Addr{}
				x.set(map[string]string{"uptime": "990.0"}, nil)
				time.AfterFunc(1300*time.Millisecond, func() { a.at <- planned })
			}, "", watch.ErrNoRestart},
		"it refuses who asks": {[]string{"uptime"}, map[string]string{"uptime": "900.0"}, func(_ *actor, x *teller) {
			x.set(nil, errFatal)
		}, "", errFatal},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b, a := stage(t)
			a.at <- planned
			x := &teller{facts: c.before}
			r := &watch.Restart{Fatal: func(err error) bool { return err == errFatal }}
			if c.shows != nil {
				r.Tell = x.tell
			}
			defer r.Close()
			r.Begin(limited(t, time.Minute), b, box, model(c.shows...), planned, planned, 24, nil)
			c.during(a, x)
			out, err := r.Wait(limited(t, time.Minute))
			if !errors.Is(err, c.failed) || !strings.Contains(out.Evidence, c.want) ||
				(c.failed == nil) != (out.Evidence != "") {
				t.Errorf("shown by %q, %v", out.Evidence, err)
			}
			if out.At != planned || !out.Here {
				t.Errorf("it is at %s, here %t", out.At, out.Here)
			}
		})
	}
}

var errFatal = errors.New("the login was refused")

// A box that takes its new address at once has not restarted, whatever it announces.
func TestANewAddressIsNoRestart(t *testing.T) {
	b, a := stage(t)
	a.at <- old
	r := &watch.Restart{}
	defer r.Close()
	r.Begin(limited(t, time.Minute), b, box, model(), old, planned, 24, nil)
	a.announce(planned)
	if out, err := r.Wait(limited(t, time.Minute)); !errors.Is(err, watch.ErrNoRestart) || out.At != planned {
		t.Errorf("%+v, %v", out, err)
	}
}

// A box that goes dark while it is asked about its up-time is gone when the time is
// up, not "there".
func TestGoneWhileItIsAsked(t *testing.T) {
	b, a := stage(t)
	a.at <- planned
	r := &watch.Restart{}
	defer r.Close()
	p := model("uptime")
	p.Restart.AtMost = profile.Duration(forNever)
	r.Begin(limited(t, time.Minute), b, box, p, planned, planned, 24, nil)
	r.Tell = func(ctx context.Context, _ netip.Addr) (map[string]string, error) {
		a.at <- netip.Addr{}
		<-ctx.Done()
		return nil, ctx.Err()
	}
	if out, err := r.Wait(limited(t, time.Minute)); !errors.Is(err, watch.ErrNoReturn) || out.Here {
		t.Errorf("it is said to be here: %+v, %v", out, err)
	}
}

// The answer of a box that went is not waited for; that of a box that is there is.
func TestTheAnswerOfABoxThatWent(t *testing.T) {
	b, a := stage(t)
	for name, to := range map[string]netip.Addr{"dark": {}, "at its new address": planned} {
		a.at <- old
		r := &watch.Restart{}
		r.Begin(limited(t, time.Minute), b, box, model(), old, planned, 24, nil)
		err := r.During(limited(t, time.Minute), func(ctx context.Context) error {
			a.at <- to
			<-ctx.Done()
			return errLost
		})
		if !errors.Is(err, errLost) {
			t.Errorf("%s: %v", name, err)
		}
		r.Close()
	}
	a.at <- old
	r := &watch.Restart{}
	defer r.Close()
	r.Begin(limited(t, time.Minute), b, box, model(), old, planned, 24, nil)
	if err := r.During(limited(t, time.Minute), func(ctx context.Context) error {
		select {
		case <-ctx.Done():
			return errLost
		case <-time.After(forNever): // a slow one
			return nil
		}
	}); err != nil {
		t.Errorf("a slow answer was not waited for: %v", err)
	}
}

var errLost = errors.New("no answer")

func TestNeverBackAndBackAtTheOldAddress(t *testing.T) {
	b, a := stage(t)
	a.at <- old
	begin := func(p *profile.Profile) *watch.Restart {
		r := &watch.Restart{}
		r.Begin(limited(t, time.Minute), b, box, p, old, planned, 24, nil)
		t.Cleanup(r.Close)
		return r
	}
	r := begin(model())
	if out, err := r.Wait(limited(t, time.Minute)); !errors.Is(err, watch.ErrOldAddress) || out.At != old || !out.Here {
		t.Errorf("a box at its old address: %+v, %v", out, err)
	}
	a.at <- netip.Addr{}
	never := model()
	never.Restart.AtMost = profile.Duration(forNever)
	r = begin(never)
	if out, err := r.Wait(limited(t, time.Minute)); !errors.Is(err, watch.ErrNoReturn) || out.Here {
		t.Errorf("a box that stays away: %+v, %v", out, err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := begin(model()).Wait(ctx); !errors.Is(err, context.Canceled) {
		t.Errorf("a wait that was cut off: %v", err)
	}
}
