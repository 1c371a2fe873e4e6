// Package enip simulates the EtherNet/IP side of boxes: sessions over TCP, and unconnected
// messages to their objects (CIP Networks Library, Volume 2, 2-4).
package enip

import (
	"encoding/binary"
	"net"
	"time"

	"redstart/internal/wire/cip"
	"redstart/internal/wire/enip"
)

// idle is how long a session may be silent.
const idle = 2 * time.Minute

// Attribute is one attribute of an object: its value, and what takes a new one. A nil Set is
// an attribute that is only read.
type Attribute struct {
	Value []byte
	Set   func([]byte) byte // gives a general status
}

// Object is what an answer comes from.
type Object interface {
	// At gives an attribute; ok is false where there is none.
	At(cip.Path) (a Attribute, ok bool)
	// Reset resets an object, after the answer is out.
	Reset(cip.Path, []byte) byte
}

// General status codes (Volume 1, appendix B-1).
const (
	Done          = 0x00
	BadValue      = 0x09
	ReadOnly      = 0x0e
	NoObject      = 0x05
	NoAttribute   = 0x14
	NoService     = 0x08
	sessionsSame  = 1
	invalidHandle = 0x64
)

// Serve speaks with one client until it goes.
func Serve(conn net.Conn, o Object) {
	defer conn.Close()
	registered := false
	for {
		if conn.SetDeadline(time.Now().Add(idle)) != nil {
			return
		}
		f, err := enip.ReadFrame(conn)
		if err != nil {
			return
		}
		answer := enip.Frame{Command: f.Command, Session: f.Session}
		switch {
		case f.Command == enip.Register:
			registered, answer.Session, answer.Data = true, sessionsSame, f.Data
		case f.Command == enip.Release:
			return
		case f.Command != enip.Carry:
			answer.Status = 1 // no such command
		case !registered || f.Session != sessionsSame:
			answer.Status = invalidHandle
		default:
			message, err := f.Unwrap()
			if err != nil {
				answer.Status = 3 // wrong data
				break
			}
			answer = enip.Message(f.Session, respond(o, message).Append(nil))
		}
		if _, err := conn.Write(answer.Append(nil)); err != nil {
			return
		}
	}
}

func respond(o Object, message []byte) cip.Response {
	r, err := cip.ParseRequest(message)
	if err != nil {
		return cip.Response{Status: NoService}
	}
	answer := cip.Response{Service: r.Service}
	a, there := o.At(r.Path)
	switch {
	case r.Service == cip.Reset:
		answer.Status = o.Reset(r.Path, r.Data)
	case r.Service != cip.GetOne && r.Service != cip.SetOne:
		answer.Status = NoService
	case !there:
		answer.Status = NoAttribute
	case r.Service == cip.GetOne:
		answer.Data = a.Value
	case a.Set == nil:
		answer.Status = ReadOnly
	default:
		answer.Status = a.Set(r.Data)
	}
	return answer
}

// Of encodes values, each by its type.
func Of(pairs ...string) []byte {
	var b []byte
	for i := 0; i+1 < len(pairs); i += 2 {
		b, _ = cip.AppendValue(b, pairs[i], pairs[i+1]) // the caller's values fit
	}
	return b
}

// Fields decodes values by their types; ok is false when they do not fit.
func Fields(b []byte, types ...string) (list []string, ok bool) {
	for _, as := range types {
		text, rest, err := cip.Value(b, as)
		if err != nil {
			return nil, false
		}
		list, b = append(list, text), rest
	}
	return list, len(b) == 0
}

// Number decodes a UDINT.
func Number(b []byte) uint32 {
	if len(b) < 4 {
		return 0
	}
	return binary.LittleEndian.Uint32(b)
}
