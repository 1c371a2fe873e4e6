package survey

import (
	"iter"

	"redstart/internal/core/device"
	"redstart/internal/wire/dcp"
	"redstart/internal/wire/ethernet"
)

// identifyDelay spreads the stations' answers over 10 ms times this.
const identifyDelay = 1

// dcpProber asks all stations to identify themselves (IEC 61158-6-10).
var dcpProber = prober{
	protocol: "dcp",
	is: func(h *heard) bool {
		p, err := dcp.Parse(h.Payload)
		return h.Type == ethernet.TypePROFINET && err == nil && p.ServiceType == dcp.TypeRequest &&
			(p.ServiceID == dcp.Identify || p.ServiceID == dcp.Get)
	},
	ask: func(p *pass) iter.Seq[[]byte] {
		return func(yield func([]byte) bool) {
			yield(dcp.IdentifyAll(p.xid, identifyDelay).Frame(p.from, dcp.IdentifyMulticast))
		}
	},
	read: func(h *heard) []device.Sighting {
		if h.Type != ethernet.TypePROFINET {
			return nil
		}
		p, err := dcp.Parse(h.Payload)
		if err != nil || p.ServiceType != dcp.TypeSuccess {
			return nil
		}
		s := h.told()
		s.Facts = p.Station()
		return []device.Sighting{s}
	},
}
