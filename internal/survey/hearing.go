package survey

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/fact"
	"redstart/internal/lan"
	"redstart/internal/wire/ethernet"
)

// storm is from where on so many broadcasts a second are too many.
const storm = 500

// Hearing is what an interface hears when nothing is sent.
type Hearing struct {
	Frames     int
	Senders    int
	Broadcasts float64 // a second
	Storm      bool
	Subnets    []netip.Prefix // /24s of the addresses heard
	Servers    []netip.Addr   // that hand out addresses over DHCP
}

// Hear listens at a port until the context ends, and closes it. It sends nothing.
func Hear(ctx context.Context, p lan.Port) Hearing {
	unhook := context.AfterFunc(ctx, func() { p.Close() })
	defer unhook()
	began := time.Now()
	h := Hearing{Subnets: []netip.Prefix{}, Servers: []netip.Addr{}}
	senders := map[address.MAC]bool{}
	groups := 0
	for {
		raw, err := p.Receive()
		if err == lan.ErrClosed {
			break
		}
		f, err := ethernet.Parse(raw)
		if err != nil {
			continue
		}
		h.Frames++
		if len(senders) < MostFound { // a flood makes up any number
			senders[f.Source] = true
		}
		if f.Destination.IsGroup() {
			groups++
		}
		for _, s := range read(f, began) {
			a, err := netip.ParseAddr(s.Facts[fact.Address])
			if err != nil {
				continue
			}
			if n, err := a.Prefix(24); err == nil && !slices.Contains(h.Subnets, n) && len(h.Subnets) < 32 {
				h.Subnets = append(h.Subnets, n)
			}
			if s.Facts[fact.Gives] != "" && !slices.Contains(h.Servers, a) && len(h.Servers) < 32 {
				h.Servers = append(h.Servers, a)
			}
		}
	}
	h.Senders = len(senders)
	h.Broadcasts = float64(groups) / max(time.Since(began).Seconds(), 0.1)
	h.Storm = h.Broadcasts > storm
	return h
}
