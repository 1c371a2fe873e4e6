package survey

import (
	"iter"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/lan/bench"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/ethernet"
)

// arpProber asks who has each address, claiming none itself (RFC 5227 probe):
// hosts of any subnet answer, and every holder of a shared address does. It
// hears announcements and other hosts' conflict probes as well.
var arpProber = prober{
	protocol: "arp",
	is: func(h *heard) bool {
		p, err := arp.Parse(h.Payload)
		return h.Type == ethernet.TypeARP && err == nil && !p.IsAnnouncement()
	},
	ask: func(p *pass) iter.Seq[[]byte] {
		return func(yield func([]byte) bool) {
			for _, a := range p.sweep {
				if !yield(arp.Probe(p.from, address.Broadcast, a)) {
					return
				}
			}
		}
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
