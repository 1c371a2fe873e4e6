package survey

import (
	"iter"

	"redstart/internal/core/device"
	"redstart/internal/wire/mdns"
)

// mdnsProber asks what is offered over DNS-SD (RFC 6762, RFC 6763).
var mdnsProber = prober{
	protocol: "mdns",
	stage:    sourced,
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
		own := h.told(device.Name, a.Host, device.Model, a.Text["model"], device.Serial, a.Text["serial"], device.Vendor, a.Text["maker"], device.Firmware, a.Text["firmware"])
		if h.udp.TTL == mdns.TTL && h.packet.Source.Is4() { // RFC 6762, 11: it crossed no router
			own.Facts[device.Address] = h.packet.Source.String()
		}
		return append([]device.Sighting{own}, h.also(device.Service, a.Kinds...)...)
	},
}
