package survey

import (
	"iter"
	"net/netip"
	"strconv"
	"strings"

	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/wire/bacnet"
	"redstart/internal/wire/ip"
)

// texts are the properties that tell what a device is.
var texts = map[uint32]string{bacnet.ObjectName: fact.Name, bacnet.ModelName: fact.Model,
	bacnet.VendorName:       fact.Vendor,
	bacnet.FirmwareRevision: fact.Firmware, bacnet.SerialNumber: fact.Serial}

// asked are the same in a fixed order.
var asked = []uint32{bacnet.ModelName, bacnet.ObjectName, bacnet.SerialNumber, bacnet.FirmwareRevision,
	bacnet.VendorName}

// bacnetProber asks every BACnet/IP device, local and behind routers, to show
// itself, and routers to name their networks (ASHRAE 135, 16.10 and 6.4). What is
// behind a router becomes a part of it.
var bacnetProber = prober{
	protocol: "bacnet",
	stage:    sourced,
	is: over(bacnet.Port, func(b []byte) bool {
		m, err := bacnet.Parse(b)
		return err == nil && (m.Kind == bacnet.KindWhoIs || m.Kind == bacnet.KindWhoIsRouter || m.Kind == bacnet.KindRead)
	}),
	ask: func(p *pass) iter.Seq[[]byte] {
		everybody := netip.AddrPortFrom(ip.Broadcast, bacnet.Port)
		return func(yield func([]byte) bool) {
			for _, m := range []bacnet.Message{{Kind: bacnet.KindWhoIs, To: bacnet.Everywhere},
				{Kind: bacnet.KindWhoIsRouter}} {
				for frame := range p.overUDP(bacnet.Port, everybody, 0, m.Frame(true)) {
					if !yield(frame) {
						return
					}
				}
			}
		}
	},
	read: func(h *heard) []device.Sighting {
		if !h.isUDP || h.udp.Source.Port() != bacnet.Port {
			return nil
		}
		m, err := bacnet.Parse(h.udp.Payload)
		if err != nil {
			return nil
		}
		var s device.Sighting
		switch {
		case m.Kind == bacnet.KindIAm:
			s = h.told(fact.Instance, strconv.Itoa(int(m.Instance)), fact.VendorID,
				"bacnet "+strconv.Itoa(int(m.Vendor)))
		case m.Kind == bacnet.KindIAmRouter:
			var names []string
			for _, n := range m.Networks {
				names = append(names, strconv.Itoa(int(n)))
			}
			return append(h.also(fact.Network, names...), h.told())
		case m.Kind == bacnet.KindValue && texts[m.Property] != "":
			s = h.told(texts[m.Property], m.Text)
		default:
			return nil
		}
		s.Part = m.From.String()
		return []device.Sighting{s}
	},
}

// bacnetNamesProber asks who answered for its names (ASHRAE 135, 15.5).
var bacnetNamesProber = prober{
	protocol: "bacnet",
	stage:    further,
	ask: func(p *pass) iter.Seq[[]byte] {
		return func(yield func([]byte) bool) {
			for _, f := range p.known {
				for _, part := range append([]string{""}, f.Parts()...) {
					if !askNames(p, f, part, yield) {
						return
					}
				}
			}
		}
	},
}

// askNames asks for what is not known yet of a device, or of a part of it.
func askNames(p *pass, f *device.Found, part string, yield func([]byte) bool) bool {
	told := f.ValuesOf(part, fact.Instance)
	if len(told) == 0 {
		return true
	}
	instance, err := strconv.ParseUint(told[0], 10, 22)
	to, ok := station(part)
	if err != nil || !ok {
		return true
	}
	for i, property := range asked {
		if len(f.ValuesOf(part, texts[property])) > 0 {
			continue
		}
		m := bacnet.Message{Kind: bacnet.KindRead, To: to, Invoke: byte(i), Instance: uint32(instance),
			Property: property}
		if frame := p.toDevice(f, bacnet.Port, bacnet.Port, m.Frame(false)); frame != nil && !yield(frame) {
			return false
		}
	}
	return true
}

// station is the opposite of bacnet.Station.String.
func station(part string) (bacnet.Station, bool) {
	if part == "" {
		return bacnet.Station{}, true
	}
	network, rest, _ := strings.Cut(part, "/")
	n, err := strconv.ParseUint(network, 10, 16)
	var raw []byte
	for _, octet := range strings.Split(rest, ".") {
		b, err := strconv.ParseUint(octet, 10, 8)
		if err != nil {
			return bacnet.Station{}, false
		}
		raw = append(raw, byte(b))
	}
	return bacnet.Station{Network: uint16(n), Address: string(raw)}, err == nil && n > 0
}
