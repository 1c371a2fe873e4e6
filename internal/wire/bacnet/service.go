package bacnet

import (
	"encoding/binary"
	"fmt"
	"math"
	"net/netip"
	"strconv"
	"strings"
)

// Service choices of confirmed requests (21, BACnetConfirmedServiceChoice).
const (
	ReadProperty               = 12
	WriteProperty              = 15
	DeviceCommunicationControl = 17
	ReinitializeDevice         = 20
)

// Object is one object of a device (20.2.14). Instance AnyDevice of type Device is the device
// itself, whatever its number (12.11).
type Object struct {
	Type     uint16
	Instance uint32
}

// Device is the object type of the device itself, AnyDevice its wildcard instance.
const (
	Device    = deviceObject
	AnyDevice = 1<<22 - 1
)

// Types of values that are read and written, as profiles name them (20.2.1.4).
const (
	TypeNull       = "null"
	TypeBoolean    = "boolean"
	TypeUnsigned   = "unsigned"
	TypeSigned     = "signed"
	TypeReal       = "real"
	TypeText       = "text"
	TypeEnumerated = "enumerated"
)

var tags = map[string]byte{TypeNull: 0, TypeBoolean: 1, TypeUnsigned: 2, TypeSigned: 3, TypeReal: 4, TypeText: 7,
	TypeEnumerated: 9}

// MaxText is the longest text in one value, in bytes: it must fit an unsegmented message.
const MaxText = 400

// AppendValue encodes a value, written as text, as an application-tagged primitive (20.2).
func AppendValue(b []byte, as, text string) ([]byte, error) {
	tag, known := tags[as]
	if !known {
		return b, fmt.Errorf("there is no type %q", as)
	}
	var content []byte
	switch as {
	case TypeNull:
		return append(b, 0), nil
	case TypeBoolean:
		switch strings.ToLower(text) {
		case "yes", "true", "1":
			return append(b, 0x11), nil
		case "no", "false", "0":
			return append(b, 0x10), nil
		}
		return b, fmt.Errorf("%q is neither yes nor no", text)
	case TypeUnsigned, TypeEnumerated:
		n, err := strconv.ParseUint(text, 10, 32)
		if err != nil {
			return b, fmt.Errorf("%q is no number from 0 to 4294967295", text)
		}
		content = shortest(uint32(n))
	case TypeSigned:
		n, err := strconv.ParseInt(text, 10, 32)
		if err != nil {
			return b, fmt.Errorf("%q is no whole number of 32 bits", text)
		}
		content = binary.BigEndian.AppendUint32(nil, uint32(int32(n)))
	case TypeReal:
		f, err := strconv.ParseFloat(text, 32)
		if err != nil {
			return b, fmt.Errorf("%q is no number", text)
		}
		content = binary.BigEndian.AppendUint32(nil, math.Float32bits(float32(f)))
	case TypeText:
		if len(text) > MaxText {
			return b, fmt.Errorf("it is longer than %d bytes", MaxText)
		}
		content = append([]byte{0}, text...) // UTF-8 (20.2.9)
	}
	return append(appendTag(b, tag<<4, len(content)), content...), nil
}

func shortest(n uint32) []byte {
	b := binary.BigEndian.AppendUint32(nil, n)
	for len(b) > 1 && b[0] == 0 {
		b = b[1:]
	}
	return b
}

// appendTag writes a tag with its length (20.2.1.3.1).
func appendTag(b []byte, tag byte, length int) []byte {
	switch {
	case length < 5:
		return append(b, tag|byte(length))
	case length < 254:
		return append(b, tag|5, byte(length))
	}
	return binary.BigEndian.AppendUint16(append(b, tag|5, 254), uint16(length))
}

// Request is one confirmed request.
type Request struct {
	Service  byte
	Invoke   byte
	To       Station
	Object   Object
	Property uint32
	Value    []byte // application-tagged, as AppendValue makes it; of a write
	Priority int    // of a write, 1 to 16 (19.2); 0: none
	// Of ReinitializeDevice (16.4) and DeviceCommunicationControl (16.1).
	State    uint32
	Minutes  uint16 // 0: for ever
	Password string // "": none
}

