package survey

import (
	"fmt"
	"iter"

	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/wire/wsd"
)

// wsdPort is where answers come to.
const wsdPort = 43702

// wsdProber asks ONVIF devices to show themselves (WS-Discovery), and reads
// what their scopes say (ONVIF Core Specification, 7.3.2.2).
var wsdProber = prober{
	protocol: "wsd",
	stage:    sourced,
	is: over(wsd.Group.Port(), func(b []byte) bool {
		_, ok := wsd.IsProbe(b)
		return ok
	}),
	ask: func(p *pass) iter.Seq[[]byte] {
		id := fmt.Sprintf("%08x-0000-4000-8000-%x", p.xid, p.from[:])
		return p.overUDP(wsdPort, wsd.Group, 1, wsd.Probe(id))
	},
	read: func(h *heard) (list []device.Sighting) {
		if !h.isUDP || h.udp.Destination.Port() != wsdPort && h.udp.Destination != wsd.Group {
			return nil
		}
		matches, err := wsd.Parse(h.udp.Payload)
		if err != nil {
			return nil
		}
		for _, m := range matches {
			service := ""
			if m.IsONVIF() {
				service = "onvif"
			}
			list = append(list, h.told(fact.Name, m.Scope("name"), fact.Model, m.Scope("hardware"), fact.Location,
				m.Scope("location"), fact.Service, service))
		}
		return list
	},
}
