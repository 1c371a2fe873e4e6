package survey

import (
	"iter"
	"net/netip"

	"redstart/internal/core/address"
	"redstart/internal/wire/dcp"
	"redstart/internal/wire/ethernet"
)

// identifyDelay spreads the stations' answers over 10 ms times this.
const identifyDelay = 1

// dcpProber asks all stations to identify themselves (IEC 61158-6-10).
var dcpProber = prober{
	protocol: "dcp",
	frames: func(from address.MAC, _ []netip.Addr) iter.Seq[[]byte] {
		return func(yield func([]byte) bool) {
			yield(dcp.IdentifyAll(0x52656473, identifyDelay).Frame(from, dcp.IdentifyMulticast))
		}
	},
	read: func(f ethernet.Frame) (map[string]string, bool) {
		if f.Type != ethernet.TypePROFINET {
			return nil, false
		}
		p, err := dcp.Parse(f.Payload)
		if err != nil || p.ServiceType != dcp.TypeSuccess {
			return nil, false
		}
		return p.Station(), true
	},
}
