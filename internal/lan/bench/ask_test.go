package bench_test

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/segment"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/ethernet"
)

// host is somebody with an address, who notes what makes him doubt that it is his.
type host struct {
	mac    address.MAC
	at     netip.Addr
	shy    bool // answers probes alone
	greedy bool // answers for every address
	mu     sync.Mutex
	probed int
	robbed int // somebody else spoke from it
}

// plugIn has the host answer until the test ends.
func (h *host) plugIn(t *testing.T, wire *segment.Segment) {
	t.Helper()
	port := wire.Attach(h.mac, 256)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for {
			raw, err := port.Receive()
			if err != nil {
				return
			}
			frame, err := ethernet.Parse(raw)
			if err != nil {
				continue
			}
			p, ok := bench.ARP(frame)
			if !ok {
				continue
			}
			h.mu.Lock()
			if p.IsProbe() && p.TargetIP == h.at {
				h.probed++
			}
			if p.SenderIP == h.at && p.SenderMAC != h.mac {
				h.robbed++
			}
			h.mu.Unlock()
			if p.Operation == arp.Request && (h.greedy || p.TargetIP == h.at && (!h.shy || p.IsProbe())) {
				_ = port.Send(p.Answer(h.mac)) // the segment is gone: so is the test
			}
		}
	}()
	t.Cleanup(func() {
		_ = port.Close()
		<-ended
	})
}

func (h *host) doubts() (probed, robbed int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.probed, h.robbed
}

// Whoever is asked for what he has, or sits where we would like to speak from, never hears a probe
// for it: DHCP clients give their address up when they hear two (RFC 5227, 2.4). Who answers nothing
// but probes hears one in ten seconds.
func TestNobodyIsMadeToDoubtHisAddress(t *testing.T) {
	wire := &segment.Segment{}
	var hosts []*host
	for n := byte(1); n <= 4; n++ { // every neighbour that is near
		h := &host{mac: address.MAC{2, 7, 7, 7, 7, n}, at: netip.AddrFrom4([4]byte{10, 9, 8, n})}
		h.plugIn(t, wire)
		hosts = append(hosts, h)
	}
	shy := &host{mac: address.MAC{2, 7, 7, 7, 8, 1}, at: netip.MustParseAddr("10.9.8.6"), shy: true}
	shy.plugIn(t, wire)
	b := bench.New(wire.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 1024))
	t.Cleanup(func() { _ = b.Close() })
	first := bench.Peer{MAC: hosts[0].mac, Address: hosts[0].at}
	for range 3 {
		if here, err := b.Holds(t.Context(), first); err != nil || !here {
			t.Fatal(here, err)
		}
		if list, err := b.Holders(t.Context(), first); err != nil || !slices.Equal(list, []address.MAC{first.MAC}) {
			t.Fatal(list, err)
		}
		if list, err := b.Free(t.Context(), first); err != nil || !slices.Equal(list, []address.MAC{first.MAC}) {
			t.Fatal(list, err)
		}
		c, err := b.Open(t.Context(), first)
		if err != nil {
			t.Fatal(err)
		}
		if c.Source() == shy.at || slices.ContainsFunc(hosts, func(h *host) bool { return h.at == c.Source() }) {
			t.Errorf("%s is spoken from, and somebody has it", c.Source())
		}
		c.Close()
	}
	for _, h := range hosts {
		if probed, robbed := h.doubts(); probed != 0 || robbed != 0 {
			t.Errorf("%s was probed for %d times, and spoken from %d times", h.at, probed, robbed)
		}
	}
	if list, err := b.Free(t.Context(), bench.Peer{Address: shy.at}); err != nil || len(list) > 1 {
		t.Error(list, err)
	}
	if probed, robbed := shy.doubts(); probed != 1 || robbed != 0 {
		t.Errorf("%s was probed for %d times within ten seconds, and spoken from %d times", shy.at, probed, robbed)
	}
}

// An address that we speak from is left to whoever takes it.
func TestAnAddressIsLeftToWhoeverTakesIt(t *testing.T) {
	wire := &segment.Segment{}
	h := &host{mac: address.MAC{2, 7, 7, 7, 7, 1}, at: netip.MustParseAddr("10.9.8.1")}
	h.plugIn(t, wire)
	b := bench.New(wire.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 1024))
	t.Cleanup(func() { _ = b.Close() })
	peer := bench.Peer{MAC: h.mac, Address: h.at}
	before, giveBack, err := b.Borrow(t.Context(), peer)
	if err != nil {
		t.Fatal(err)
	}
	giveBack()
	late := &host{mac: address.MAC{2, 7, 7, 7, 7, 2}, at: before}
	late.plugIn(t, wire)
	heard := b.ListenTo(late.mac, 8, nil)
	defer heard.Close()
	port := wire.Attach(late.mac, 8)
	t.Cleanup(func() { _ = port.Close() })
	if err := port.Send(arp.Announcement(late.mac, late.at)); err != nil {
		t.Fatal(err)
	}
	<-heard.Frames()
	after, giveBack, err := b.Borrow(t.Context(), peer)
	if err != nil {
		t.Fatal(err)
	}
	giveBack()
	if _, robbed := late.doubts(); after == before || robbed != 0 {
		t.Errorf("%s, before %s; its holder heard us speak from it %d times", after, before, robbed)
	}
}

// Somebody who answers for every address keeps nobody from being asked.
func TestSomebodyAnswersForEveryAddress(t *testing.T) {
	t.Parallel()
	wire := &segment.Segment{}
	h := &host{mac: address.MAC{2, 7, 7, 7, 7, 1}, at: netip.MustParseAddr("10.9.8.1")}
	h.plugIn(t, wire)
	(&host{mac: address.MAC{2, 7, 7, 7, 7, 9}, at: netip.MustParseAddr("10.9.8.9"), greedy: true}).plugIn(t, wire)
	b := bench.New(wire.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 1024))
	t.Cleanup(func() { _ = b.Close() })
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute) // every address of the /24 takes longer
	defer cancel()
	if list, err := b.Holders(ctx, bench.Peer{Address: h.at}); err != nil || len(list) != 2 {
		t.Errorf("%v, %v", list, err)
	}
}
