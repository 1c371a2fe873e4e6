package watch_test

import (
	"context"
	"errors"
	"net/netip"
	"testing"
	"time"

	"redstart/internal/core/address"
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
					_ = a.port.Send(arp.Packet{Operation: arp.Reply, SenderMAC: box, SenderIP: at, TargetMAC: us, TargetIP: netip.IPv4Unspecified()}.Frame(us))
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
	w := watch.New(b, box)
	defer w.Close()
	at, err := w.Find(limited(t, time.Minute), []netip.Addr{old, planned}, false)
	if err != nil || at != planned {
		t.Errorf("%s, %v", at, err)
	}
	a.at <- netip.Addr{}
	absent := watch.New(b, address.MAC{2, 9, 9, 9, 9, 9})
	defer absent.Close()
	if _, err := absent.Find(limited(t, 300*time.Millisecond), []netip.Addr{old}, true); !errors.Is(err, watch.ErrAbsent) {
		t.Errorf("an absent box was found: %v", err)
	}
}

func TestBackAtTheNewAddress(t *testing.T) {
	b, a := stage(t)
	a.at <- old
	w := watch.New(b, box)
	defer w.Close()
	a.at <- netip.Addr{}
	go a.announce(planned)
	if err := w.Back(limited(t, time.Minute), old, planned); err != nil {
		t.Error(err)
	}
}

func TestBackAtTheSameAddressNeedsProofOfARestart(t *testing.T) {
	b, a := stage(t)
	a.at <- planned
	w := watch.New(b, box)
	defer w.Close()
	// It answers all the time: it did not restart.
	if err := w.Back(limited(t, forNever), planned, planned); !errors.Is(err, watch.ErrNoRestart) {
		t.Errorf("a box that stayed: %v", err)
	}
	// Its announcement proves that it started.
	go a.announce(planned)
	if err := w.Back(limited(t, time.Minute), planned, planned); err != nil {
		t.Errorf("a box that announced itself: %v", err)
	}
	// So does a silence, when the announcement was lost.
	a.at <- netip.Addr{}
	returning := time.AfterFunc(1200*time.Millisecond, func() { a.at <- planned })
	defer returning.Stop()
	if err := w.Back(limited(t, time.Minute), planned, planned); err != nil {
		t.Errorf("a box that was silent for a while: %v", err)
	}
}

func TestNeverBackAndBackAtTheOldAddress(t *testing.T) {
	b, a := stage(t)
	a.at <- netip.Addr{}
	w := watch.New(b, box)
	defer w.Close()
	if err := w.Back(limited(t, forNever), old, planned); !errors.Is(err, watch.ErrNoReturn) {
		t.Errorf("a box that stays away: %v", err)
	}
	go a.announce(old)
	if err := w.Back(limited(t, time.Minute), old, planned); !errors.Is(err, watch.ErrOldAddress) {
		t.Errorf("a box at its old address: %v", err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if err := w.Back(ctx, old, planned); !errors.Is(err, context.Canceled) && !errors.Is(err, watch.ErrOldAddress) {
		t.Errorf("a wait that was cut off: %v", err)
	}
}
