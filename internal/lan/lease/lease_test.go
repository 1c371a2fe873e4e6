package lease_test

import (
	"bytes"
	"context"
	"errors"
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
	doubting = address.MAC{0x0e, 0x42, 0x44, 0, 0, 4}
	silent   = address.MAC{0x0e, 0x42, 0x44, 0, 0, 5}
	server   = netip.MustParseAddr("10.40.8.254")
)

func grant(mac address.MAC, at string) lease.Grant {
	return lease.Grant{Tag: "E-" + at, MAC: mac, Lease: dhcp.Lease{Address: netip.MustParsePrefix(at + "/22"),
		Time: time.Hour, Server: server}}
}

// decline is what a client says that finds its new address in use (RFC 2131, 4.4.4).
func decline(t *testing.T, m dhcp.Message) []byte {
	t.Helper()
	frame := dhcp.Renew(m.Client, m.Yours, m.Server, "", "")
	kind := bytes.Index(frame, []byte{53, 1, 3})
	if kind < 0 {
		t.Fatal("a request without its kind")
	}
	frame[kind+2] = 4
	copy(frame[14+20+6:], []byte{0, 0}) // without a checksum (RFC 768)
	return frame
}

// answers reads the DHCP messages that come to a client's port, until it is closed. The chosen
// one says that it has its address once it was given it.
func answers(p *segment.Port, got chan<- dhcp.Message) {
	var has netip.Addr
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
		if a, ok := bench.ARP(f); ok && a.Operation == arp.Request && has.IsValid() && a.TargetIP == has {
			_ = p.Send(a.Answer(p.MAC()))
		}
		packet, err := ip.Parse(f)
		if err != nil {
			continue
		}
		if d, ok := packet.UDP(); ok && d.Destination.Port() == dhcp.ClientPort {
			if m, err := dhcp.Parse(d.Payload); err == nil {
				if m.Kind == dhcp.ACK && p.MAC() == chosen {
					has = m.Yours
				}
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
	for _, mac := range []address.MAC{chosen, taken, stranger, doubting, silent} {
		ports[mac], got[mac] = wire.Attach(mac, 1024), make(chan dhcp.Message, 1024)
		go answers(ports[mac], got[mac])
	}
	lease.Once()
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
		ended <- lease.Serve(ctx, b, []lease.Grant{grant(chosen, "10.40.9.1"), grant(taken, "10.40.9.2"),
			grant(doubting, "10.40.9.3"), grant(silent, "10.40.9.4")}, nil, nil,
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
		case m := <-got[doubting]:
			switch m.Kind {
			case dhcp.Offer:
				_ = ports[doubting].Send(dhcp.Renew(doubting, m.Yours, m.Server, "", ""))
			case dhcp.ACK:
				_ = ports[doubting].Send(decline(t, m))
			}
		case m := <-got[silent]: // it takes the address, and is never seen there
			if m.Kind == dhcp.Offer {
				_ = ports[silent].Send(dhcp.Renew(silent, m.Yours, m.Server, "", ""))
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
	if err := outcome[doubting]; err == nil || !strings.Contains(err.Error(), "it declined 10.40.9.3") {
		t.Errorf("a box that declined: %v", err)
	}
	if err := outcome[silent]; !errors.Is(err, lease.ErrUnseen) {
		t.Errorf("a box that was never seen at its address: %v", err)
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
