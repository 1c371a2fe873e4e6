package ndp_test

import (
	"net/netip"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/wire/bytesof"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
	"redstart/internal/wire/ndp"
)

var us = address.MAC{0x02, 0x52, 0x53, 0, 0, 1}

func parse(t *testing.T, raw []byte) (ip.Packet, ndp.Message) {
	t.Helper()
	f, err := ethernet.Parse(raw)
	if err != nil {
		t.Fatal(err)
	}
	p, err := ip.Parse(f)
	if err != nil {
		t.Fatal(err)
	}
	m, err := ndp.Parse(p)
	if err != nil {
		t.Fatal(err)
	}
	if got := p.Checksum(p.Payload); got != 0 {
		t.Errorf("the checksum is wrong by %#x", got)
	}
	return p, m
}

func TestMessages(t *testing.T) {
	ours, asker := netip.MustParseAddr("fe80::5253:1"), netip.MustParseAddr("fe80::9")
	p, m := parse(t, ndp.Echo(us, ours, 7, 1))
	if m.Type != ndp.EchoRequest || p.Destination != ndp.AllNodes || p.Source != ours {
		t.Errorf("%+v %+v", p, m)
	}
	p, m = parse(t, ndp.Probe(us, ours))
	if m.Type != ndp.Solicitation || m.Target != ours || !p.Source.IsUnspecified() ||
		p.Destination != netip.MustParseAddr("ff02::1:ff53:1") || !m.Link.IsZero() {
		t.Errorf("%+v %+v", p, m)
	}
	p, m = parse(t, ndp.Advertise(us, address.MAC{2, 0, 0, 0, 0, 9}, ours, asker))
	if m.Type != ndp.Advertisement || m.Target != ours || m.Link != us || p.Destination != asker {
		t.Errorf("%+v %+v", p, m)
	}
}

// A router advertisement written out from RFC 4861, 4.2 and 4.6.1.
func TestWhatCrossedARouterIsRefused(t *testing.T) {
	advert := ip.Packet{Source: netip.MustParseAddr("fe80::1"), Destination: ndp.AllNodes, Protocol: ip.ProtocolICMPv6,
		TTL:     255,
		Payload: bytesof.Hex(t, "86 00 0000 40 00 0708 00000000 00000000 01 01 0a4f56000009")}
	m, err := ndp.Parse(advert)
	if err != nil || m.Type != ndp.RouterAdvert || m.Link.String() != "0a:4f:56:00:00:09" {
		t.Errorf("%+v, %v", m, err)
	}
	advert.TTL = 254
	if m, err := ndp.Parse(advert); err == nil {
		t.Errorf("%+v was taken", m)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(bytesof.Hex(f, "87 00 0000 00000000 fe800000000000000000000052530001 01 01 0a4f56000009"))
	f.Add(bytesof.Hex(f, "86 00 0000 40 00 0708 00000000 00000000 01 00"))
	f.Add(bytesof.Hex(f, "81 00 0000 0007 0001"))
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := ndp.Parse(ip.Packet{Protocol: ip.ProtocolICMPv6, TTL: 255, Payload: b})
		if err == nil && m.Type != b[0] {
			t.Errorf("%+v of %x", m, b)
		}
	})
}
