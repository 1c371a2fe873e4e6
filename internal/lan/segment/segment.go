// Package segment is the simulated flat network: a learning switch in process
// (IEEE 802.1Q-2018, 8.7) whose ports have bounded queues.
package segment

import (
	"sync"
	"sync/atomic"

	"redstart/internal/core/address"
	"redstart/internal/lan"
	"redstart/internal/wire/ethernet"
)

// Segment is one broadcast domain. The zero value is ready to use.
type Segment struct {
	mu    sync.RWMutex
	ports map[*Port]struct{}
	table map[address.MAC]*Port

	Forwarded atomic.Uint64 // frames delivered to a port
	Dropped   atomic.Uint64 // frames lost because a port's queue was full
}

// Port is one socket of the switch.
type Port struct {
	segment *Segment
	mac     address.MAC
	queue   chan []byte
	wants   func(frame []byte) bool // nil: everything
	closed  chan struct{}
	once    sync.Once
}

var _ lan.Port = (*Port)(nil)

// Attach plugs something in. Its queue holds depth frames.
func (s *Segment) Attach(mac address.MAC, depth int) *Port { return s.AttachFor(mac, depth, nil) }

// AttachFor is Attach for something whose adapter refuses frames before they are
// queued, as hardware does: those that wants says no to. It is asked by whoever
// sends, and must be quick.
func (s *Segment) AttachFor(mac address.MAC, depth int, wants func(frame []byte) bool) *Port {
	p := &Port{segment: s, mac: mac, queue: make(chan []byte, depth), wants: wants, closed: make(chan struct{})}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ports == nil {
		s.ports, s.table = map[*Port]struct{}{}, map[address.MAC]*Port{}
	}
	s.ports[p] = struct{}{}
	return p
}

// forward delivers a frame that came in at a port.
func (s *Segment) forward(in *Port, frame []byte) {
	f, err := ethernet.Parse(frame)
	if err != nil || f.Source.IsGroup() {
		return
	}
	frame = append([]byte(nil), frame...) // one copy for all who receive it
	s.mu.RLock()
	known := s.table[f.Source] == in
	s.mu.RUnlock()
	if !known {
		s.mu.Lock()
		s.table[f.Source] = in
		s.mu.Unlock()
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	if out := s.table[f.Destination]; out != nil && !f.Destination.IsGroup() {
		if out != in {
			s.deliver(out, frame)
		}
		return
	}
	for out := range s.ports {
		if out != in {
			s.deliver(out, frame)
		}
	}
}

// deliver never waits: a full queue loses the frame, as a real port does.
func (s *Segment) deliver(out *Port, frame []byte) {
	if out.wants != nil && !out.wants(frame) {
		return
	}
	select {
	case out.queue <- frame:
		s.Forwarded.Add(1)
	default:
		s.Dropped.Add(1)
	}
}

// MAC implements lan.Port.
func (p *Port) MAC() address.MAC { return p.mac }

// Send implements lan.Port.
func (p *Port) Send(frame []byte) error {
	select {
	case <-p.closed:
		return lan.ErrClosed
	default:
	}
	p.segment.forward(p, frame)
	return nil
}

// Receive implements lan.Port. What was delivered before Close is still received.
func (p *Port) Receive() ([]byte, error) {
	select {
	case f := <-p.queue:
		return f, nil
	default:
	}
	select {
	case f := <-p.queue:
		return f, nil
	case <-p.closed:
		return nil, lan.ErrClosed
	}
}

// Close unplugs the port; the switch forgets what it learnt there.
func (p *Port) Close() error {
	p.once.Do(func() {
		close(p.closed)
		s := p.segment
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.ports, p)
		for mac, at := range s.table {
			if at == p {
				delete(s.table, mac)
			}
		}
	})
	return nil
}

// Bridge carries frames between two ports, both ways, until one of them is
// closed; then it closes the other. It returns when both directions ended.
func Bridge(a, b lan.Port) {
	var both sync.WaitGroup
	pump := func(from, to lan.Port) {
		defer both.Done()
		defer to.Close()
		for {
			frame, err := from.Receive()
			if err == lan.ErrClosed {
				return
			}
			if err == nil && to.Send(frame) == lan.ErrClosed {
				return
			}
		}
	}
	both.Add(2)
	go pump(a, b)
	go pump(b, a)
	both.Wait()
}
