package nic

import (
	"encoding/binary"
	"errors"
	"net"
	"os"
	"sync/atomic"
	"syscall"
	"unsafe"

	"github.com/mdlayher/packet"
	"golang.org/x/sys/unix"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/lan"
)

// largest frame the kernel may hand over: local peers send segments of up to
// 64 KiB before they are cut for the wire.
const maxFrame = 1<<16 + 64

const ethPAll = 3 // ETH_P_ALL of <linux/if_ether.h>

// Port is a network interface, through a packet socket.
type Port struct {
	conn   *packet.Conn
	raw    syscall.RawConn
	shut   atomic.Bool
	index  int // the kernel's number of the interface
	mac    address.MAC
	buf    []byte
	beside []byte // what the kernel tells beside a frame
}

var _ lan.Port = (*Port)(nil)

// Open takes frames from an interface and puts frames on it. The interface's
// own addresses and the computer's routes are neither used nor changed. With
// promiscuous, frames for any MAC are received. It needs CAP_NET_RAW.
func Open(name string, promiscuous bool) (*Port, error) {
	i, err := net.InterfaceByName(name)
	if err != nil {
		return nil, problem.New(problem.Machine, "there is no network interface "+name,
			"choose one of: "+names()).About("interface")
	}
	if len(i.HardwareAddr) != 6 {
		return nil, problem.New(problem.Machine, name+" is not an Ethernet interface",
			"choose one of: "+names()).About("interface")
	}
	if i.Flags&net.FlagUp == 0 {
		return nil, problem.New(problem.Machine, name+" is down",
			"plug in the cable, or switch it on with: ip link set "+name+" up").About("interface")
	}
	conn, err := packet.Listen(i, packet.Raw, ethPAll, nil)
	if errors.Is(err, os.ErrPermission) {
		return nil, problem.New(problem.Machine, "this program may not send raw frames on "+name,
			"allow it with: sudo setcap cap_net_raw+ep bin/redstart").About("interface")
	}
	if err != nil {
		return nil, problem.New(problem.Machine, "cannot open "+name,
			"check the interface with: ip link").About("interface").Because(err)
	}
	raw, err := conn.SyscallConn()
	if err == nil {
		err = prepare(raw, i.Index)
	}
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	if promiscuous {
		if err := conn.SetPromiscuous(true); err != nil {
			return nil, errors.Join(err, conn.Close())
		}
	}
	return &Port{conn: conn, raw: raw, index: i.Index, mac: address.MACFrom(i.HardwareAddr),
			buf: make([]byte, maxFrame), beside: make([]byte,
				unix.CmsgSpace(int(unsafe.Sizeof(unix.TpacketAuxdata{}))))},
		nil
}

// prepare has the adapter hand over frames to groups that the kernel did not join:
// neighbours' announcements, multicast DNS, questions for our IPv6 address. The membership
// ends with the socket (packet(7), PACKET_MR_ALLMULTI). And it has the kernel tell the tag
// of a virtual LAN, which it takes off (packet(7), PACKET_AUXDATA).
func prepare(raw syscall.RawConn, index int) error {
	var inner error
	err := raw.Control(func(fd uintptr) {
		inner = errors.Join(
			unix.SetsockoptPacketMreq(int(fd), unix.SOL_PACKET, unix.PACKET_ADD_MEMBERSHIP,
				&unix.PacketMreq{Ifindex: int32(index), Type: unix.PACKET_MR_ALLMULTI}),
			unix.SetsockoptInt(int(fd), unix.SOL_PACKET, unix.PACKET_AUXDATA, 1))
	})
	return errors.Join(err, inner)
}

// MAC implements lan.Port.
func (p *Port) MAC() address.MAC { return p.mac }

// Send implements lan.Port.
func (p *Port) Send(frame []byte) error {
	_, err := p.conn.WriteTo(frame, &packet.Addr{HardwareAddr: frame[:6]})
	if err != nil && p.shut.Load() {
		return lan.ErrClosed
	}
	return err
}

// Receive implements lan.Port. Frames that this computer itself sends are left out.
func (p *Port) Receive() ([]byte, error) {
	for {
		n, err := p.read()
		switch {
		case err != nil && p.shut.Load(): // the library's errors for it are several
			return nil, lan.ErrClosed
		case err != nil && p.gone():
			return nil, lan.ErrClosed // for good: without this a reader would ask again and again
		case err != nil:
			return nil, err
		case n >= 14 && address.MACFrom(p.buf[6:]) != p.mac:
			return append([]byte(nil), p.buf[:n]...), nil
		}
	}
}

// tagAt is where the tag of a virtual LAN stands: behind the two addresses.
const (
	tagAt   = 12
	tagSize = 4
)

// read takes the next frame as it was on the wire, with the tag that the kernel took off.
func (p *Port) read() (n int, err error) {
	var beside int
	ended := p.raw.Read(func(fd uintptr) bool {
		n, beside, _, _, err = unix.Recvmsg(int(fd), p.buf[:maxFrame-tagSize], p.beside, 0)
		return err != unix.EAGAIN && err != unix.EINTR
	})
	if err = errors.Join(ended, err); err != nil || n < tagAt {
		return n, err
	}
	messages, err := unix.ParseSocketControlMessage(p.beside[:beside])
	if err != nil {
		return n, nil // the frame is whole without it
	}
	for _, m := range messages {
		if m.Header.Level != unix.SOL_PACKET || m.Header.Type != unix.PACKET_AUXDATA ||
			len(m.Data) < int(unsafe.Sizeof(unix.TpacketAuxdata{})) {
			continue
		}
		aux := (*unix.TpacketAuxdata)(unsafe.Pointer(&m.Data[0]))
		if aux.Status&unix.TP_STATUS_VLAN_VALID == 0 {
			continue
		}
		kind := uint16(unix.ETH_P_8021Q)
		if aux.Status&unix.TP_STATUS_VLAN_TPID_VALID != 0 {
			kind = aux.Vlan_tpid
		}
		copy(p.buf[tagAt+tagSize:], p.buf[tagAt:n])
		binary.BigEndian.PutUint16(p.buf[tagAt:], kind)
		binary.BigEndian.PutUint16(p.buf[tagAt+2:], aux.Vlan_tci)
		return n + tagSize, nil
	}
	return n, nil
}

// gone reports whether the interface was taken away, as a USB adapter is.
func (p *Port) gone() bool {
	_, err := net.InterfaceByIndex(p.index)
	return err != nil
}

// Link reports whether the interface is up and has a link. One that is gone counts
// as such until Receive says so.
func (p *Port) Link() bool {
	i, err := net.InterfaceByIndex(p.index)
	return err == nil && i.Flags&net.FlagRunning != 0
}

// Close implements lan.Port.
func (p *Port) Close() error {
	p.shut.Store(true)
	return p.conn.Close()
}
