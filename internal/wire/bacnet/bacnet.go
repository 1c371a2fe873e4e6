// Package bacnet encodes and decodes the few BACnet/IP messages that find
// devices (ASHRAE 135-2020): Who-Is and I-Am (16.10), Who-Is-Router-To-Network
// and I-Am-Router-To-Network (6.4), ReadProperty of a character string (15.5),
// in NPDUs (6.2) in BVLL messages (Annex J.2).
package bacnet

import (
	"encoding/binary"
	"errors"
	"strconv"
	"unicode/utf16"
)

// Port is BACnet/IP's UDP port, X'BAC0' (Annex J.1.2).
const Port = 47808

// BVLL functions (J.2).
const (
	bvll              = 0x81
	forwardedNPDU     = 0x04
	originalUnicast   = 0x0a
	originalBroadcast = 0x0b
)

// NPDU control bits (6.2.2) and network messages (6.2.4).
const (
	networkMessage = 0x80
	hasDestination = 0x20
	hasSource      = 0x08
	expectsReply   = 0x04
	whoIsRouter    = 0x00
	iAmRouter      = 0x01
	everyNetwork   = 0xffff
	mostNetworks   = 256
)

// APDU types and service choices (20.1, 21).
const (
	confirmedRequest    = 0x00
	unconfirmedRequest  = 0x10
	complexACK          = 0x30
	serviceIAm          = 0
	serviceWhoIs        = 8
	serviceReadProperty = 12
)

// Properties of the device object (21, BACnetPropertyIdentifier).
const (
	FirmwareRevision = 44
	ModelName        = 70
	ObjectName       = 77
	VendorName       = 121
	SerialNumber     = 372
)

const deviceObject = 8 // object type (21, BACnetObjectType)

// ErrMalformed says that the bytes are no message that we understand.
var ErrMalformed = errors.New("bacnet: not a message for finding devices")

// Station is a device behind a router: its network and its address there, an
// MS/TP address for one octet. The zero value is a device on the IP network itself.
type Station struct {
	Network uint16
	Address string // raw octets
}

// String prints "4001/11" for MS/TP address 11 on network 4001; "" for the
// zero value.
func (s Station) String() string {
	switch {
	case s.Network == 0:
		return ""
	case len(s.Address) == 1:
		return strconv.Itoa(int(s.Network)) + "/" + strconv.Itoa(int(s.Address[0]))
	}
	text := strconv.Itoa(int(s.Network)) + "/"
	for i, b := range []byte(s.Address) {
		if i > 0 {
			text += "."
		}
		text += strconv.Itoa(int(b))
	}
	return text
}

// Kinds of message.
const (
	KindWhoIs       = "who-is"
	KindIAm         = "i-am"
	KindWhoIsRouter = "who-is-router"
	KindIAmRouter   = "i-am-router"
	KindRead        = "read-property"
	KindValue       = "value"
)

// Message is one decoded message.
type Message struct {
	Kind     string
	From     Station  // where it comes from, behind a router
	To       Station  // where it goes to
	Instance uint32   // of the device object
	Vendor   uint16   // ASHRAE vendor identifier
	Networks []uint16 // that a router reaches
	Property uint32
	Text     string // of the property
	Invoke   byte
}

// Frame encodes a message as the payload of a datagram; broadcast says that it
// goes to everybody on the IP network.
func (m Message) Frame(broadcast bool) []byte {
	control := byte(0)
	var body []byte
	switch m.Kind {
	case KindWhoIs:
		body = []byte{unconfirmedRequest, serviceWhoIs}
	case KindIAm:
		body = []byte{unconfirmedRequest, serviceIAm, 0xc4}
		body = binary.BigEndian.AppendUint32(body, deviceObject<<22|m.Instance)
		body = append(body, 0x22, 0x05, 0xc4, 0x91, 3, 0x22) // 1476 octets, no segmentation
		body = binary.BigEndian.AppendUint16(body, m.Vendor)
	case KindWhoIsRouter:
		control, body = networkMessage, []byte{whoIsRouter}
	case KindIAmRouter:
		control, body = networkMessage, []byte{iAmRouter}
		for _, n := range m.Networks {
			body = binary.BigEndian.AppendUint16(body, n)
		}
	case KindRead:
		control = expectsReply
		body = []byte{confirmedRequest, 0x05, m.Invoke, serviceReadProperty}
		body = m.appendProperty(body)
	case KindValue:
		body = m.appendProperty([]byte{complexACK, m.Invoke, serviceReadProperty})
		text := m.Text[:min(len(m.Text), 200)]
		body = append(body, 0x3e, 0x75, byte(len(text)+1), 0)
		body = append(append(body, text...), 0x3f)
	}
	return frame(control, m.To, m.From, body, broadcast)
}

