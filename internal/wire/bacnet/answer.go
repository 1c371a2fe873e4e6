package bacnet

import "encoding/binary"

// ParseRequest decodes a confirmed request, as a device hears it.
func ParseRequest(b []byte) (Request, error) {
	_, to, network, b, err := parse(b)
	if err != nil || network || len(b) < 4 || b[0]&firstKinds != confirmedRequest {
		return Request{}, ErrMalformed
	}
	r := Request{To: to, Invoke: b[2], Service: b[3]}
	b = b[4:]
	switch r.Service {
	case ReadProperty, WriteProperty:
		return r.readProperty(b)
	case ReinitializeDevice:
		if len(b) < 2 || b[0] != 0x09 {
			return Request{}, ErrMalformed
		}
		r.State = uint32(b[1])
		if len(b) > 2 {
			r.Password, err = password(b[2:], 1)
		}
		return r, err
	case DeviceCommunicationControl:
		if len(b) >= 2 && b[0] == 0x09 {
			r.Minutes, b = uint16(b[1]), b[2:]
		}
		if len(b) < 2 || b[0] != 0x19 {
			return Request{}, ErrMalformed
		}
		r.State = uint32(b[1])
		if len(b) > 2 {
			r.Password, err = password(b[2:], 2)
		}
		return r, err
	}
	return r, nil // one that is not known here; the device refuses it
}

func password(b []byte, tag byte) (string, error) {
	if len(b) < 2 || b[0]>>4 != tag {
		return "", ErrMalformed
	}
	n := int(b[0] & 7)
	b = b[1:]
	if n == 5 {
		n, b = int(b[0]), b[1:]
	}
	if n < 1 || n != len(b) {
		return "", ErrMalformed
	}
	return decoded(b[0], b[1:])
}

func (r Request) readProperty(b []byte) (Request, error) {
	if len(b) < 7 || b[0] != 0x0c {
		return Request{}, ErrMalformed
	}
	id := binary.BigEndian.Uint32(b[1:])
	r.Object, b = Object{Type: uint16(id >> 22), Instance: id & AnyDevice}, b[5:]
	n := int(b[0] & 7)
	if b[0]>>4 != 1 || n < 1 || n > 3 || len(b) < 1+n {
		return Request{}, ErrMalformed
	}
	for _, octet := range b[1 : 1+n] {
		r.Property = r.Property<<8 | uint32(octet)
	}
	if b = b[1+n:]; r.Service == ReadProperty {
		return r, nil
	}
	if len(b) < 3 || b[0] != 0x3e {
		return Request{}, ErrMalformed
	}
	_, rest, err := Value(b[1:])
	if err != nil || len(rest) < 1 || rest[0] != 0x3f {
		return Request{}, ErrMalformed
	}
	r.Value = b[1 : len(b)-len(rest)]
	if rest = rest[1:]; len(rest) == 2 && rest[0] == 0x49 {
		r.Priority = int(rest[1])
	}
	return r, nil
}

// Frame encodes what a device answers to a request; value is that of a read.
func (r Reply) Frame(to Request, value []byte) []byte {
	var body []byte
	switch r.Kind {
	case Done:
		body = []byte{simpleACK, to.Invoke, to.Service}
	case WithValue:
		body = []byte{complexACK, to.Invoke, to.Service, 0x0c}
		body = binary.BigEndian.AppendUint32(body, uint32(to.Object.Type)<<22|to.Object.Instance)
		property := shortest(to.Property)
		body = append(append(body, 0x18|byte(len(property))), property...)
		body = append(append(append(body, 0x3e), value...), 0x3f)
	case Failed:
		body = append([]byte{errorPDU, to.Invoke, to.Service, 0x91}, byte(r.Class), 0x91, byte(r.Code))
	case Refused:
		body = []byte{rejectPDU, to.Invoke, byte(r.Code)}
	case Aborted:
		body = []byte{abortPDU | 1, to.Invoke, byte(r.Code)}
	}
	return frame(0, Station{}, to.To, body, false)
}
