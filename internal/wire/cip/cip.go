// Package cip encodes and decodes unconnected explicit messages of the Common Industrial
// Protocol (CIP Networks Library, Volume 1, 2-4) and the values that attributes have (Volume
// 1, appendix C-5). Numbers are little-endian.
package cip

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
)

// Services (Volume 1, appendix A-3).
const (
	Reset  = 0x05
	GetOne = 0x0e // Get_Attribute_Single
	SetOne = 0x10 // Set_Attribute_Single
	answer = 0x80 // is added to the service in an answer
)

// Classes of objects.
const (
	Identity     = 0x01 // Volume 1, 5A-2
	TCPIP        = 0xf5 // Volume 2, 5-4
	EthernetLink = 0xf6 // Volume 2, 5-5
)

// MaxData bounds the data of a message, in bytes: what an unconnected message carries.
const MaxData = 504

// Path names an attribute of an object; an Attribute of 0 stands for the object.
type Path struct{ Class, Instance, Attribute uint16 }

// Request is a message to an object.
type Request struct {
	Service byte
	Path    Path
	Data    []byte
}

// Response is what comes back.
type Response struct {
	Service byte // of the request
	Status  byte // general status (Volume 1, appendix B-1); 0: it was done
	Data    []byte
}

// ErrMalformed says that the bytes are no message.
var ErrMalformed = errors.New("cip: not a message")

// Logical segments (Volume 1, appendix C-1.4.2), with one and two bytes.
const (
	segmentClass     = 0x20
	segmentInstance  = 0x24
	segmentAttribute = 0x30
	wide             = 0x01
)

func segment(b []byte, kind byte, n uint16) []byte {
	if n <= 0xff {
		return append(b, kind, byte(n))
	}
	return binary.LittleEndian.AppendUint16(append(b, kind|wide, 0), n)
}

// Append encodes a request.
func (r Request) Append(b []byte) []byte {
	path := segment(segment(nil, segmentClass, r.Path.Class), segmentInstance, r.Path.Instance)
	if r.Path.Attribute != 0 {
		path = segment(path, segmentAttribute, r.Path.Attribute)
	}
	return append(append(append(b, r.Service, byte(len(path)/2)), path...), r.Data...)
}

// ParseRequest decodes a request, as a device does.
func ParseRequest(b []byte) (Request, error) {
	if len(b) < 2 || len(b) < 2+2*int(b[1]) || b[0]&answer != 0 || len(b) > 2+2*0xff+MaxData {
		return Request{}, ErrMalformed
	}
	r := Request{Service: b[0], Data: b[2+2*int(b[1]):]}
	path := b[2 : 2+2*int(b[1])]
	for len(path) > 0 {
		kind, n, size := path[0]&^wide, uint16(path[1]), 2
		if path[0]&wide != 0 {
			if len(path) < 4 {
				return Request{}, ErrMalformed
			}
			n, size = binary.LittleEndian.Uint16(path[2:]), 4
		}
		switch kind {
		case segmentClass:
			r.Path.Class = n
		case segmentInstance:
			r.Path.Instance = n
		case segmentAttribute:
			r.Path.Attribute = n
		default:
			return Request{}, ErrMalformed
		}
		path = path[size:]
	}
	return r, nil
}

// Append encodes a response.
func (r Response) Append(b []byte) []byte {
	return append(append(b, r.Service|answer, 0, r.Status, 0), r.Data...)
}

// ParseResponse decodes a response.
func ParseResponse(b []byte) (Response, error) {
	if len(b) < 4 || b[0]&answer == 0 {
		return Response{}, ErrMalformed
	}
	skip := 4 + 2*int(b[3]) // additional status, in words
	if len(b) < skip || len(b) > skip+MaxData {
		return Response{}, ErrMalformed
	}
	return Response{Service: b[0] &^ answer, Status: b[2], Data: b[skip:]}, nil
}

// statuses are the general status codes (Volume 1, appendix B-1) in plain words.
var statuses = map[byte]string{
	0x02: "it has no room for this now",
	0x03: "it does not take this value",
	0x04: "it does not understand the path",
	0x05: "it has no such object",
	0x08: "it cannot do that",
	0x09: "it does not take this value",
	0x0b: "it is in that state already",
	0x0c: "it cannot do that in the state that it is in",
	0x0e: "this cannot be written",
	0x0f: "it does not allow that",
	0x10: "it cannot do that in the state that it is in",
	0x13: "it was told too little",
	0x14: "it has no such attribute",
	0x15: "it was told too much",
	0x1f: "its maker's own error",
	0x20: "it does not take this value",
}

