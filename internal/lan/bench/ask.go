package bench

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/ethernet"
)

// Probing follows RFC 5227, 2.1.1, with shorter waits: three probes, and the
// answer of a host on a flat segment comes within milliseconds. A box that is
// asked by its MAC gets more time: it may be busy, and is waited for only while
// it does not answer.
const (
	probes     = 3
	patient    = 20
	probeEvery = 100 * time.Millisecond
	probeWait  = 200 * time.Millisecond // after the last probe
)

// Holders asks the segment who holds an address and lists every MAC that
// answers. An empty list means that the address is free.
func (b *Bench) Holders(ctx context.Context, ip netip.Addr) ([]address.MAC, error) {
	return b.ask(ctx, ip, address.Broadcast, probes, func(address.MAC) bool { return false })
}

// Holds asks one box whether it holds an address, and returns as soon as it
// says so. The question is sent to that box alone.
func (b *Bench) Holds(ctx context.Context, mac address.MAC, ip netip.Addr) (bool, error) {
	holders, err := b.ask(ctx, ip, mac, patient, func(m address.MAC) bool { return m == mac })
	return slices.Contains(holders, mac), err
}

func (b *Bench) ask(ctx context.Context, ip netip.Addr, to address.MAC, times int,
	enough func(address.MAC) bool) ([]address.MAC, error) {
	var holders []address.MAC
	listener := b.listenAt(ip, 64)
	defer listener.Close()
	next := time.NewTicker(probeEvery)
	defer next.Stop()
	end := time.NewTimer(time.Duration(times-1)*probeEvery + probeWait)
	defer end.Stop()
	left := times
	send := func() error {
		left--
		return b.Send(arp.Probe(b.MAC(), to, ip))
	}
	if err := send(); err != nil {
		return nil, err
	}
	heard := func(f ethernet.Frame) {
		if !slices.Contains(holders, f.Source) {
			holders = append(holders, f.Source)
		}
	}
	for {
		select {
		case f := <-listener.Frames():
			heard(f)
			if enough(f.Source) {
				return holders, nil
			}
		case <-next.C:
			if left > 0 {
				if err := send(); err != nil {
					return nil, err
				}
			}
		case <-end.C:
			for { // what came in time counts, however busy this computer is
				select {
				case f := <-listener.Frames():
					heard(f)
				default:
					return holders, nil
				}
			}
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// ARP gives the ARP packet of a frame, if it is one whose sender is who it says.
func ARP(f ethernet.Frame) (arp.Packet, bool) {
	if f.Type != ethernet.TypeARP {
		return arp.Packet{}, false
	}
	p, err := arp.Parse(f.Payload)
	return p, err == nil && p.SenderMAC == f.Source
}
