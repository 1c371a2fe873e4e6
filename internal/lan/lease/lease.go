// Package lease gives addresses over DHCP (RFC 2131) to chosen boxes and to
// nobody else, for as long as it takes them to ask.
package lease

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/lan/bench"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/dhcp"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
)

const (
	earDepth   = 1 << 10
	offers     = 3                      // questions for other servers
	offerEvery = 700 * time.Millisecond // between them; slow servers check the address first
)

// Grant is one box with what it gets.
type Grant struct {
	Tag   string
	MAC   address.MAC
	Lease dhcp.Lease
}

// Server is another DHCP server on the segment.
type Server struct {
	MAC     address.MAC
	Address netip.Addr
}

// Others asks who else hands addresses out. It takes none of the offers.
func Others(ctx context.Context, b *bench.Bench) ([]Server, error) {
	listener := b.Listen(earDepth, func(f ethernet.Frame) bool {
		return f.Type == ethernet.TypeIPv4 && f.Source != b.MAC()
	})
	defer listener.Close()
	tick := time.NewTicker(offerEvery)
	defer tick.Stop()
	var list []Server
	xid := rand.Uint32()
	if err := b.Send(dhcp.Ask(b.MAC(), xid)); err != nil {
		return nil, err
	}
	for asked := 1; ; {
		select {
		case f := <-listener.Frames():
			d, m, ok := read(f)
			if s := (Server{f.Source, d.Source.Addr()}); ok && (m.Kind == dhcp.Offer || m.Kind == dhcp.ACK) &&
				!slices.Contains(list, s) {
				list = append(list, s)
			}
		case <-tick.C:
			if asked == offers {
				return list, nil
			}
			asked++
			if err := b.Send(dhcp.Ask(b.MAC(), xid)); err != nil {
				return nil, err
			}
		case <-b.Done():
			return nil, bench.ErrGone
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func read(f ethernet.Frame) (ip.Datagram, dhcp.Message, bool) {
	p, err := ip.Parse(f)
	if err != nil {
		return ip.Datagram{}, dhcp.Message{}, false
	}
	d, ok := p.UDP()
	if !ok || d.Destination.Port() != dhcp.ServerPort && d.Destination.Port() != dhcp.ClientPort {
		return d, dhcp.Message{}, false
	}
	m, err := dhcp.Parse(d.Payload)
	return d, m, err == nil
}

// ErrUnseen says that a box was given an address and does not answer there.
var ErrUnseen = errors.New("it was given its address, and does not answer there")

// looks is how often a box that was given an address is asked whether it holds it, about two seconds
// each: a box may make sure for up to seven before it takes it (RFC 5227, 2.1.1 and 2.3).
var looks = 5

// Serve answers the chosen boxes until each has its address, or the context
// ends. It refuses to begin while another server answers that is not among
// beside, and ends when one appears. Right before an address is offered it is
// shown to be free, from no address that is to be avoided (nil: none). tell is told of each box that was seen
// at its address, or of why it has none, from one goroutine.
func Serve(ctx context.Context, b *bench.Bench, grants []Grant, known []netip.Addr, avoid func(netip.Addr) bool,
	tell func(Grant, error)) error {
	others, err := Others(ctx, b)
	if err != nil {
		return err
	}
	for _, o := range others {
		if err := stranger(o, known); err != nil {
			return err
		}
	}
	wanted := map[address.MAC]Grant{}
	ours := map[netip.Addr]bool{}
	for _, g := range grants {
		wanted[g.MAC] = g
		if ours[g.Lease.Server] {
			continue
		}
		holders, err := b.Free(ctx, bench.Peer{Address: g.Lease.Server, Avoid: avoid})
		if err != nil {
			return err
		}
		if len(holders) > 0 {
			return problem.New(problem.Conflict, fmt.Sprintf("%s, from which addresses would be given, belongs to %s",
				g.Lease.Server, holders[0]), "free it, or choose another subnet")
		}
		ours[g.Lease.Server] = true
		b.Reserve(g.Lease.Server)
		defer b.Release(g.Lease.Server)
	}
	listener := b.Listen(earDepth, func(f ethernet.Frame) bool {
		return f.Source != b.MAC() && (f.Type == ethernet.TypeIPv4 || f.Type == ethernet.TypeARP)
	})
	defer listener.Close()
	ctx, cancel := context.WithCancel(ctx)
	var proving sync.WaitGroup
	defer proving.Wait()
	defer cancel()
	proofs, seen := make(chan proof), make(chan sight)
	state := map[address.MAC]int{}
	for left := len(wanted); left > 0; {
		select {
		case p := <-seen:
			if state[p.MAC] == given {
				state[p.MAC] = settled
				left--
				tell(p.Grant, p.err)
			}
		case p := <-proofs:
			if p.err != nil || len(p.holders) > 0 {
				if p.err == nil {
					p.err = problem.New(problem.Conflict, fmt.Sprintf("%s belongs to %s", p.grant.Lease.Address.Addr(),
						p.holders[0]), "free it, or plan another address").About(p.grant.Tag)
				}
				state[p.grant.MAC] = refused
				left--
				tell(p.grant, p.err)
				continue
			}
			state[p.grant.MAC] = free
			if err := b.Send(p.asked.Answer(dhcp.Offer, b.MAC(), p.grant.Lease)); err != nil {
				return err
			}
		case f := <-listener.Frames():
			if p, ok := bench.ARP(f); ok {
				if p.Operation == arp.Request && ours[p.TargetIP] && !p.SenderIP.IsUnspecified() {
					if err := b.Send(p.Answer(b.MAC())); err != nil {
						return err
					}
				}
				continue
			}
			d, m, ok := read(f)
			if !ok {
				continue
			}
			if m.Kind == dhcp.Offer || m.Kind == dhcp.ACK {
				if err := stranger(Server{f.Source, d.Source.Addr()}, known); err != nil {
					return err
				}
				continue
			}
			// Exactly the chosen: by the sender of the frame and by what it says.
			g, chosen := wanted[m.Client]
			if !chosen || f.Source != m.Client {
				continue
			}
			if m.Kind == dhcp.Decline && state[g.MAC] == given {
				state[g.MAC] = refused
				left--
				tell(g, problem.New(problem.Conflict, fmt.Sprintf("it declined %s: it found that somebody else has it",
					g.Lease.Address.Addr()), "look who: redstart find; free it, or plan another address").About(g.Tag))
				continue
			}
			if m.Kind == dhcp.Discover && state[g.MAC] == fresh {
				state[g.MAC] = checking
				proving.Go(func() {
					holders, err := b.Free(ctx, bench.Peer{Address: g.Lease.Address.Addr(), Avoid: avoid})
					select {
					case proofs <- proof{g, m, holders, err}:
					case <-ctx.Done():
					}
				})
			}
			if state[g.MAC] < free {
				continue
			}
			took, err := answer(b, g, m)
			if err != nil {
				return err
			}
			if took && state[g.MAC] == free {
				state[g.MAC] = given
				proving.Go(func() {
					err := holds(ctx, b, g, avoid)
					select {
					case seen <- sight{g, err}:
					case <-ctx.Done():
					}
				})
			}
		case <-b.Done():
			return bench.ErrGone
		case <-ctx.Done():
			for mac, g := range wanted {
				if state[mac] == given {
					tell(g, ErrUnseen)
				}
			}
			return ctx.Err()
		}
	}
	return nil
}

// proof is whether an address is free, for a box that asked for it.
type proof struct {
	grant   Grant
	asked   dhcp.Message
	holders []address.MAC
	err     error
}

// What became of a grant so far.
const (
	fresh   = iota
	refused // somebody has the address, or it would not have it
	checking
	free
	given   // a lost answer is repeated
	settled // so it is here
)

// sight is whether a box that was given its address was seen there.
type sight struct {
	Grant
	err error
}

// holds asks a box whether it has taken its address, until it says so.
func holds(ctx context.Context, b *bench.Bench, g Grant, avoid func(netip.Addr) bool) error {
	for range looks {
		holds, err := b.Holds(ctx, bench.Peer{MAC: g.MAC, Address: g.Lease.Address.Addr(), Bits: g.Lease.Address.Bits(),
			Avoid: avoid})
		if holds || err != nil {
			return err
		}
	}
	return ErrUnseen
}

// stranger is the refusal to work beside a server that was not named.
func stranger(s Server, known []netip.Addr) error {
	if slices.Contains(known, s.Address) {
		return nil
	}
	return problem.New(problem.Conflict, fmt.Sprintf("another DHCP server answers: %s, MAC %s", s.Address, s.MAC),
		fmt.Sprintf("unplug it or set it up first; or say that it may go on: in the rehearsal, or with --other-server %s",
			s.Address)).About(s.MAC.String())
}

// answer gives a chosen box what it asks for, if that is what it is to have.
func answer(b *bench.Bench, g Grant, m dhcp.Message) (took bool, err error) {
	at := g.Lease.Address.Addr()
	switch m.Kind {
	case dhcp.Discover:
		return false, b.Send(m.Answer(dhcp.Offer, b.MAC(), g.Lease))
	case dhcp.Request:
		if m.Server.IsValid() && m.Server != g.Lease.Server {
			return false, nil // it takes another server's offer
		}
		if m.Requested == at || !m.Requested.IsValid() && m.Current == at {
			return true, b.Send(m.Answer(dhcp.ACK, b.MAC(), g.Lease))
		}
		return false, b.Send(m.Answer(dhcp.NAK, b.MAC(), g.Lease))
	}
	return false, nil
}