// StatusText says in plain words what a general status means.
func StatusText(status byte) string {
	if text := statuses[status]; text != "" {
		return text
	}
	return fmt.Sprintf("it answered with the status %02Xh", status)
}

// Types of values (Volume 1, appendix C-5.1), and two that the TCP/IP interface object makes
// of them.
const (
	USInt       = "usint"
	UInt        = "uint"
	UDInt       = "udint"
	DWord       = "dword"
	String      = "string"       // 16-bit length, padded to even
	ShortString = "short-string" // 8-bit length
	Address     = "address"      // an IPv4 address as UDINT; nothing is 0.0.0.0
	Hex         = "hex"          // UDINT in eight hexadecimal digits, as serials are printed
	Revision    = "revision"     // major and minor: 12.001
)

// Types are all of them.
var Types = []string{USInt, UInt, UDInt, DWord, String, ShortString, Address, Hex, Revision}

var sizes = map[string]int{USInt: 1, UInt: 2, UDInt: 4, DWord: 4, Address: 4, Hex: 4, Revision: 2}

// AppendValue encodes a value that is written as text; it says what is wrong with one that
// cannot be.
func AppendValue(b []byte, as, text string) ([]byte, error) {
	switch as {
	case String, ShortString:
		if len(text) > 0xff {
			return b, fmt.Errorf("it is longer than 255 bytes")
		}
		if as == ShortString {
			return append(append(b, byte(len(text))), text...), nil
		}
		b = append(binary.LittleEndian.AppendUint16(b, uint16(len(text))), text...)
		if len(text)%2 == 1 {
			b = append(b, 0)
		}
		return b, nil
	case Address:
		if text == "" {
			return binary.LittleEndian.AppendUint32(b, 0), nil
		}
		a, err := netip.ParseAddr(text)
		if err != nil || !a.Is4() {
			return b, fmt.Errorf("it is no IPv4 address")
		}
		four := a.As4()
		return binary.LittleEndian.AppendUint32(b, binary.BigEndian.Uint32(four[:])), nil
	case Revision:
		return b, fmt.Errorf("a revision is only told")
	}
	base := 10
	if as == Hex {
		base = 16
	}
	n, err := strconv.ParseUint(text, base, 8*sizes[as])
	if err != nil || sizes[as] == 0 {
		return b, fmt.Errorf("it is no number that fits %s", as)
	}
	for range sizes[as] {
		b = append(b, byte(n))
		n >>= 8
	}
	return b, nil
}

// Value decodes a value, and gives what follows it.
func Value(b []byte, as string) (text string, rest []byte, err error) {
	switch as {
	case ShortString:
		if len(b) < 1 || len(b) < 1+int(b[0]) {
			return "", nil, ErrMalformed
		}
		return string(b[1 : 1+int(b[0])]), b[1+int(b[0]):], nil
	case String:
		if len(b) < 2 {
			return "", nil, ErrMalformed
		}
		n := int(binary.LittleEndian.Uint16(b))
		if len(b) < 2+n {
			return "", nil, ErrMalformed
		}
		text, b = string(b[2:2+n]), b[2+n:]
		if n%2 == 1 && len(b) > 0 { // some leave the padding out at the end
			b = b[1:]
		}
		return text, b, nil
	}
	size := sizes[as]
	if size == 0 || len(b) < size {
		return "", nil, ErrMalformed
	}
	if as == Revision {
		return fmt.Sprintf("%d.%03d", b[0], b[1]), b[2:], nil
	}
	var n uint32
	for i := range size {
		n |= uint32(b[i]) << (8 * i)
	}
	rest = b[size:]
	switch as {
	case Address:
		if n == 0 {
			return "", rest, nil
		}
		return netip.AddrFrom4([4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)}).String(), rest, nil
	case Hex:
		return fmt.Sprintf("%08X", n), rest, nil
	}
	return strconv.FormatUint(uint64(n), 10), rest, nil
}
