package survey

import (
	"iter"

	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/wire/mdns"
)

// mdnsProber asks what is offered over DNS-SD (RFC 6762, RFC 6763).
var mdnsProber = prober{
	protocol: "mdns",
	stage:    sourced,
	is:       over(mdns.Group.Port(), mdns.IsQuestion),
	ask: func(p *pass) iter.Seq[[]byte] {
		return p.overUDP(mdns.Group.Port(), mdns.Group, mdns.TTL, mdns.Question())
	},
	read: func(h *heard) []device.Sighting {
		if !h.isUDP || h.udp.Source.Port() != mdns.Group.Port() {
			return nil
		}
		a, err := mdns.Parse(h.udp.Payload)
		if err != nil {
			return nil
		}
		own := h.told(fact.Name, a.Host, fact.Model, a.Text["model"], fact.Serial, a.Text["serial"], fact.Vendor,
			a.Text["maker"], fact.Firmware, a.Text["firmware"])
		if h.udp.TTL == mdns.TTL && h.packet.Source.Is4() { // RFC 6762, 11: it crossed no router
			own.Facts[fact.Address] = h.packet.Source.String()
		}
		return append([]device.Sighting{own}, h.also(fact.Service, a.Kinds...)...)
	},
}
