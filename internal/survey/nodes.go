package survey

import (
	"iter"

	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/wire/ndp"
)

// nodesProber asks all IPv6 nodes for an echo (RFC 4443; RFC 4291, 2.7.1): boxes
// whose IPv4 address nobody knows, or that have none, answer from their
// link-local address.
var nodesProber = prober{
	protocol: "icmp6",
	is: func(h *heard) bool {
		_, err := ndp.Parse(h.packet)
		return err == nil
	},
	ask: func(p *pass) iter.Seq[[]byte] {
		return func(yield func([]byte) bool) {
			_ = yield(ndp.Probe(p.from, p.six)) && yield(ndp.Echo(p.from, p.six, uint16(p.xid), 1))
		}
	},
	read: func(h *heard) []device.Sighting {
		// A link-local source never crossed a router: it is the sender's own.
		if a := h.packet.Source; a.Is6() && a.IsLinkLocalUnicast() {
			return []device.Sighting{h.told(fact.Address6, a.String())}
		}
		if m, err := ndp.Parse(h.packet); err == nil && m.Target.IsLinkLocalUnicast() &&
			h.packet.Source.IsUnspecified() {
			return []device.Sighting{h.told()} // it wants the address, and may not get it
		}
		return nil
	},
}
