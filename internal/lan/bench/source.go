package bench

import (
	"context"
	"fmt"
	"iter"
	"math/rand/v2"
	"net/netip"
	"sync"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/wire/arp"
)

const (
	provenFor  = 60 * time.Second // how long an address that was shown to be free counts as ours
	probeAgain = 10 * time.Second // a host that hears two probes within so long gives its address up (RFC 5227, 2.4)
	mostLinks  = 4                // addresses of the link that are tried before one is taken all the same
	mostProbed = 1 << 14          // remembered at most; then no more are made until some are forgotten
)

// proof is a source address with the time at which nobody used it.
type proof struct {
	once sync.Mutex // held while it is asked for
	at   time.Time  // this and free are guarded by the bench's sources
	free bool
}

// loan is a source address in use towards one device. Two conversations with
// one device must not share a source: each would reset the other's connections.
type loan struct {
	mac    address.MAC
	source netip.Addr
}

func (b *Bench) giveBack(mac address.MAC, source netip.Addr) {
	b.sources.Lock()
	defer b.sources.Unlock()
	delete(b.lent, loan{mac, source})
}

// Reserve keeps addresses from being borrowed by conversations: somebody else on
// this bench speaks from them.
func (b *Bench) Reserve(list ...netip.Addr) {
	b.sources.Lock()
	defer b.sources.Unlock()
	for _, a := range list {
		b.kept[a]++
	}
}

// Release is the opposite of Reserve.
func (b *Bench) Release(list ...netip.Addr) {
	b.sources.Lock()
	defer b.sources.Unlock()
	for _, a := range list {
		if b.kept[a]--; b.kept[a] <= 0 {
			delete(b.kept, a)
		}
	}
}

// take lends a source that was shown to be free, unless it is lent already.
func (b *Bench) take(mac address.MAC, source netip.Addr) bool {
	b.sources.Lock()
	defer b.sources.Unlock()
	if b.lent[loan{mac, source}] || b.kept[source] > 0 {
		return false
	}
	b.lent[loan{mac, source}] = true
	return true
}

// Borrow lends an address to speak from beside a device, as a conversation does,
// until giveBack is called.
func (b *Bench) Borrow(ctx context.Context, peer Peer) (source netip.Addr, giveBack func(), err error) {
	source, err = b.borrow(ctx, peer)
	return source, func() { b.giveBack(peer.MAC, source) }, err
}

// borrow finds a source address: near the device, not avoided, not in use by
// another conversation with the same device, and shown to be free lately.
// Conversations with different devices may share one, since each receives only
// its own device's frames.
func (b *Bench) borrow(ctx context.Context, peer Peer) (netip.Addr, error) {
	bits := peer.Bits
	if bits == 0 {
		bits = 24
	}
	for a, err := range b.beside(ctx, peer, bits) {
		if err != nil {
			return netip.Addr{}, err
		}
		if b.take(peer.MAC, a) {
			return a, nil
		}
	}
	return netip.Addr{}, problem.New(problem.Device, fmt.Sprintf("no address near %s is free to talk from",
		peer.Address), "free one address of its subnet").About(peer.MAC.String())
}

// beside gives free addresses near the device: first what was shown to be free lately, then what is
// shown to be free now. An error ends it.
func (b *Bench) beside(ctx context.Context, peer Peer, bits int) iter.Seq2[netip.Addr, error] {
	may := func(a netip.Addr) bool { return peer.Avoid == nil || !peer.Avoid(a) }
	near := address.Neighbours(peer.Address, bits)
	return func(yield func(netip.Addr, error) bool) {
		for a := range near {
			if b.isProven(a) && may(a) && !yield(a, nil) {
				return
			}
		}
		for a := range near {
			if !may(a) {
				continue
			}
			free, err := b.prove(ctx, a)
			if (err != nil || free) && !yield(a, err) || err != nil {
				return
			}
		}
	}
}

