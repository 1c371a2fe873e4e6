// Package vlan puts ports on one virtual LAN of a wire (IEEE 802.1Q-2018, clause 9): a port
// around a port, without the kernel's help.
package vlan

import (
	"encoding/binary"

	"redstart/internal/core/address"
	"redstart/internal/lan"
)

// Virtual LANs have the numbers from First to Last; None are the frames that carry none.
const (
	None  = 0
	First = 1
	Last  = 4094
)

// tpid is the type of a tag (IEEE 802.1Q-2018, table 9-1); tagSize is its size in bytes,
// type included. It stands behind the two addresses.
const (
	tpid      = 0x8100
	tagSize   = 4
	addresses = 12
	idMask    = 0x0fff
)

// Port is a port on one virtual LAN.
type Port struct {
	port lan.Port
	id   uint16
}

var _ lan.Port = (*Port)(nil)

// On gives a port that sends and hears on one virtual LAN of a wire. With None it hears
// what carries no number, also where a priority is given all the same (a tag with the
// number 0), and nothing that is tagged for another. The port inside belongs to it.
func On(p lan.Port, id uint16) *Port { return &Port{p, id} }

// MAC implements lan.Port.
func (p *Port) MAC() address.MAC { return p.port.MAC() }

// Send implements lan.Port: the frame goes out with the tag, at the usual priority.
func (p *Port) Send(frame []byte) error {
	if p.id == None || len(frame) < addresses {
		return p.port.Send(frame)
	}
	tagged := make([]byte, 0, len(frame)+tagSize)
	tagged = append(tagged, frame[:addresses]...)
	tagged = binary.BigEndian.AppendUint16(tagged, tpid)
	tagged = binary.BigEndian.AppendUint16(tagged, p.id)
	return p.port.Send(append(tagged, frame[addresses:]...))
}

// Receive implements lan.Port: what is on another virtual LAN is left out, and the tag is
// taken off.
func (p *Port) Receive() ([]byte, error) {
	for {
		frame, err := p.port.Receive()
		if err != nil {
			return nil, err
		}
		id, tagged := of(frame)
		switch {
		case id != p.id:
		case !tagged:
			return frame, nil
		default:
			bare := append([]byte(nil), frame[:addresses]...) // others may have the same one
			return append(bare, frame[addresses+tagSize:]...), nil
		}
	}
}

// of tells on which virtual LAN a frame is.
func of(frame []byte) (id uint16, tagged bool) {
	if len(frame) < addresses+tagSize+2 || binary.BigEndian.Uint16(frame[addresses:]) != tpid {
		return None, false
	}
	return binary.BigEndian.Uint16(frame[addresses+2:]) & idMask, true
}

// Close implements lan.Port.
func (p *Port) Close() error { return p.port.Close() }

// Link reports whether the wire has a link, where the port inside knows.
func (p *Port) Link() bool {
	inner, knows := p.port.(lan.Linked)
	return !knows || inner.Link()
}
