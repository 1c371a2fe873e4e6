// Package enip encodes and decodes the ListIdentity exchange of EtherNet/IP
// (CIP Networks Library, Volume 2, 2-3 and 2-4.3). Numbers are little-endian,
// the embedded socket address big-endian.
package enip

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
)

// Port is the UDP and TCP port of the encapsulation protocol (Volume 2, 2-2).
const Port = 44818

const (
	commandListIdentity = 0x63
	itemIdentity        = 0x0c
	headerSize          = 24
	leastItem           = 33 // up to and with the length of the product name
)

// ErrMalformed says that the bytes are no ListIdentity message.
var ErrMalformed = errors.New("enip: not a ListIdentity message")

// Request asks every device who it is.
func Request() []byte {
	b := make([]byte, headerSize)
	binary.LittleEndian.PutUint16(b, commandListIdentity)
	return b
}

// IsRequest reports whether the datagram is such a question.
func IsRequest(b []byte) bool {
	return len(b) >= headerSize && binary.LittleEndian.Uint16(b) == commandListIdentity &&
		binary.LittleEndian.Uint16(b[2:]) == 0
}

// Identity is what a device says of itself: the attributes of its identity
// object (Volume 1, 5A-2).
type Identity struct {
	Address            netip.Addr
	Vendor, Type, Code uint16
	RevMajor, RevMinor byte
	Status             uint16
	Serial             uint32
	Product            string
	State              byte
}

// Revision prints the revision as the trade writes it.
func (i Identity) Revision() string { return fmt.Sprintf("%d.%03d", i.RevMajor, i.RevMinor) }

// Configured reports bit 2 of the status: the device was given something that
// differs from its factory state (Volume 1, Table 5A-2.4).
func (i Identity) Configured() bool { return i.Status&4 != 0 }

// Parse decodes an answer.
func Parse(b []byte) (Identity, error) {
	var i Identity
	if len(b) < headerSize+2 || binary.LittleEndian.Uint16(b) != commandListIdentity ||
		binary.LittleEndian.Uint32(b[8:]) != 0 ||
		int(binary.LittleEndian.Uint16(b[2:])) > len(b)-headerSize {
		return i, ErrMalformed
	}
	b = b[headerSize : headerSize+int(binary.LittleEndian.Uint16(b[2:]))]
	if len(b) < 6 || binary.LittleEndian.Uint16(b) < 1 || binary.LittleEndian.Uint16(b[2:]) != itemIdentity {
		return i, ErrMalformed
	}
	n := int(binary.LittleEndian.Uint16(b[4:]))
	if n > len(b)-6 || n < leastItem {
		return i, ErrMalformed
	}
	b = b[6 : 6+n]
	// Encapsulation version 2, socket address 16 (family, port, address, zeros).
	i.Address = netip.AddrFrom4([4]byte(b[6:10]))
	i.Vendor, i.Type, i.Code = binary.LittleEndian.Uint16(b[18:]), binary.LittleEndian.Uint16(b[20:]), binary.LittleEndian.Uint16(b[22:])
	i.RevMajor, i.RevMinor = b[24], b[25]
	i.Status, i.Serial = binary.LittleEndian.Uint16(b[26:]), binary.LittleEndian.Uint32(b[28:])
	name := int(b[32])
	if name > len(b)-leastItem {
		return Identity{}, ErrMalformed
	}
	i.Product = string(b[leastItem : leastItem+name])
	if len(b) > leastItem+name {
		i.State = b[leastItem+name]
	}
	return i, nil
}

// Answer encodes an identity; the product name is cut at 32 bytes.
func (i Identity) Answer() []byte {
	product := i.Product
	if len(product) > 32 {
		product = product[:32]
	}
	item := binary.LittleEndian.AppendUint16(nil, 1)
	item = binary.BigEndian.AppendUint16(item, 2)
	item = binary.BigEndian.AppendUint16(item, Port)
	four := i.Address.As4()
	item = append(append(item, four[:]...), make([]byte, 8)...)
	for _, v := range []uint16{i.Vendor, i.Type, i.Code} {
		item = binary.LittleEndian.AppendUint16(item, v)
	}
	item = append(item, i.RevMajor, i.RevMinor)
	item = binary.LittleEndian.AppendUint16(item, i.Status)
	item = binary.LittleEndian.AppendUint32(item, i.Serial)
	item = append(append(append(item, byte(len(product))), product...), i.State)
	b := Request()
	binary.LittleEndian.PutUint16(b[2:], uint16(6+len(item)))
	b = binary.LittleEndian.AppendUint16(b, 1)
	b = binary.LittleEndian.AppendUint16(b, itemIdentity)
	b = binary.LittleEndian.AppendUint16(b, uint16(len(item)))
	return append(b, item...)
}
