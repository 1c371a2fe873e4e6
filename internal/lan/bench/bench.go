// Package bench holds conversations with devices by their MAC address. Each
// conversation is a small TCP/IP host of its own on the port's segment, with a
// source address next to the device's, so that devices which share an address
// are talked to side by side and the computer's own address never changes.
package bench

import (
	"context"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/lan"
	"redstart/internal/lan/netstack"
	"redstart/internal/wire/ethernet"
)

// talkDepth is how many frames may wait for one conversation.
const talkDepth = 256

// ErrGone says that the port was closed under a conversation.
var ErrGone = problem.New(problem.Machine, "the connection to the segment is gone",
	"check the cable and the interface, then start the service again")

// Bench shares one port among conversations and listeners.
type Bench struct {
	port lan.Port
	done chan struct{}

	mu        sync.RWMutex
	talks     map[address.MAC][]*Conversation
	listeners map[*Listener]struct{}                 // who listens to everybody
	of        map[address.MAC]map[*Listener]struct{} // who listens to one sender
	at        map[netip.Addr]map[*Listener]struct{}  // who waits for whoever holds an address

	sources sync.Mutex
	proven  map[netip.Addr]*proof
	lent    map[loan]bool
	kept    map[netip.Addr]int       // reserved, and how often
	probed  map[netip.Addr]time.Time // when lately
	link    netip.Addr               // ours of the link alone, once it is needed
	linking sync.Mutex               // held while it is looked for

	// Dropped counts frames that a full queue lost.
	Dropped atomic.Uint64
	// Sent counts frames that were put on the segment.
	Sent atomic.Uint64
}

// New sets up a bench on a port, which then belongs to it.
func New(port lan.Port) *Bench {
	b := &Bench{port: port, done: make(chan struct{}), talks: map[address.MAC][]*Conversation{},
		listeners: map[*Listener]struct{}{}, of: map[address.MAC]map[*Listener]struct{}{},
		at: map[netip.Addr]map[*Listener]struct{}{}, proven: map[netip.Addr]*proof{}, lent: map[loan]bool{},
		kept: map[netip.Addr]int{}, probed: map[netip.Addr]time.Time{}}
	go b.receive()
	return b
}

// MAC is the address that our frames come from.
func (b *Bench) MAC() address.MAC { return b.port.MAC() }

// Send puts one frame on the segment.
func (b *Bench) Send(frame []byte) error {
	b.Sent.Add(1)
	return b.port.Send(frame)
}

// Close closes the port and waits until nothing is received any more.
func (b *Bench) Close() error {
	err := b.port.Close()
	<-b.done
	return err
}

// Done is closed when the port was closed, by us or from outside.
func (b *Bench) Done() <-chan struct{} { return b.done }

func (b *Bench) receive() {
	defer close(b.done)
	for {
		raw, err := b.port.Receive()
		if err == lan.ErrClosed {
			return
		}
		if err != nil {
			continue
		}
		frame, err := ethernet.Parse(raw)
		// A source address is an individual one (IEEE 802-2014, 8.2.2).
		if err != nil || frame.Source.IsGroup() || frame.Source.IsZero() {
			continue
		}
		b.mu.RLock()
		for _, c := range b.talks[frame.Source] {
			b.queue(c.frames, raw)
		}
		// With hundreds of boxes hundreds listen: each is asked only about its own.
		b.tell(b.listeners, frame)
		b.tell(b.of[frame.Source], frame)
		if p, ok := ARP(frame); ok {
			b.doubt(p)
			b.tell(b.at[p.SenderIP], frame)
		}
		b.mu.RUnlock()
	}
}

// tell hands a frame to those of some listeners that want it.
func (b *Bench) tell(listeners map[*Listener]struct{}, frame ethernet.Frame) {
	for e := range listeners {
		if e.wants != nil && !e.wants(frame) {
			continue
		}
		select {
		case e.frames <- frame:
		default:
			b.Dropped.Add(1)
		}
	}
}

func (b *Bench) queue(to chan []byte, frame []byte) {
	select {
	case to <- frame:
	default:
		b.Dropped.Add(1)
	}
}

// Listener is somebody who listens to the segment.
type Listener struct {
	bench  *Bench
	frames chan ethernet.Frame
	wants  func(ethernet.Frame) bool // nil: all
	close  func()
}

// Listen hands out every frame that wants accepts, through a queue of depth
// frames. wants runs in the receiving goroutine and must be quick.
func (b *Bench) Listen(depth int, wants func(ethernet.Frame) bool) *Listener {
	e := &Listener{bench: b, frames: make(chan ethernet.Frame, depth), wants: wants}
	e.close = func() { delete(b.listeners, e) }
	b.mu.Lock()
	defer b.mu.Unlock()
	b.listeners[e] = struct{}{}
	return e
}

