package bench

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/ethernet"
)

// Whoever has an address is asked for it with ordinary requests (RFC 826), which make nobody doubt
// that it is theirs; the answer of a host on a flat segment comes within milliseconds. A box that is
// asked by its MAC gets more time: it may be busy, and is waited for only while it does not answer.
const (
	requests = 3
	patient  = 20
	askEvery = 100 * time.Millisecond
	askWait  = 200 * time.Millisecond // after the last question
	lookTime = 3 * time.Second        // for a free address to ask from
)

func nobody(address.MAC) bool { return false }

// Holders asks the segment who holds the peer's address, and lists every MAC that answers.
func (b *Bench) Holders(ctx context.Context, peer Peer) ([]address.MAC, error) {
	from, err := b.besides(ctx, peer)
	if err != nil {
		return nil, err
	}
	return b.ask(ctx, peer.Address, requests, arp.Ask(b.MAC(), address.Broadcast, from, peer.Address), nobody)
}

// Holds asks one box whether it holds its address, and returns as soon as it
// says so. The question is sent to that box alone.
func (b *Bench) Holds(ctx context.Context, peer Peer) (bool, error) {
	from, err := b.besides(ctx, peer)
	if err != nil {
		return false, err
	}
	holders, err := b.ask(ctx, peer.Address, patient, arp.Ask(b.MAC(), peer.MAC, from, peer.Address),
		func(m address.MAC) bool { return m == peer.MAC })
	return slices.Contains(holders, peer.MAC), err
}

// Free shows that the peer's address is free: it lists who holds it, nobody if it is.
func (b *Bench) Free(ctx context.Context, peer Peer) ([]address.MAC, error) {
	from, err := b.besides(ctx, peer)
	if err != nil {
		return nil, err
	}
	return b.shown(ctx, from, peer.Address)
}

// shown asks with requests first, which harm nobody. Only an address that nobody said to have is probed
// for (RFC 5227, 2.1.1), since some answer that alone.
func (b *Bench) shown(ctx context.Context, from, a netip.Addr) ([]address.MAC, error) {
	holders, err := b.ask(ctx, a, requests-1, arp.Ask(b.MAC(), address.Broadcast, from, a), nobody)
	if err != nil || len(holders) > 0 || !b.MayProbe(a) {
		return holders, err
	}
	return b.ask(ctx, a, 1, arp.Probe(b.MAC(), address.Broadcast, a), nobody)
}

// besides gives an address of ours beside the peer's, as far as one is free there.
func (b *Bench) besides(ctx context.Context, peer Peer) (netip.Addr, error) {
	if a := b.spoken(peer); a.IsValid() {
		return a, nil
	}
	// Somebody may answer for every address, as a router does that stands in for others (RFC 1027).
	looking, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	for a, err := range b.beside(looking, peer, cmp.Or(peer.Bits, 24)) {
		if err != nil && ctx.Err() == nil && looking.Err() != nil {
			break
		}
		return a, err
	}
	return b.Link(ctx)
}

// ask sends a question a number of times and lists who says that it holds an address, until that is
// enough.
func (b *Bench) ask(ctx context.Context, ip netip.Addr, times int, question []byte,
	enough func(address.MAC) bool) ([]address.MAC, error) {
	var holders []address.MAC
	listener := b.listenAt(ip, 64)
	defer listener.Close()
	next := time.NewTicker(askEvery)
	defer next.Stop()
	end := time.NewTimer(time.Duration(times-1)*askEvery + askWait)
	defer end.Stop()
	left := times
	send := func() error {
		left--
		return b.Send(question)
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
