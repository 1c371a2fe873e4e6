package r2

import (
	"redstart/internal/sim/box"
	"redstart/internal/wire/bacnet"
)

// Properties of its device object that are read and written (ASHRAE 135, 21).
const (
	description  = 28
	location     = 58
	errorClass   = 2 // property
	unknown      = 32
	denied       = 40
	wrongType    = 9
	unrecognized = 9 // reject reason: service
)

// own reports whether a request is about the router's own device object as no finding is:
// what is found is answered with the rest.
func own(r bacnet.Request, instance uint32) bool {
	if r.Service != bacnet.ReadProperty {
		return true
	}
	return r.Object == bacnet.Object{Type: bacnet.Device, Instance: bacnet.AnyDevice} ||
		r.Object == bacnet.Object{Type: bacnet.Device, Instance: instance} && r.Property == description
}

// confirmed answers a confirmed request for the router itself.
func confirmed(b *box.Box, r bacnet.Request) []byte {
	fails := func(code uint32) []byte {
		return bacnet.Reply{Kind: bacnet.Failed, Class: errorClass, Code: code}.Frame(r, nil)
	}
	switch r.Service {
	case bacnet.ReadProperty:
		text, known := map[uint32]string{description: b.Running().Own.(Own).Description, location: "",
			bacnet.ObjectName: b.Running().Name, bacnet.ModelName: b.Model.Name,
			bacnet.FirmwareRevision: b.Model.Firmware}[r.Property]
		if !known {
			return fails(unknown)
		}
		value, err := bacnet.AppendValue(nil, bacnet.TypeText, text)
		if err != nil {
			return fails(unknown)
		}
		return bacnet.Reply{Kind: bacnet.WithValue}.Frame(r, value)
	case bacnet.WriteProperty:
		if r.Property != description {
			return fails(denied)
		}
		text, _, err := bacnet.Value(r.Value)
		if err != nil || len(r.Value) == 0 || r.Value[0]>>4 != 7 {
			return fails(wrongType)
		}
		b.Witness("write", "bacnet description "+text)
		keep := func(s *box.Settings) {
			own := s.Own.(Own)
			own.Description = text
			s.Own = own
		}
		b.Change(keep)
		b.Store(keep)
		return bacnet.Reply{Kind: bacnet.Done}.Frame(r, nil)
	}
	return bacnet.Reply{Kind: bacnet.Refused, Code: unrecognized}.Frame(r, nil)
}
