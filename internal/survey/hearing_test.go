package survey_test

import (
	"context"
	"net/netip"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/lan/segment"
	"redstart/internal/survey"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/dhcp"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
)

// An interface is judged by what it hears, and a storm is called one.
func TestHearingSaysWhatIsOnAWire(t *testing.T) {
	wire := &segment.Segment{}
	listener := wire.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 1<<14)
	talker := wire.Attach(address.MAC{0x0a, 0x4f, 0x56, 0, 0, 1}, 16)
	server := wire.Attach(address.MAC{6, 0x46, 0x35, 0, 0, 1}, 16)
	for range 300 {
		_ = talker.Send(arp.Announcement(talker.MAC(), netip.MustParseAddr("192.168.77.20")))
	}
	f, err := ethernet.Parse(dhcp.Ask(talker.MAC(), 1))
	if err != nil {
		t.Fatal(err)
	}
	p, err := ip.Parse(f)
	if err != nil {
		t.Fatal(err)
	}
	d, _ := p.UDP()
	m, err := dhcp.Parse(d.Payload)
	if err != nil {
		t.Fatal(err)
	}
	_ = server.Send(ethernet.Frame{Destination: address.Broadcast, Source: server.MAC(), Type: ethernet.TypeIPv4,
		Payload: m.Answer(dhcp.Offer, server.MAC(), dhcp.Lease{Address: netip.MustParsePrefix("10.9.0.9/24"),
			Server: netip.MustParseAddr("10.9.0.1")})[14:]}.Append(nil))
	ctx, cancel := context.WithCancel(context.Background())
	cancel() // what is queued is still heard
	h := survey.Hear(ctx, listener)
	if h.Frames != 301 || h.Senders != 2 || len(h.Subnets) != 2 ||
		h.Subnets[0] != netip.MustParsePrefix("192.168.77.0/24") || len(h.Servers) != 1 ||
		h.Servers[0] != netip.MustParseAddr("10.9.0.1") || !h.Storm {
		t.Errorf("%+v", h)
	}
}
