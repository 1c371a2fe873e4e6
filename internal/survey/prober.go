package survey

import (
	"iter"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
)

// Stages of a pass.
const (
	sourceless = iota // needs no address of ours to ask from
	probing           // whether addresses that we may ask from are free
	sourced           // needs one
	further           // needs one, and follows up what was told in this pass
)

// prober is one way of finding. A new one is one file and a line in probers.
type prober struct {
	protocol string
	// ask makes the questions of one pass; nil for a prober that only listens.
	ask func(*pass) iter.Seq[[]byte]
	// is recognises its own questions, and what else of its protocol only asks: of a service that
	// only looks nothing else gets out. nil for one that asks nothing, or that writes.
	is func(*heard) bool
	// read understands an answer, or any other frame, and gives nil when it does
	// not; nil for a prober whose answers another one reads.
	read func(*heard) []device.Sighting
	// stage of the pass in which it asks.
	stage int
	// writes says that the question makes somebody keep something in mind, such
	// as an offer; it is left out when only looking.
	writes bool
}

// probers are all ways of finding, what needs no address of ours first.
var probers = []prober{
	sourcesProber, freeProber, dcpProber, nodesProber, arpProber, lldpProber, dhcpProber,
	mdnsProber, wsdProber, ssdpProber, bacnetProber, bacnetNamesProber, enipProber, snmpProber,
}

// Question reports whether a frame only asks, or answers who we are ourselves: some prober knows
// it as its own.
func Question(frame []byte) bool {
	f, err := ethernet.Parse(frame)
	if err != nil {
		return false
	}
	h := hear(f, time.Time{})
	return slices.ContainsFunc(probers, func(p prober) bool { return p.is != nil && p.is(h) })
}

// over makes what recognises questions to a UDP port.
func over(port uint16, asks func(payload []byte) bool) func(*heard) bool {
	return func(h *heard) bool { return h.isUDP && h.udp.Destination.Port() == port && asks(h.udp.Payload) }
}

// pass is what questions are made from.
type pass struct {
	from    address.MAC
	six     netip.Addr      // our link-local address, made up for the survey
	xid     uint32          // of this survey
	link    netip.Addr      // ours, good on this link alone
	wanted  []netip.Addr    // we would ask from these, if they are free
	sweep   []netip.Addr    // to ask for over ARP
	sources []netip.Addr    // free addresses to ask from, one in each subnet
	nets    []netip.Prefix  // the subnet of each source
	known   []*device.Found // heard so far, for the stage that follows up
}

// beside gives the address of ours to ask from for an address: in its subnet, where we have one.
func (p *pass) beside(a netip.Addr) netip.Addr {
	for i, source := range p.sources {
		if p.nets[i].Contains(a) {
			return source
		}
	}
	return p.link
}

// overUDP makes the question that goes to a group or to everybody, once from
// every source.
func (p *pass) overUDP(sourcePort uint16, to netip.AddrPort, ttl byte, payload []byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for _, source := range p.sources {
			d := ip.Datagram{Source: netip.AddrPortFrom(source, sourcePort), Destination: to, TTL: ttl,
				Payload: payload}
			if !yield(d.Frame(p.from, ip.GroupMAC(to.Addr()))) {
				return
			}
		}
	}
}

// toDevice makes a question to one device; nil when we have no address in its subnet.
func (p *pass) toDevice(f *device.Found, sourcePort, port uint16, payload []byte) []byte {
	at := f.AddressNow()
	if !at.IsValid() {
		return nil
	}
	for i, source := range p.sources {
		if p.nets[i].Contains(at) {
			return ip.Datagram{Source: netip.AddrPortFrom(source, sourcePort),
				Destination: netip.AddrPortFrom(at, port), Payload: payload}.Frame(p.from, f.MAC)
		}
	}
	return nil
}

// heard is a frame, decoded as far as several probers want it.
type heard struct {
	ethernet.Frame
	at       time.Time
	packet   ip.Packet // the zero value when it is not IP
	udp      ip.Datagram
	isUDP    bool
	protocol string // of the prober that reads it
}

func hear(f ethernet.Frame, at time.Time) *heard {
	h := &heard{Frame: f, at: at}
	if p, err := ip.Parse(f); err == nil {
		h.packet = p
		h.udp, h.isUDP = p.UDP()
	}
	return h
}

// told makes a sighting of the sender from keys and values; empty values say nothing.
func (h *heard) told(pairs ...string) device.Sighting {
	s := device.Sighting{MAC: h.Source, Protocol: h.protocol, At: h.at, Facts: map[string]string{}}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			s.Facts[pairs[i]] = pairs[i+1]
		}
	}
	return s
}

// also is a further value of a key that may have several.
func (h *heard) also(key string, values ...string) (list []device.Sighting) {
	for _, v := range values {
		list = append(list, h.told(key, v))
	}
	return list
}

// read lets every prober understand a frame. What none does still says that its
// sender is there.
func read(f ethernet.Frame, at time.Time) []device.Sighting {
	h := hear(f, at)
	var list []device.Sighting
	for _, p := range probers {
		if h.protocol = p.protocol; p.read != nil {
			list = append(list, p.read(h)...)
		}
	}
	if list == nil {
		h.protocol = "traffic"
		list = []device.Sighting{h.told()}
	}
	return list
}

// text gives an address as text if it is an ordinary one.
func text(a netip.Addr) string {
	if !a.IsValid() || a.IsUnspecified() || a.IsMulticast() {
		return ""
	}
	return a.String()
}
