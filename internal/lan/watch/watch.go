// Package watch follows one box by its MAC on a segment: where it is, when it
// goes, and when it is back, with what shows that it restarted.
package watch

import (
	"context"
	"errors"
	"math/rand/v2"
	"net/netip"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/lan/bench"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/dcp"
	"redstart/internal/wire/dhcp"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
)

// Rounds of questions to a box that is being waited for.
const (
	round      = 100 * time.Millisecond
	watchDepth = 64
)

// ErrAbsent says that a box which was looked for does not show itself.
var ErrAbsent = errors.New("it does not show itself on the segment")

// Watch follows one box. Make it before whatever makes the box go.
type Watch struct {
	bench    *bench.Bench
	mac      address.MAC
	avoid    func(netip.Addr) bool
	listener *bench.Listener
}

// New begins to follow a box, and asks for it from no address that is to be avoided; nil: none. Close
// it when done.
func New(b *bench.Bench, mac address.MAC, avoid func(netip.Addr) bool) *Watch {
	return &Watch{b, mac, avoid, b.ListenTo(mac, watchDepth, func(f ethernet.Frame) bool {
		return f.Type == ethernet.TypeARP || f.Type == ethernet.TypePROFINET ||
			f.Type == ethernet.TypeIPv4 && f.Destination == address.Broadcast
	})}
}

// Close ends it.
func (w *Watch) Close() { w.listener.Close() }

func (w *Watch) ask(ctx context.Context, addresses ...netip.Addr) error {
	for _, a := range addresses {
		from, err := w.bench.Speaker(ctx, bench.Peer{MAC: w.mac, Address: a, Avoid: w.avoid})
		if err != nil {
			return err
		}
		if err := w.bench.Send(arp.Ask(w.bench.MAC(), w.mac, from, a)); err != nil {
			return err
		}
	}
	return nil
}

// Find waits until the box shows itself, and tells its address. It returns
// ErrAbsent at the context's deadline. The address is
// invalid for a box that has none: it says so over DCP, or asks for one over DHCP.
func (w *Watch) Find(ctx context.Context, candidates []netip.Addr, overDCP bool) (netip.Addr, error) {
	next := time.NewTicker(round)
	defer next.Stop()
	xid := rand.Uint32()
	ask := func() error {
		if overDCP {
			if err := w.bench.Send(dcp.GetRequest(xid).Frame(w.bench.MAC(), w.mac)); err != nil {
				return err
			}
		}
		if err := w.ask(ctx, candidates...); ctx.Err() == nil {
			return err
		}
		return nil
	}
	if err := ask(); err != nil {
		return netip.Addr{}, err
	}
	for {
		select {
		case f := <-w.listener.Frames():
			if p, ok := bench.ARP(f); ok && !p.SenderIP.IsUnspecified() {
				return p.SenderIP, nil
			}
			if p, err := dcp.Parse(f.Payload); f.Type == ethernet.TypePROFINET && err == nil && p.Xid == xid &&
				p.ServiceType == dcp.TypeSuccess {
				at, _ := netip.ParseAddr(p.Station()["address"])
				return at, nil
			}
			if asksForAddress(f) {
				return netip.Addr{}, nil
			}
		case <-next.C:
			if err := ask(); err != nil {
				return netip.Addr{}, err
			}
		case <-ctx.Done():
			if context.Cause(ctx) == context.DeadlineExceeded {
				return netip.Addr{}, ErrAbsent
			}
			return netip.Addr{}, ctx.Err()
		}
	}
}

// asksForAddress reports whether a frame is of a host that has no address and asks for one
// (RFC 2131, 4.4.1).
func asksForAddress(f ethernet.Frame) bool {
	p, err := ip.Parse(f)
	if err != nil || !p.Source.IsUnspecified() {
		return false
	}
	d, ok := p.UDP()
	if !ok || d.Destination.Port() != dhcp.ServerPort {
		return false
	}
	m, err := dhcp.Parse(d.Payload)
	return err == nil && m.Client == f.Source && (m.Kind == dhcp.Discover || m.Kind == dhcp.Request)
}
