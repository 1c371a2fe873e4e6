// Package netstack is one small TCP/IP host in user space: one MAC, one address,
// on gVisor's stack. Frames go in by Deliver and come out through a
// function.
package netstack

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"gvisor.dev/gvisor/pkg/buffer"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/link/channel"
	"gvisor.dev/gvisor/pkg/tcpip/link/ethernet"
	"gvisor.dev/gvisor/pkg/tcpip/network/arp"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv6"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/icmp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/udp"
	"gvisor.dev/gvisor/pkg/waiter"

	"redstart/internal/core/address"
	"redstart/internal/lan"
)

const (
	nicID    = 1
	outDepth = 256 // frames waiting to be sent
)

// Host is one running stack.
type Host struct {
	stack *stack.Stack
	link  *channel.Endpoint
	stop  context.CancelFunc
	sent  sync.WaitGroup
}

// New starts a host. Outgoing frames are handed to send, one at a time. An
// invalid prefix starts a host without an address, an IPv6 one a host that
// speaks IPv6 only.
func New(mac address.MAC, at netip.Prefix, gateway netip.Addr, send func(frame []byte)) (*Host, error) {
	options := stack.Options{
		NetworkProtocols:   []stack.NetworkProtocolFactory{ipv4.NewProtocol, arp.NewProtocol},
		TransportProtocols: []stack.TransportProtocolFactory{tcp.NewProtocol, udp.NewProtocol, icmp.NewProtocol4},
	}
	six := at.IsValid() && at.Addr().Is6()
	if six {
		options.NetworkProtocols = []stack.NetworkProtocolFactory{ipv6.NewProtocol}
		options.TransportProtocols = []stack.TransportProtocolFactory{tcp.NewProtocol, udp.NewProtocol,
			icmp.NewProtocol6}
	}
	s := stack.New(options)
	link := channel.New(outDepth, lan.MTU+header.EthernetMinimumSize, tcpip.LinkAddress(mac[:]))
	// Kernels on the same machine hand over partial checksums.
	link.LinkEPCapabilities |= stack.CapabilityRXChecksumOffload
	if err := s.CreateNIC(nicID, ethernet.New(link)); err != nil {
		return nil, fmt.Errorf("netstack: %s", err)
	}
	h := &Host{stack: s, link: link}
	if six {
		if err := s.AddProtocolAddress(nicID, tcpip.ProtocolAddress{
			Protocol: ipv6.ProtocolNumber,
			AddressWithPrefix: tcpip.AddressWithPrefix{Address: tcpip.AddrFrom16(at.Addr().As16()),
				PrefixLen: at.Bits()},
		}, stack.AddressProperties{}); err != nil {
			return nil, fmt.Errorf("netstack: %s", err)
		}
		s.SetRouteTable([]tcpip.Route{{Destination: header.IPv6EmptySubnet, NIC: nicID}})
	} else if at.IsValid() {
		if err := s.AddProtocolAddress(nicID, tcpip.ProtocolAddress{
			Protocol:          ipv4.ProtocolNumber,
			AddressWithPrefix: tcpip.AddressWithPrefix{Address: tcpip.AddrFrom4(at.Addr().As4()), PrefixLen: at.Bits()},
		}, stack.AddressProperties{}); err != nil {
			return nil, fmt.Errorf("netstack: %s", err)
		}
		h.route(at, gateway)
	}
	ctx, stop := context.WithCancel(context.Background())
	h.stop = stop
	h.sent.Add(1)
	go func() {
		defer h.sent.Done()
		for {
			p := link.ReadContext(ctx)
			if p == nil {
				return
			}
			view := p.ToView()
			send(view.AsSlice())
			view.Release()
			p.DecRef()
		}
	}()
	return h, nil
}

func (h *Host) route(at netip.Prefix, gateway netip.Addr) {
	subnet, _ := tcpip.NewSubnet(tcpip.AddrFrom4(at.Masked().Addr().As4()), tcpip.MaskFromBytes(maskBytes(at.Bits())))
	routes := []tcpip.Route{{Destination: subnet, NIC: nicID}}
	if gateway.IsValid() && !gateway.IsUnspecified() {
		routes = append(routes, tcpip.Route{Destination: header.IPv4EmptySubnet,
			Gateway: tcpip.AddrFrom4(gateway.As4()), NIC: nicID})
	}
	h.stack.SetRouteTable(routes)
}

