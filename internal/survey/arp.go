package survey

import (
	"iter"
	"net/netip"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/lan/bench"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/ethernet"
)

// arpProber asks who has each address, claiming none itself (RFC 5227 probe):
// hosts of any subnet answer, and every holder of a shared address does.
var arpProber = prober{
	protocol: "arp",
	frames: func(from address.MAC, sweep []netip.Addr) iter.Seq[[]byte] {
		return func(yield func([]byte) bool) {
			for _, a := range sweep {
				if !yield(arp.Probe(from, address.Broadcast, a)) {
					return
				}
			}
		}
	},
	read: func(f ethernet.Frame) (map[string]string, bool) {
		p, ok := bench.ARP(f)
		if !ok {
			return nil, false
		}
		if p.SenderIP.IsUnspecified() {
			return nil, true // a probe of its own: it is here, without an address yet
		}
		return map[string]string{device.Address: p.SenderIP.String()}, true
	},
}
