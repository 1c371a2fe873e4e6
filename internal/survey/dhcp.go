package survey

import (
	"iter"

	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/wire/dhcp"
)

// dhcpProber hears who asks for an address, and makes whoever hands addresses
// out show itself (RFC 2131). It takes none of the offers.
var dhcpProber = prober{
	protocol: "dhcp",
	writes:   true,
	ask: func(p *pass) iter.Seq[[]byte] {
		return func(yield func([]byte) bool) { yield(dhcp.Ask(p.from, p.xid)) }
	},
	read: func(h *heard) []device.Sighting {
		if !h.isUDP {
			return nil
		}
		client, server := h.udp.Destination.Port() == dhcp.ServerPort, h.udp.Destination.Port() == dhcp.ClientPort
		if !client && !server {
			return nil
		}
		m, err := dhcp.Parse(h.udp.Payload)
		if err != nil {
			return nil
		}
		switch {
		case server && (m.Kind == dhcp.Offer || m.Kind == dhcp.ACK):
			return []device.Sighting{h.told(fact.Gives, "dhcp", fact.Address, text(h.udp.Source.Addr()))}
		case client && m.Client == h.Source && (m.Kind == dhcp.Discover || m.Kind == dhcp.Request &&
			!m.Current.IsValid()):
			return []device.Sighting{h.told(fact.Asks, "dhcp", fact.Host, m.Host, fact.Class, m.Class)}
		case client && m.Client == h.Source:
			return []device.Sighting{h.told(fact.Address, text(m.Current), fact.Host, m.Host, fact.Class, m.Class)}
		}
		return nil
	},
}
