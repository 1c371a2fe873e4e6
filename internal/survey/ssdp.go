package survey

import (
	"iter"

	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/wire/ssdp"
)

// ssdpPort is where answers come to.
const ssdpPort = 41900

// ssdpProber searches for root devices (UPnP Device Architecture 2.0, 1).
var ssdpProber = prober{
	protocol: "ssdp",
	stage:    sourced,
	is:       over(ssdp.Group.Port(), ssdp.IsSearch),
	ask: func(p *pass) iter.Seq[[]byte] {
		return p.overUDP(ssdpPort, ssdp.Group, 2, ssdp.Search())
	},
	read: func(h *heard) []device.Sighting {
		if !h.isUDP || h.udp.Destination.Port() != ssdpPort && h.udp.Destination != ssdp.Group {
			return nil
		}
		m, err := ssdp.Parse(h.udp.Payload)
		if err != nil || m.Leaving {
			return nil
		}
		return []device.Sighting{h.told(fact.Server, m.Server, fact.Service, "upnp")}
	},
}