// Frame encodes the request as the payload of a datagram.
func (r Request) Frame() []byte {
	body := []byte{confirmedRequest, 0x05, r.Invoke, r.Service} // up to 1476 octets, unsegmented
	switch r.Service {
	case ReadProperty, WriteProperty:
		body = binary.BigEndian.AppendUint32(append(body, 0x0c), uint32(r.Object.Type)<<22|r.Object.Instance)
		property := shortest(r.Property)
		body = append(append(body, 0x18|byte(len(property))), property...)
		if r.Service == WriteProperty {
			body = append(append(append(body, 0x3e), r.Value...), 0x3f)
			if r.Priority > 0 {
				body = append(body, 0x49, byte(r.Priority))
			}
		}
	case DeviceCommunicationControl:
		if r.Minutes > 0 {
			n := shortest(uint32(r.Minutes))
			body = append(append(body, 0x08|byte(len(n))), n...)
		}
		body = append(body, 0x19, byte(r.State))
		body = appendPassword(body, 0x28, r.Password)
	case ReinitializeDevice:
		body = append(body, 0x09, byte(r.State))
		body = appendPassword(body, 0x18, r.Password)
	}
	return frame(expectsReply, r.To, Station{}, body, false)
}

func appendPassword(b []byte, tag byte, password string) []byte {
	if password == "" {
		return b
	}
	return append(append(appendTag(b, tag, len(password)+1), 0), password...)
}

// Kinds of reply.
const (
	Done      = "done"  // SimpleACK (20.1.4)
	WithValue = "value" // ComplexACK with a value (20.1.5)
	Failed    = "error" // Error (20.1.7)
	Refused   = "reject"
	Aborted   = "abort"
)

// Reply is what a device answers to a confirmed request.
type Reply struct {
	Kind   string
	From   Station
	Invoke byte
	Value  string // of a read, as text
	// Class and Code of an error (18), the code alone of a reject or abort.
	Class, Code uint32
}

const (
	simpleACK  = 0x20
	errorPDU   = 0x50
	rejectPDU  = 0x60
	abortPDU   = 0x70
	firstKinds = 0xf0
)

// ParseReply decodes the payload of a datagram that answers a request.
func ParseReply(b []byte) (Reply, error) {
	from, _, network, b, err := parse(b)
	if err != nil || network || len(b) < 3 {
		return Reply{}, ErrMalformed
	}
	r := Reply{From: from, Invoke: b[1]}
	switch b[0] & firstKinds {
	case simpleACK:
		r.Kind = Done
		return r, nil
	case complexACK:
		if b[0]&0x08 != 0 || b[2] != ReadProperty { // segmented
			return Reply{}, ErrMalformed
		}
		r.Kind = WithValue
		r.Value, err = propertyValue(b[3:])
		return r, err
	case errorPDU:
		r.Kind = Failed
		class, rest, ok := unsigned(b[3:], 9)
		code, _, ok2 := unsigned(rest, 9)
		if !ok || !ok2 {
			return Reply{}, ErrMalformed
		}
		r.Class, r.Code = class, code
		return r, nil
	case rejectPDU, abortPDU:
		r.Kind = map[byte]string{rejectPDU: Refused, abortPDU: Aborted}[b[0]&firstKinds]
		r.Code = uint32(b[2])
		return r, nil
	}
	return Reply{}, ErrMalformed
}

// unsigned reads an application-tagged number of a tag (20.2.4, 20.2.11).
func unsigned(b []byte, tag byte) (n uint32, rest []byte, ok bool) {
	if len(b) < 2 || b[0]>>4 != tag || b[0]&8 != 0 || b[0]&7 == 0 || b[0]&7 > 4 || len(b) < 1+int(b[0]&7) {
		return 0, nil, false
	}
	length := int(b[0] & 7)
	for _, octet := range b[1 : 1+length] {
		n = n<<8 | uint32(octet)
	}
	return n, b[1+length:], true
}