func maskBytes(bits int) []byte { return net.CIDRMask(bits, 32) }

// Pin fixes the MAC of a neighbour and makes it on-link, whatever the prefix.
func (h *Host) Pin(ip netip.Addr, mac address.MAC) error {
	if err := h.stack.AddStaticNeighbor(nicID, ipv4.ProtocolNumber, tcpip.AddrFrom4(ip.As4()),
		tcpip.LinkAddress(mac[:])); err != nil {
		return fmt.Errorf("netstack: %s", err)
	}
	h.stack.AddRoute(tcpip.Route{Destination: tcpip.AddrFrom4(ip.As4()).WithPrefix().Subnet(), NIC: nicID})
	return nil
}

// Deliver hands in a frame from the segment.
func (h *Host) Deliver(frame []byte) {
	p := stack.NewPacketBuffer(stack.PacketBufferOptions{Payload: buffer.MakeWithData(frame)})
	defer p.DecRef()
	h.link.InjectInbound(0, p)
}

// Dial opens a TCP connection.
func (h *Host) Dial(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	c, err := gonet.DialContextTCP(ctx, h.stack, full(to), ipv4.ProtocolNumber)
	if err != nil {
		return nil, err
	}
	return c, nil
}

// DialUDP opens a UDP conversation.
func (h *Host) DialUDP(to netip.AddrPort) (net.Conn, error) {
	remote := full(to)
	return gonet.DialUDP(h.stack, nil, &remote, ipv4.ProtocolNumber)
}

// ListenTCP accepts TCP connections at a port.
func (h *Host) ListenTCP(port uint16) (net.Listener, error) {
	return gonet.ListenTCP(h.stack, tcpip.FullAddress{NIC: nicID, Port: port}, ipv4.ProtocolNumber)
}

// ListenUDP takes datagrams at a port, those to everybody and to groups among
// them. An invalid group joins none.
func (h *Host) ListenUDP(port uint16, group netip.Addr) (net.PacketConn, error) {
	if group.IsValid() {
		if err := h.stack.JoinGroup(ipv4.ProtocolNumber, nicID, tcpip.AddrFrom4(group.As4())); err != nil {
			return nil, fmt.Errorf("netstack: %s", err)
		}
	}
	return gonet.DialUDP(h.stack, &tcpip.FullAddress{NIC: nicID, Port: port}, nil, ipv4.ProtocolNumber)
}

// ErrNoEcho says that nobody answered.
var ErrNoEcho = errors.New("no echo reply came")

// Echo sends ICMP echo requests (RFC 792) once a second until one is answered
// or the context ends.
func (h *Host) Echo(ctx context.Context, to netip.Addr) error {
	var wq waiter.Queue
	ep, tcpErr := h.stack.NewEndpoint(icmp.ProtocolNumber4, ipv4.ProtocolNumber, &wq)
	if tcpErr != nil {
		return fmt.Errorf("netstack: %s", tcpErr)
	}
	defer ep.Close()
	if err := ep.Connect(tcpip.FullAddress{NIC: nicID, Addr: tcpip.AddrFrom4(to.As4())}); err != nil {
		return fmt.Errorf("netstack: %s", err)
	}
	entry, ready := waiter.NewChannelEntry(waiter.ReadableEvents)
	wq.EventRegister(&entry)
	defer wq.EventUnregister(&entry)
	again := time.NewTicker(time.Second)
	defer again.Stop()
	for sequence := uint16(1); ; sequence++ {
		request := header.ICMPv4(make([]byte, header.ICMPv4MinimumSize+8))
		request.SetType(header.ICMPv4Echo)
		binary.BigEndian.PutUint16(request[6:], sequence)
		if _, err := ep.Write(bytes.NewReader(request), tcpip.WriteOptions{}); err != nil {
			return fmt.Errorf("netstack: %s", err)
		}
		select {
		case <-ready:
			return nil
		case <-again.C:
		case <-ctx.Done():
			return ErrNoEcho
		}
	}
}

// Close ends every connection and frees the stack.
func (h *Host) Close() {
	h.stop()
	h.stack.Close()
	h.link.Close()
	h.sent.Wait()
	h.stack.RemoveNIC(nicID)
}

func full(a netip.AddrPort) tcpip.FullAddress {
	return tcpip.FullAddress{NIC: nicID, Addr: tcpip.AddrFrom4(a.Addr().As4()), Port: a.Port()}
}
