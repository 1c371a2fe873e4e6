package survey

import (
	"iter"
	"net/netip"
	"slices"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/lan/bench"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/ethernet"
)

// arpProber asks who has each address (RFC 826), from an address of ours beside it: that makes no
// host doubt that it has it, and every holder of a shared address answers. It hears announcements
// and other hosts' conflict probes as well.
var arpProber = prober{
	protocol: "arp",
	is: func(h *heard) bool {
		p, err := arp.Parse(h.Payload)
		return h.Type == ethernet.TypeARP && err == nil && !p.IsAnnouncement()
	},
	stage: sourced,
	ask: func(p *pass) iter.Seq[[]byte] {
		theirs := slices.DeleteFunc(slices.Clone(p.sweep), func(a netip.Addr) bool { return slices.Contains(p.sources, a) })
		return each(theirs, func(a netip.Addr) []byte { return arp.Ask(p.from, address.Broadcast, p.beside(a), a) })
	},
	read: func(h *heard) []device.Sighting {
		p, ok := bench.ARP(h.Frame)
		if !ok {
			return nil
		}
		// A probe of its own says that it is here, without an address yet.
		return []device.Sighting{h.told(fact.Address, text(p.SenderIP))}
	},
}

// sourcesProber asks for the addresses that we want to ask from, to see that they are free: twice, from
// an address of the link alone.
var sourcesProber = prober{
	protocol: "arp",
	ask: func(p *pass) iter.Seq[[]byte] {
		return each(slices.Concat(p.wanted, p.wanted), func(a netip.Addr) []byte {
			return arp.Ask(p.from, address.Broadcast, p.link, a)
		})
	},
}

// freeProber probes for those that nobody said to have (RFC 5227, 2.1.1): some hosts answer that alone.
var freeProber = prober{
	protocol: "arp",
	stage:    probing,
	ask: func(p *pass) iter.Seq[[]byte] {
		return each(p.wanted, func(a netip.Addr) []byte { return arp.Probe(p.from, address.Broadcast, a) })
	},
}

func each(list []netip.Addr, frame func(netip.Addr) []byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for _, a := range list {
			if !yield(frame(a)) {
				return
			}
		}
	}
}