// frame puts an APDU or network message into an NPDU (6.2) in a BVLL message (J.2).
func frame(control byte, to, from Station, body []byte, broadcast bool) []byte {
	npdu := []byte{1, 0}
	if to.Network != 0 {
		control |= hasDestination
		npdu = binary.BigEndian.AppendUint16(npdu, to.Network)
		npdu = append(append(npdu, byte(len(to.Address))), to.Address...)
	}
	if from.Network != 0 {
		control |= hasSource
		npdu = binary.BigEndian.AppendUint16(npdu, from.Network)
		npdu = append(append(npdu, byte(len(from.Address))), from.Address...)
	}
	if to.Network != 0 {
		npdu = append(npdu, 255) // hop count
	}
	npdu[1] = control
	function := byte(originalUnicast)
	if broadcast {
		function = originalBroadcast
	}
	b := binary.BigEndian.AppendUint16([]byte{bvll, function}, uint16(4+len(npdu)+len(body)))
	return append(append(b, npdu...), body...)
}

func (m Message) appendProperty(b []byte) []byte {
	b = binary.BigEndian.AppendUint32(append(b, 0x0c), deviceObject<<22|m.Instance)
	if m.Property > 255 {
		return binary.BigEndian.AppendUint16(append(b, 0x1a), uint16(m.Property))
	}
	return append(b, 0x19, byte(m.Property))
}

// Everywhere is the global broadcast: this network and all behind routers (6.3.1).
var Everywhere = Station{Network: everyNetwork}

// Parse decodes the payload of a datagram.
func Parse(b []byte) (Message, error) {
	from, to, network, b, err := parse(b)
	if err != nil {
		return Message{}, err
	}
	m := Message{From: from, To: to}
	if network {
		return m.network(b)
	}
	return m.application(b)
}

// parse unpacks what is in a BVLL message and its NPDU: an APDU, or a network message.
func parse(b []byte) (from, to Station, network bool, body []byte, err error) {
	wrong := func() (Station, Station, bool, []byte, error) {
		return Station{}, Station{}, false, nil, ErrMalformed
	}
	if len(b) < 4 || b[0] != bvll || int(binary.BigEndian.Uint16(b[2:])) != len(b) {
		return wrong()
	}
	function := b[1]
	b = b[4:]
	switch function {
	case originalUnicast, originalBroadcast:
	case forwardedNPDU:
		if len(b) < 6 {
			return wrong()
		}
		b = b[6:]
	default:
		return wrong()
	}
	if len(b) < 2 || b[0] != 1 {
		return wrong()
	}
	control := b[1]
	b = b[2:]
	var ok bool
	if control&hasDestination != 0 {
		if to, b, ok = station(b); !ok {
			return wrong()
		}
	}
	if control&hasSource != 0 {
		if from, b, ok = station(b); !ok || from.Network == 0 || from.Network == everyNetwork || from.Address == "" {
			return wrong()
		}
	}
	if control&hasDestination != 0 {
		if len(b) < 1 {
			return wrong()
		}
		b = b[1:]
	}
	return from, to, control&networkMessage != 0, b, nil
}

func station(b []byte) (Station, []byte, bool) {
	if len(b) < 3 || int(b[2]) > len(b)-3 || b[2] > 18 {
		return Station{}, nil, false
	}
	n := 3 + int(b[2])
	return Station{binary.BigEndian.Uint16(b), string(b[3:n])}, b[n:], true
}