// ListenTo is Listen for the frames of one sender.
func (b *Bench) ListenTo(mac address.MAC, depth int, wants func(ethernet.Frame) bool) *Listener {
	return listenUnder(b, b.of, mac, depth, wants)
}

// listenAt hands out the ARP packets of whoever says that it holds an address.
func (b *Bench) listenAt(ip netip.Addr, depth int) *Listener {
	return listenUnder(b, b.at, ip, depth, nil)
}

func listenUnder[K comparable](b *Bench, listeners map[K]map[*Listener]struct{}, key K, depth int,
	wants func(ethernet.Frame) bool) *Listener {
	e := &Listener{bench: b, frames: make(chan ethernet.Frame, depth), wants: wants}
	e.close = func() {
		if delete(listeners[key], e); len(listeners[key]) == 0 {
			delete(listeners, key)
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if listeners[key] == nil {
		listeners[key] = map[*Listener]struct{}{}
	}
	listeners[key][e] = struct{}{}
	return e
}

// Frames is where the frames arrive. It is never closed.
func (e *Listener) Frames() <-chan ethernet.Frame { return e.frames }

// Close stops listening.
func (e *Listener) Close() {
	e.bench.mu.Lock()
	defer e.bench.mu.Unlock()
	e.close()
}

// Peer is the device to talk to.
type Peer struct {
	MAC     address.MAC
	Address netip.Addr
	Bits    int                   // prefix length to look for a source in; 0: 24
	Avoid   func(netip.Addr) bool // addresses that are not ours to borrow; nil: none
}

// Conversation reaches one exact box.
type Conversation struct {
	bench  *Bench
	peer   Peer
	source netip.Addr
	host   *netstack.Host
	frames chan []byte
	stop   chan struct{}
	ended  sync.WaitGroup
}

// Open begins a conversation: it chooses a source address next to the
// device's, shows that nobody uses it, and pins the device's MAC.
func (b *Bench) Open(ctx context.Context, peer Peer) (*Conversation, error) {
	if !peer.Address.Is4() {
		return nil, problem.New(problem.Device, "the device has no address to talk to",
			"give it one first").About(peer.MAC.String())
	}
	source, err := b.borrow(ctx, peer)
	if err != nil {
		return nil, err
	}
	c := &Conversation{bench: b, peer: peer, source: source, frames: make(chan []byte, talkDepth),
		stop: make(chan struct{})}
	// A /32 keeps the stack from sending anything to anybody but the pinned device.
	c.host, err = netstack.New(b.MAC(), netip.PrefixFrom(source, 32), netip.Addr{}, func(frame []byte) {
		_ = b.Send(frame) // a lost frame is TCP's to repair; a closed port ends the dialler
	})
	if err != nil {
		b.giveBack(peer.MAC, source)
		return nil, err
	}
	if err := c.host.Pin(peer.Address, peer.MAC); err != nil {
		c.host.Close()
		b.giveBack(peer.MAC, source)
		return nil, err
	}
	c.ended.Add(1)
	go c.deliver()
	b.mu.Lock()
	b.talks[peer.MAC] = append(b.talks[peer.MAC], c)
	b.mu.Unlock()
	return c, nil
}

func (c *Conversation) deliver() {
	defer c.ended.Done()
	for {
		select {
		case f := <-c.frames:
			c.host.Deliver(f)
		case <-c.stop:
			return
		}
	}
}

// Source is the address that the conversation borrowed.
func (c *Conversation) Source() netip.Addr { return c.source }

// Dial opens a TCP connection to a port of the device.
func (c *Conversation) Dial(ctx context.Context, port uint16) (net.Conn, error) {
	return c.host.Dial(ctx, netip.AddrPortFrom(c.peer.Address, port))
}

// DialUDP opens a UDP conversation with a port of the device.
func (c *Conversation) DialUDP(port uint16) (net.Conn, error) {
	return c.host.DialUDP(netip.AddrPortFrom(c.peer.Address, port))
}

// Echo asks the device for an ICMP echo until it answers or the context ends.
func (c *Conversation) Echo(ctx context.Context) error { return c.host.Echo(ctx, c.peer.Address) }

// Close ends the conversation.
func (c *Conversation) Close() {
	b := c.bench
	b.mu.Lock()
	list := b.talks[c.peer.MAC]
	for i, other := range list {
		if other == c {
			list = append(list[:i:i], list[i+1:]...)
			break
		}
	}
	if len(list) == 0 {
		delete(b.talks, c.peer.MAC)
	} else {
		b.talks[c.peer.MAC] = list
	}
	b.mu.Unlock()
	close(c.stop)
	c.ended.Wait()
	c.host.Close()
	b.giveBack(c.peer.MAC, c.source)
}