func (b *Bench) isProven(a netip.Addr) bool {
	b.sources.Lock()
	defer b.sources.Unlock()
	p := b.proven[a]
	return p != nil && p.free && time.Since(p.at) < provenFor
}

// prove shows whether an address is free, once for all who ask at the same time.
func (b *Bench) prove(ctx context.Context, a netip.Addr) (bool, error) {
	b.sources.Lock()
	p := b.proven[a]
	if p == nil {
		p = &proof{}
		b.proven[a] = p
	}
	b.sources.Unlock()
	p.once.Lock()
	defer p.once.Unlock()
	b.sources.Lock()
	free, known := p.free, time.Since(p.at) < provenFor
	b.sources.Unlock()
	if known {
		return free, nil
	}
	from, err := b.Speaker(ctx, Peer{Address: a})
	if err != nil {
		return false, err
	}
	holders, err := b.shown(ctx, from, a)
	if err != nil {
		return false, err
	}
	b.sources.Lock()
	defer b.sources.Unlock()
	p.at, p.free = time.Now(), len(holders) == 0
	return p.free, nil
}

// doubt notes that an address which we may speak from is somebody else's, or about to be.
func (b *Bench) doubt(p arp.Packet) {
	b.sources.Lock()
	defer b.sources.Unlock()
	theirs := p.SenderIP
	if p.IsProbe() {
		theirs = p.TargetIP
	}
	if q := b.proven[theirs]; q != nil {
		q.at, q.free = time.Now(), false
	}
	if theirs == b.link {
		b.link = netip.Addr{}
	}
}

// MayProbe reports whether nobody was asked over a probe for an address lately, and counts the one
// that is sent now.
func (b *Bench) MayProbe(a netip.Addr) bool {
	b.sources.Lock()
	defer b.sources.Unlock()
	now := time.Now()
	if now.Sub(b.probed[a]) < probeAgain {
		return false
	}
	if len(b.probed) >= mostProbed {
		for old, at := range b.probed {
			if now.Sub(at) >= probeAgain {
				delete(b.probed, old)
			}
		}
		if len(b.probed) >= mostProbed {
			return false
		}
	}
	b.probed[a] = now
	return true
}

// Speaker is the address of ours that whoever may have the peer's address is asked from at once: one
// that was shown to be free in the same /24, or else one of the link alone.
func (b *Bench) Speaker(ctx context.Context, peer Peer) (netip.Addr, error) {
	if a := b.spoken(peer); a.IsValid() {
		return a, nil
	}
	return b.Link(ctx)
}

// spoken is an address of ours near the peer's; the zero value when there is none.
func (b *Bench) spoken(peer Peer) netip.Addr {
	b.sources.Lock()
	defer b.sources.Unlock()
	for a := range address.Neighbours(peer.Address, 24) {
		p := b.proven[a]
		if (b.kept[a] > 0 || p != nil && p.free) && (peer.Avoid == nil || !peer.Avoid(a)) {
			return a
		}
	}
	return netip.Addr{}
}

// Link is an address of ours that is good on this link alone (RFC 3927), to ask from where we have
// none yet. Hosts that have another address answer it as well (2.6.2).
func (b *Bench) Link(ctx context.Context) (netip.Addr, error) {
	b.linking.Lock()
	defer b.linking.Unlock()
	b.sources.Lock()
	link := b.link
	b.sources.Unlock()
	for tries := 0; !link.IsValid(); tries++ {
		a := netip.AddrFrom4([4]byte{169, 254, byte(1 + rand.IntN(254)), byte(rand.IntN(256))}) // 2.1
		holders, err := b.ask(ctx, a, 1, arp.Probe(b.MAC(), address.Broadcast, a), nobody)
		if err != nil {
			return netip.Addr{}, err
		}
		if len(holders) == 0 || tries == mostLinks { // who answers for all of them has none
			link = a
			b.sources.Lock()
			b.link = a
			b.sources.Unlock()
		}
	}
	return link, nil
}
