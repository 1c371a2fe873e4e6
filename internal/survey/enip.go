package survey

import (
	"fmt"
	"iter"
	"net/netip"

	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/wire/enip"
	"redstart/internal/wire/ip"
)

// enipPort is where answers come to.
const enipPort = 42222

// enipProber asks EtherNet/IP devices for their identity (CIP Networks Library,
// Volume 2, 2-4.3).
var enipProber = prober{
	protocol: "enip",
	stage:    sourced,
	is:       over(enip.Port, enip.IsRequest),
	ask: func(p *pass) iter.Seq[[]byte] {
		return p.overUDP(enipPort, netip.AddrPortFrom(ip.Broadcast, enip.Port), 0, enip.Request())
	},
	read: func(h *heard) []device.Sighting {
		if !h.isUDP || h.udp.Source.Port() != enip.Port {
			return nil
		}
		i, err := enip.Parse(h.udp.Payload)
		if err != nil {
			return nil
		}
		state := device.Factory
		if i.Configured() {
			state = device.Set
		}
		return []device.Sighting{h.told(fact.Model, i.Product, fact.Serial, fmt.Sprintf("%08X", i.Serial),
			fact.Firmware, i.Revision(),
			fact.VendorID, fmt.Sprintf("cip %d", i.Vendor), fact.State, state)}
	},
}
