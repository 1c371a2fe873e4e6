// Package station simulates what PROFINET stations have in common: they answer DCP
// (IEC 61158-6-10), and take a name and an address over it.
package station

import (
	"fmt"
	"sync/atomic"

	"redstart/internal/core/naming"
	"redstart/internal/sim/box"
	"redstart/internal/wire/dcp"
	"redstart/internal/wire/ethernet"
)

// Blinks counts the signals that any station received.
var Blinks atomic.Int64

// With gives what answers DCP for boxes whose names follow these rules.
func With(names naming.Rules) func(*box.Box, ethernet.Frame) {
	return func(b *box.Box, f ethernet.Frame) { respond(b, f, names) }
}

func respond(b *box.Box, f ethernet.Frame, names naming.Rules) {
	p, err := dcp.Parse(f.Payload)
	if err != nil || p.ServiceType != dcp.TypeRequest {
		return
	}
	answer := &dcp.PDU{FrameID: dcp.FrameGetSet, ServiceID: p.ServiceID, ServiceType: dcp.TypeSuccess, Xid: p.Xid}
	switch {
	case p.FrameID == dcp.FrameIdentifyRequest:
		if _, all := p.Find(dcp.OptionAll, dcp.SubAll); !all {
			return
		}
		answer.FrameID = dcp.FrameIdentifyResponse
		answer.Blocks = describe(b)
	case f.Destination != b.MAC:
		return
	case p.ServiceID == dcp.Get:
		answer.Blocks = describe(b)
	case p.ServiceID == dcp.Set:
		for _, block := range p.Blocks {
			answer.Blocks = append(answer.Blocks, dcp.ResponseBlock(block.Option, block.Suboption,
				set(b, block, names)))
		}
	default:
		return
	}
	b.Send(answer.Frame(b.MAC, f.Source))
}

func describe(b *box.Box) []dcp.Block {
	s := b.Running()
	addressed := uint16(0)
	if s.Address.IsValid() {
		addressed = 1
	}
	return []dcp.Block{dcp.NameBlock(s.Name, 0), dcp.VendorBlock(b.Model.Name),
		dcp.AddressBlock(s.Address, s.Gateway, addressed)}
}

// set takes one block and gives its error code (IEC 61158-6-10, BlockError).
func set(b *box.Box, block dcp.Block, names naming.Rules) byte {
	const suboptionUnknown, impossible = 2, 5
	keep := func() {
		if block.Info == dcp.Permanent {
			b.Save()
		}
	}
	switch {
	case block.Option == dcp.OptionDevice && block.Suboption == dcp.SubName:
		name := string(block.Data)
		if names.Check(name) != nil {
			return impossible
		}
		b.Witness("write", "name "+name)
		b.Change(func(s *box.Settings) { s.Name = name })
		keep()
	case block.Option == dcp.OptionIP && block.Suboption == dcp.SubIPAddress:
		at, gateway, err := block.Addressing()
		if err != nil {
			return impossible
		}
		b.Witness("write", fmt.Sprintf("address %s %s", at, gateway))
		b.Change(func(s *box.Settings) { s.Address, s.Gateway = at, gateway })
		keep()
		b.Readdress()
	case block.Option == dcp.OptionControl && block.Suboption == dcp.SubSignal:
		Blinks.Add(1)
	default:
		return suboptionUnknown
	}
	return 0
}