func (m Message) network(b []byte) (Message, error) {
	switch {
	case len(b) >= 1 && b[0] == whoIsRouter:
		m.Kind = KindWhoIsRouter
		return m, nil
	case len(b) >= 3 && b[0] == iAmRouter && len(b)%2 == 1 && len(b)/2 <= mostNetworks:
		m.Kind = KindIAmRouter
		for b = b[1:]; len(b) > 0; b = b[2:] {
			m.Networks = append(m.Networks, binary.BigEndian.Uint16(b))
		}
		return m, nil
	}
	return Message{}, ErrMalformed
}

func (m Message) application(b []byte) (Message, error) {
	if len(b) < 2 {
		return Message{}, ErrMalformed
	}
	switch {
	case b[0] == unconfirmedRequest && b[1] == serviceWhoIs:
		m.Kind = KindWhoIs
		return m, nil
	case b[0] == unconfirmedRequest && b[1] == serviceIAm:
		return m.iAm(b[2:])
	case b[0]&0xf0 == confirmedRequest && len(b) >= 4 && b[3] == serviceReadProperty:
		m.Kind, m.Invoke = KindRead, b[2]
		_, err := m.property(b[4:])
		return m, err
	case b[0] == complexACK && len(b) >= 3 && b[2] == serviceReadProperty:
		m.Kind, m.Invoke = KindValue, b[1]
		rest, err := m.property(b[3:])
		if err == nil {
			m.Text, err = characters(rest)
		}
		return m, err
	}
	return Message{}, ErrMalformed
}

// iAm reads object, largest APDU, segmentation and vendor.
func (m Message) iAm(b []byte) (Message, error) {
	if len(b) < 5 || b[0] != 0xc4 || binary.BigEndian.Uint32(b[1:])>>22 != deviceObject {
		return Message{}, ErrMalformed
	}
	m.Kind, m.Instance = KindIAm, binary.BigEndian.Uint32(b[1:])&0x3fffff
	b = b[5:]
	for _, tag := range []byte{2, 9, 2} {
		if len(b) < 1 || b[0]>>4 != tag || b[0]&8 != 0 || b[0]&7 == 0 || b[0]&7 > 4 || len(b) < 1+int(b[0]&7) {
			return Message{}, ErrMalformed
		}
		n := 0
		for _, octet := range b[1 : 1+b[0]&7] {
			n = n<<8 | int(octet)
		}
		m.Vendor = uint16(n) // the last of the three
		b = b[1+b[0]&7:]
	}
	return m, nil
}

// property reads object and property, and gives what follows.
func (m *Message) property(b []byte) ([]byte, error) {
	if len(b) < 7 || b[0] != 0x0c || binary.BigEndian.Uint32(b[1:])>>22 != deviceObject {
		return nil, ErrMalformed
	}
	m.Instance = binary.BigEndian.Uint32(b[1:]) & 0x3fffff
	switch {
	case b[5] == 0x19:
		m.Property = uint32(b[6])
		return b[7:], nil
	case b[5] == 0x1a && len(b) >= 8:
		m.Property = uint32(binary.BigEndian.Uint16(b[6:]))
		return b[8:], nil
	}
	return nil, ErrMalformed
}

// characters reads a character string in the brackets of context 3 (20.2.9).
func characters(b []byte) (string, error) {
	if len(b) < 4 || b[0] != 0x3e || b[1]>>4 != 7 || b[1]&8 != 0 {
		return "", ErrMalformed
	}
	n := int(b[1] & 7)
	b = b[2:]
	if n == 5 { // the length follows
		n = int(b[0])
		if b = b[1:]; n >= 254 {
			return "", ErrMalformed
		}
	}
	if n < 1 || len(b) < n+1 || b[n] != 0x3f {
		return "", ErrMalformed
	}
	return decoded(b[0], b[1:n])
}

// decoded gives a character string of an encoding as text (20.2.9).
func decoded(encoding byte, raw []byte) (string, error) {
	switch encoding {
	case 0: // UTF-8
		return string(raw), nil
	case 4: // UCS-2
		var units []uint16
		for ; len(raw) >= 2; raw = raw[2:] {
			units = append(units, binary.BigEndian.Uint16(raw))
		}
		return string(utf16.Decode(units)), nil
	case 5: // ISO 8859-1
		var text []rune
		for _, c := range raw {
			text = append(text, rune(c))
		}
		return string(text), nil
	}
	return "", ErrMalformed
}