// propertyValue reads the value of a read's answer: one primitive, as text.
func propertyValue(b []byte) (string, error) {
	if len(b) < 7 || b[0] != 0x0c {
		return "", ErrMalformed
	}
	b = b[5:]
	for range 2 { // the property, and perhaps an index
		if len(b) < 2 || b[0]&0x08 == 0 || b[0] == 0x3e {
			break
		}
		n := int(b[0] & 7)
		if n > 4 || len(b) < 1+n {
			return "", ErrMalformed
		}
		b = b[1+n:]
	}
	if len(b) < 3 || b[0] != 0x3e || b[len(b)-1] != 0x3f {
		return "", ErrMalformed
	}
	text, rest, err := Value(b[1 : len(b)-1])
	if err != nil || len(rest) > 0 {
		return "", ErrMalformed
	}
	return text, nil
}

// Value reads one application-tagged primitive as text, and gives what follows.
func Value(b []byte) (text string, rest []byte, err error) {
	if len(b) < 1 || b[0]&8 != 0 {
		return "", nil, ErrMalformed
	}
	tag, n := b[0]>>4, int(b[0]&7)
	b = b[1:]
	if tag == 1 { // its value is where others have their length (20.2.3)
		return map[bool]string{true: "yes", false: "no"}[n == 1], b, nil
	}
	if n == 5 {
		if len(b) < 1 {
			return "", nil, ErrMalformed
		}
		n, b = int(b[0]), b[1:]
		if n == 254 && len(b) >= 2 {
			n, b = int(binary.BigEndian.Uint16(b)), b[2:]
		}
	}
	if n < 0 || n > len(b) || tag != 7 && n > 8 {
		return "", nil, ErrMalformed
	}
	content, rest := b[:n], b[n:]
	switch {
	case tag == 0 && n == 0:
		return "", rest, nil
	case (tag == 2 || tag == 9) && n >= 1:
		var v uint64
		for _, octet := range content {
			v = v<<8 | uint64(octet)
		}
		return strconv.FormatUint(v, 10), rest, nil
	case tag == 3 && n >= 1:
		v := int64(int8(content[0]))
		for _, octet := range content[1:] {
			v = v<<8 | int64(octet)
		}
		return strconv.FormatInt(v, 10), rest, nil
	case tag == 4 && n == 4:
		f := math.Float32frombits(binary.BigEndian.Uint32(content))
		return strconv.FormatFloat(float64(f), 'g', -1, 32), rest, nil
	case tag == 7 && n >= 1:
		text, err := decoded(content[0], content[1:])
		return text, rest, err
	case tag == 12 && n == 4:
		id := binary.BigEndian.Uint32(content)
		return fmt.Sprintf("%d,%d", id>>22, id&AnyDevice), rest, nil
	case tag == 6 && n == 4: // octets: an address, where it is one
		return netip.AddrFrom4([4]byte(content)).String(), rest, nil
	}
	return "", nil, ErrMalformed
}

// Why says in plain words what a device refused (18; 20.1.8.6, 20.1.9.9).
func (r Reply) Why() string {
	switch r.Kind {
	case Failed:
		if text := errorCodes[r.Code]; text != "" {
			return text
		}
		return fmt.Sprintf("error class %d, code %d", r.Class, r.Code)
	case Refused:
		return fmt.Sprintf("it does not understand the request (reject reason %d)", r.Code)
	case Aborted:
		return fmt.Sprintf("it broke the request off (abort reason %d)", r.Code)
	}
	return ""
}

// PasswordFailure and its like say that the device does not let us in (18.6).
const (
	PasswordFailure = 26
	AccessDenied    = 85
)

// errorCodes are those that reading, writing and reinitializing bring (18).
var errorCodes = map[uint32]string{
	2: "its configuration is in progress", 9: "the value has the wrong type", 25: "the operation is not possible now",
	31: "it has no such object", 32: "the object has no such property", 37: "the value is out of range",
	40: "the property cannot be written", 44: "it does not take this character set", 45: "it does not do this",
	47: "it has no room for it", 50: "the property is no list",
}
