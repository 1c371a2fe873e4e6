package lease_test

import (
	"context"
	"net/netip"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/lease"
	"redstart/internal/lan/segment"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/dhcp"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
)

var (
	chosen   = address.MAC{0x0e, 0x42, 0x44, 0, 0, 1}
	taken    = address.MAC{0x0e, 0x42, 0x44, 0, 0, 2}
	stranger = address.MAC{0x0e, 0x42, 0x44, 0, 0, 3}
	server   = netip.MustParseAddr("10.40.8.254")
)

func grant(mac address.MAC, at string) lease.Grant {
	return lease.Grant{Tag: "E-" + at, MAC: mac, Lease: dhcp.Lease{Address: netip.MustParsePrefix(at + "/22"),
		Time: time.Hour, Server: server}}
}

// answers reads the DHCP messages that come to a client's port, until it is closed.
func answers(p *segment.Port, got chan<- dhcp.Message) {
	for {
		raw, err := p.Receive()
		if err != nil {
			close(got)
			return
		}
		f, err := ethernet.Parse(raw)
		if err != nil {
			continue
		}
		packet, err := ip.Parse(f)
		if err != nil {
			continue
		}
		if d, ok := packet.UDP(); ok && d.Destination.Port() == dhcp.ClientPort {
			if m, err := dhcp.Parse(d.Payload); err == nil {
				got <- m
			}
		}
	}
}

// One box gets its address, one whose address somebody holds gets none, and a
// stranger who shouts is not heard.
func TestExactlyTheChosen(t *testing.T) {
	wire := &segment.Segment{}
	b := bench.New(wire.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 1024))
	defer b.Close()
	ports := map[address.MAC]*segment.Port{}
	got := map[address.MAC]chan dhcp.Message{}
	for _, mac := range []address.MAC{chosen, taken, stranger} {
		ports[mac], got[mac] = wire.Attach(mac, 1024), make(chan dhcp.Message, 1024)
		go answers(ports[mac], got[mac])
	}
	holder := wire.Attach(address.MAC{2, 9, 9, 9, 9, 9}, 1024)
	go func() { // it has the address that is planned for another
		for {
			raw, err := holder.Receive()
			if err != nil {
				return
			}
			if f, err := ethernet.Parse(raw); err == nil {
				if p, ok := bench.ARP(f); ok && p.TargetIP == netip.MustParseAddr("10.40.9.2") {
					_ = holder.Send(arp.Packet{Operation: arp.Reply, SenderMAC: holder.MAC(), SenderIP: p.TargetIP,
						TargetMAC: f.Source, TargetIP: p.SenderIP}.Frame(f.Source))
				}
			}
		}
	}()
	defer holder.Close()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	outcome := map[address.MAC]error{}
	ended := make(chan error, 1)
	go func() {
		ended <- lease.Serve(ctx, b, []lease.Grant{grant(chosen, "10.40.9.1"), grant(taken, "10.40.9.2")}, nil, nil,
			func(g lease.Grant, err error) {
				outcome[g.MAC] = err
			})
	}()
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for running := true; running; {
		select {
		case <-tick.C:
			for mac, p := range ports {
				_ = p.Send(dhcp.Renew(mac, netip.Addr{}, netip.Addr{}, "", ""))
			}
			// A stranger in the name of a chosen one.
			_ = ports[stranger].Send(ethernet.Frame{Destination: address.Broadcast, Source: stranger,
				Type: ethernet.TypeIPv4, Payload: dhcp.Renew(chosen, netip.Addr{}, netip.Addr{}, "",
					"")[14:]}.Append(nil))
		case m := <-got[chosen]:
			if m.Kind == dhcp.Offer {
				_ = ports[chosen].Send(dhcp.Renew(chosen, m.Yours, m.Server, "", ""))
			}
			if m.Yours != netip.MustParseAddr("10.40.9.1") || m.Server != server {
				t.Errorf("%s of %s from %s", m.Kind, m.Yours, m.Server)
			}
		case m := <-got[taken]:
			t.Errorf("an address that somebody holds was given: %+v", m)
		case m := <-got[stranger]:
			t.Errorf("a stranger was answered: %+v", m)
		case err := <-ended:
			if err != nil {
				t.Error(err)
			}
			running = false
		}
	}
	if outcome[chosen] != nil || outcome[taken] == nil || !strings.Contains(outcome[taken].Error(),
		"10.40.9.2 belongs to 02:09:09:09:09:09") {
		t.Errorf("%v", outcome)
	}
}

// While it serves, another server's offer ends it.
func TestAnotherServerEndsIt(t *testing.T) {
	wire := &segment.Segment{}
	b := bench.New(wire.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 1024))
	defer b.Close()
	rival := wire.Attach(address.MAC{2, 7, 7, 7, 7, 7}, 1024)
	asked := make(chan dhcp.Message, 16)
	go func() {
		for {
			raw, err := rival.Receive()
			if err != nil {
				return
			}
			if f, err := ethernet.Parse(raw); err == nil {
				if p, err := ip.Parse(f); err == nil {
					if d, ok := p.UDP(); ok {
						if m, err := dhcp.Parse(d.Payload); err == nil {
							asked <- m
						}
					}
				}
			}
		}
	}()
	defer rival.Close()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	ended := make(chan error, 1)
	go func() {
		ended <- lease.Serve(ctx, b, []lease.Grant{grant(chosen, "10.40.9.1")}, nil, nil, func(lease.Grant, error) {})
	}()
	m := <-asked
	for range 2 {
		<-asked // it asks three times; the rival is slow
	}
	if err := rival.Send(m.Answer(dhcp.Offer, rival.MAC(), dhcp.Lease{Address: netip.MustParsePrefix("10.99.0.9/24"),
		Server: netip.MustParseAddr("10.99.0.1")})); err != nil {
		t.Fatal(err)
	}
	if err := <-ended; err == nil || !strings.Contains(err.Error(), "another DHCP server answers: 10.99.0.1") {
		t.Errorf("%v", err)
	}
}
