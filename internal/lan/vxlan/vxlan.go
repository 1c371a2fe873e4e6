// Package vxlan carries frames between processes over UDP in the VXLAN form
// (RFC 7348), so that a simulated site can run apart from the service. It
// binds and accepts loopback addresses only: VXLAN has no sign-in.
package vxlan

import (
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"sync"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/lan"
)

const (
	headerLen = 8
	flagVNI   = 0x08
	network   = 40 // the VXLAN network identifier of the simulated site
	maxPeers  = 8
)

// Port is one end of a tunnel. An end that listens sends to every end that it
// heard from lately.
type Port struct {
	conn *net.UDPConn
	mac  address.MAC

	mu    sync.Mutex
	peers []netip.AddrPort // latest last
	fixed bool
}

var _ lan.Port = (*Port)(nil)

// Listen waits for peers at a loopback address like 127.0.0.1:4789.
func Listen(at string, mac address.MAC) (*Port, error) {
	addr, err := loopback(at)
	if err != nil {
		return nil, err
	}
	conn, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(addr))
	if err != nil {
		return nil, problem.New(problem.Machine, "cannot listen at "+at,
			"choose another port").About("VXLAN").Because(err)
	}
	return newPort(conn, mac), nil
}

// Dial joins the segment that is served at a loopback address.
func Dial(to string, mac address.MAC) (*Port, error) {
	addr, err := loopback(to)
	if err != nil {
		return nil, err
	}
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		return nil, err
	}
	p := newPort(conn, mac)
	p.peers, p.fixed = []netip.AddrPort{addr}, true
	return p, nil
}

func newPort(conn *net.UDPConn, mac address.MAC) *Port {
	// Best effort: the kernel caps the size, and a burst that does not fit is lost as on a wire.
	_ = conn.SetReadBuffer(8 << 20)
	_ = conn.SetWriteBuffer(8 << 20)
	return &Port{conn: conn, mac: mac}
}

func loopback(s string) (netip.AddrPort, error) {
	a, err := netip.ParseAddrPort(s)
	if err != nil || !a.Addr().Is4() || !a.Addr().IsLoopback() {
		return netip.AddrPort{}, problem.New(problem.Usage, s+" is not a loopback address with a port",
			"write it like 127.0.0.1:4789").About("VXLAN")
	}
	return a, nil
}

// Addr is the address that this end listens at.
func (p *Port) Addr() netip.AddrPort { return p.conn.LocalAddr().(*net.UDPAddr).AddrPort() }

// MAC implements lan.Port.
func (p *Port) MAC() address.MAC { return p.mac }

// Send implements lan.Port.
func (p *Port) Send(frame []byte) error {
	packet := make([]byte, headerLen, headerLen+len(frame))
	packet[0] = flagVNI
	binary.BigEndian.PutUint32(packet[4:], network<<8)
	packet = append(packet, frame...)
	p.mu.Lock()
	peers := append([]netip.AddrPort(nil), p.peers...)
	p.mu.Unlock()
	var failed error
	for _, peer := range peers {
		if _, err := p.conn.WriteToUDPAddrPort(packet, peer); errors.Is(err, net.ErrClosed) {
			return lan.ErrClosed
		} else if err != nil {
			failed = err
		}
	}
	return failed
}

// Receive implements lan.Port.
func (p *Port) Receive() ([]byte, error) {
	buf := make([]byte, 1<<16)
	for {
		n, from, err := p.conn.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return nil, lan.ErrClosed
		}
		if err != nil {
			return nil, err
		}
		if frame, ok := unwrap(buf[:n]); ok && from.Addr().IsLoopback() {
			p.heard(from)
			return append([]byte(nil), frame...), nil
		}
	}
}

// unwrap takes the frame out of a VXLAN packet.
func unwrap(b []byte) ([]byte, bool) {
	if len(b) < headerLen+14 || b[0]&flagVNI == 0 || binary.BigEndian.Uint32(b[4:])>>8 != network {
		return nil, false
	}
	return b[headerLen:], true
}

func (p *Port) heard(from netip.AddrPort) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.fixed {
		return
	}
	for i, peer := range p.peers {
		if peer == from {
			// Keep the latest last.
			p.peers = append(append(p.peers[:i:i], p.peers[i+1:]...), from)
			return
		}
	}
	if len(p.peers) == maxPeers {
		p.peers = p.peers[1:]
	}
	p.peers = append(p.peers, from)
}

// Close implements lan.Port.
func (p *Port) Close() error { return p.conn.Close() }
