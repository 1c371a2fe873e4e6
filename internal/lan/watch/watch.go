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
	"redstart/internal/wire/ethernet"
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
	listener *bench.Listener
}

// New begins to follow a box. Close it when done.
func New(b *bench.Bench, mac address.MAC) *Watch {
	return &Watch{b, mac, b.ListenTo(mac, watchDepth, func(f ethernet.Frame) bool {
		return f.Type == ethernet.TypeARP || f.Type == ethernet.TypePROFINET
	})}
}

// Close ends it.
func (w *Watch) Close() { w.listener.Close() }

func (w *Watch) ask(addresses ...netip.Addr) error {
	for _, a := range addresses {
		if err := w.bench.Send(arp.Probe(w.bench.MAC(), w.mac, a)); err != nil {
			return err
		}
	}
	return nil
}

// Find waits until the box shows itself, and tells its address. It returns
// ErrAbsent at the context's deadline. The address is
// invalid for a box that is there over DCP but has none.
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
		return w.ask(candidates...)
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
