// Package snmp makes and reads the SNMPv2c messages (RFC 1901, RFC 3416) that
// ask a device who it is and a switch where everything hangs. The encoding
// itself is a library's.
package snmp

import (
	"errors"
	"fmt"
	"strings"

	"github.com/gosnmp/gosnmp"
)

// Port is the agents' UDP port (RFC 3417, 3.1).
const Port = 161

// Community is what agents accept for reading as they leave the factory.
const Community = "public"

// Objects of the system group (RFC 3418, 2), the bridge MIBs (RFC 4188, RFC
// 4363) and the interface names (RFC 2863).
const (
	SysDescr     = ".1.3.6.1.2.1.1.1.0"
	SysObjectID  = ".1.3.6.1.2.1.1.2.0"
	SysName      = ".1.3.6.1.2.1.1.5.0"
	IfName       = ".1.3.6.1.2.1.31.1.1.1.1"
	BasePortIf   = ".1.3.6.1.2.1.17.1.4.1.2"     // dot1dBasePortIfIndex
	TableFdbPort = ".1.3.6.1.2.1.17.4.3.1.2"     // dot1dTpFdbPort, by MAC
	TableVlanFdb = ".1.3.6.1.2.1.17.7.1.2.2.1.2" // dot1qTpFdbPort, by FDB and MAC
)

const maxSize = 8192

// ErrMalformed says that the bytes are no SNMPv2c message that we understand.
var ErrMalformed = errors.New("snmp: not an SNMPv2c message")

// Kinds of message.
const (
	KindGet      = "get"
	KindNext     = "next"
	KindBulk     = "bulk"
	KindSet      = "set"
	KindResponse = "response"
)

// Statuses of an answer to a set (RFC 3416, 3).
const (
	StatusOf        = "" // no error
	StatusWrongType = "wrong type"
	StatusNoAccess  = "no access"
	StatusNotOurs   = "not writable"
)

var statuses = map[string]gosnmp.SNMPError{StatusOf: gosnmp.NoError, StatusWrongType: gosnmp.WrongType,
	StatusNoAccess: gosnmp.NoAccess, StatusNotOurs: gosnmp.NotWritable}

var pdus = map[string]gosnmp.PDUType{KindGet: gosnmp.GetRequest, KindNext: gosnmp.GetNextRequest,
	KindBulk: gosnmp.GetBulkRequest, KindSet: gosnmp.SetRequest, KindResponse: gosnmp.GetResponse}

// Value is one object with its value: a text or a number. End says that there
// is nothing more, or no such object.
type Value struct {
	OID    string // with a leading dot
	Text   string
	Number int
	Empty  bool // the text is empty, and no number is meant
	End    bool
}

// Message is one message.
type Message struct {
	Kind      string
	ID        uint32
	Community string
	Most      int // values asked for in a bulk
	Status    string
	Values    []Value
}

// Append encodes the message; values of questions carry only their OID.
func (m Message) Append() ([]byte, error) {
	p := gosnmp.SnmpPacket{Version: gosnmp.Version2c, Community: m.Community, PDUType: pdus[m.Kind], RequestID: m.ID,
		MaxRepetitions: uint32(m.Most), Error: statuses[m.Status]}
	if p.Error != gosnmp.NoError {
		p.ErrorIndex = 1
	}
	for _, v := range m.Values {
		pdu := gosnmp.SnmpPDU{Name: v.OID, Type: gosnmp.Null}
		switch {
		case m.Kind != KindResponse && m.Kind != KindSet:
		case v.End:
			pdu.Type = gosnmp.EndOfMibView
		case strings.HasPrefix(v.Text, ".1."):
			pdu.Type, pdu.Value = gosnmp.ObjectIdentifier, v.Text
		case v.Text != "" || v.Empty:
			pdu.Type, pdu.Value = gosnmp.OctetString, v.Text
		default:
			pdu.Type, pdu.Value = gosnmp.Integer, v.Number
		}
		p.Variables = append(p.Variables, pdu)
	}
	return p.MarshalMsg()
}

// Ask makes the question for objects.
func Ask(id uint32, oids ...string) []byte {
	m := Message{Kind: KindGet, ID: id, Community: Community}
	for _, o := range oids {
		m.Values = append(m.Values, Value{OID: o})
	}
	b, err := m.Append()
	if err != nil {
		return nil // our own objects can be encoded
	}
	return b
}

// Parse decodes the payload of a datagram.
func Parse(b []byte) (m Message, err error) {
	if len(b) > maxSize || len(b) < 8 {
		return Message{}, ErrMalformed
	}
	defer func() { // the library is not ours to trust with hostile bytes
		if r := recover(); r != nil {
			m, err = Message{}, fmt.Errorf("%w: %v", ErrMalformed, r)
		}
	}()
	p, err := (&gosnmp.GoSNMP{Version: gosnmp.Version2c}).SnmpDecodePacket(b)
	if err != nil || p.Version != gosnmp.Version2c {
		return Message{}, ErrMalformed
	}
	m = Message{ID: p.RequestID, Community: p.Community, Most: int(p.MaxRepetitions)}
	for kind, t := range pdus {
		if t == p.PDUType {
			m.Kind = kind
		}
	}
	if m.Kind == "" {
		return Message{}, ErrMalformed
	}
	for _, v := range p.Variables {
		value := Value{OID: v.Name}
		switch v.Type {
		case gosnmp.OctetString:
			if raw, ok := v.Value.([]byte); ok {
				value.Text = string(raw)
			}
		case gosnmp.ObjectIdentifier:
			value.Text, _ = v.Value.(string)
		case gosnmp.Integer, gosnmp.Gauge32, gosnmp.Counter32, gosnmp.TimeTicks, gosnmp.Uinteger32:
			value.Number = int(gosnmp.ToBigInt(v.Value).Int64())
		case gosnmp.EndOfMibView, gosnmp.NoSuchObject, gosnmp.NoSuchInstance:
			value.End = true
		}
		m.Values = append(m.Values, value)
	}
	return m, nil
}
