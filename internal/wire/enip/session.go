package enip

import (
	"encoding/binary"
	"io"
)

// Commands of the encapsulation protocol over TCP (Volume 2, 2-4).
const (
	Register = 0x65 // RegisterSession
	Release  = 0x66 // UnRegisterSession
	Carry    = 0x6f // SendRRData: one message, one answer
)

const (
	itemNull    = 0x00
	itemData    = 0xb2 // unconnected message
	maxFrame    = 1024 // bytes of data that are taken; far more than a message needs
	version     = 1
	itemsHeader = 8 // interface handle, timeout, item count
)

// Frame is one frame of the encapsulation protocol (Volume 2, 2-3.1).
type Frame struct {
	Command uint16
	Session uint32
	Status  uint32 // 0: it was done
	Data    []byte
}

// Append encodes a frame.
func (f Frame) Append(b []byte) []byte {
	b = binary.LittleEndian.AppendUint16(b, f.Command)
	b = binary.LittleEndian.AppendUint16(b, uint16(len(f.Data)))
	b = binary.LittleEndian.AppendUint32(b, f.Session)
	b = binary.LittleEndian.AppendUint32(b, f.Status)
	b = append(b, make([]byte, 12)...) // sender context and options
	return append(b, f.Data...)
}

// ReadFrame reads one frame from a connection.
func ReadFrame(r io.Reader) (Frame, error) {
	var head [headerSize]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return Frame{}, err
	}
	n := int(binary.LittleEndian.Uint16(head[2:]))
	if n > maxFrame {
		return Frame{}, ErrMalformed
	}
	f := Frame{Command: binary.LittleEndian.Uint16(head[:]), Session: binary.LittleEndian.Uint32(head[4:]),
		Status: binary.LittleEndian.Uint32(head[8:]), Data: make([]byte, n)}
	_, err := io.ReadFull(r, f.Data)
	return f, err
}

// Registration asks for a session (Volume 2, 2-4.4).
func Registration() Frame { return Frame{Command: Register, Data: []byte{version, 0, 0, 0}} }

// Message wraps an unconnected message for a session (Volume 2, 2-4.7 and 2-6).
func Message(session uint32, message []byte) Frame {
	data := binary.LittleEndian.AppendUint16(make([]byte, 6), 2)        // two items
	data = binary.LittleEndian.AppendUint16(data, itemNull)             // an address is not needed
	data = binary.LittleEndian.AppendUint16(data, 0)                    // of no length
	data = binary.LittleEndian.AppendUint16(data, itemData)             // then the message
	data = binary.LittleEndian.AppendUint16(data, uint16(len(message))) //
	return Frame{Command: Carry, Session: session, Data: append(data, message...)}
}

// Unwrap gives the message in a frame.
func (f Frame) Unwrap() ([]byte, error) {
	if f.Command != Carry || len(f.Data) < itemsHeader {
		return nil, ErrMalformed
	}
	rest := f.Data[itemsHeader:]
	for range binary.LittleEndian.Uint16(f.Data[6:]) {
		if len(rest) < 4 {
			return nil, ErrMalformed
		}
		kind, n := binary.LittleEndian.Uint16(rest), int(binary.LittleEndian.Uint16(rest[2:]))
		if rest = rest[4:]; n > len(rest) {
			return nil, ErrMalformed
		}
		if kind == itemData {
			return rest[:n], nil
		}
		rest = rest[n:]
	}
	return nil, ErrMalformed
}
