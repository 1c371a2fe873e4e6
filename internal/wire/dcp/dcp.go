// Package dcp encodes and decodes the discovery and basic configuration
// protocol of PROFINET (IEC 61158-6-10, DCP): frames of EtherType 0x8892.
package dcp

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"

	"redstart/internal/core/address"
	"redstart/internal/wire/ethernet"
)

// FrameIDs (IEC 61158-6-10, FrameID table).
const (
	FrameHello            = 0xfefc
	FrameGetSet           = 0xfefd
	FrameIdentifyRequest  = 0xfefe
	FrameIdentifyResponse = 0xfeff
)

// ServiceIDs and ServiceTypes.
const (
	Get      = 3
	Set      = 4
	Identify = 5

	TypeRequest     = 0
	TypeSuccess     = 1
	TypeUnsupported = 5
)

// Options and suboptions of blocks.
const (
	OptionIP     = 1
	SubIPAddress = 2

	OptionDevice = 2
	SubVendor    = 1 // type of station, also called device vendor value
	SubName      = 2 // name of station
	SubDeviceID  = 3

	OptionControl = 5
	SubSignal     = 3
	SubResponse   = 4

	OptionAll = 0xff
	SubAll    = 0xff
)

// Qualifiers of a set request: whether the device is to keep the value.
const (
	Temporary = 0
	Permanent = 1
)

// IdentifyMulticast is where identify requests go.
var IdentifyMulticast = address.MAC{0x01, 0x0e, 0xcf, 0, 0, 0}

// ErrMalformed says that the bytes are not a DCP PDU.
var ErrMalformed = errors.New("dcp: malformed")

// Limits: a PDU holds at most so many blocks and a block so many bytes.
const (
	maxBlocks = 64
	maxBlock  = 1400
)

// Block is one value. Data leaves out the block's information, qualifier and
// padding; Info is the block information of a response or the qualifier of a
// set request, 0 elsewhere.
type Block struct {
	Option, Suboption uint8
	Info              uint16
	Data              []byte
}

// PDU is one DCP message.
type PDU struct {
	FrameID     uint16
	ServiceID   uint8
	ServiceType uint8
	Xid         uint32
	Delay       uint16 // response delay factor of an identify request
	Blocks      []Block
}

// hasInfo says whether blocks of this PDU begin with information or a qualifier.
func (p *PDU) hasInfo(option uint8) bool {
	if option == OptionControl {
		return p.ServiceType == TypeRequest && p.ServiceID == Set
	}
	return p.ServiceType != TypeRequest || p.ServiceID == Set
}

// Parse decodes the payload of a frame. Bytes after the stated length are padding.
func Parse(b []byte) (*PDU, error) {
	if len(b) < 12 {
		return nil, ErrMalformed
	}
	p := &PDU{
		FrameID:     binary.BigEndian.Uint16(b),
		ServiceID:   b[2],
		ServiceType: b[3],
		Xid:         binary.BigEndian.Uint32(b[4:]),
		Delay:       binary.BigEndian.Uint16(b[8:]),
	}
	if p.FrameID < FrameHello || p.FrameID > FrameIdentifyResponse {
		return nil, ErrMalformed
	}
	length := int(binary.BigEndian.Uint16(b[10:]))
	if b = b[12:]; length > len(b) {
		return nil, ErrMalformed
	}
	for b = b[:length]; len(b) > 0; {
		if p.ServiceID == Get && p.ServiceType == TypeRequest {
			// A get request lists bare options, two bytes each.
			if len(b) < 2 || len(p.Blocks) == maxBlocks {
				return nil, ErrMalformed
			}
			p.Blocks = append(p.Blocks, Block{Option: b[0], Suboption: b[1]})
			b = b[2:]
			continue
		}
		block, rest, err := p.parseBlock(b)
		if err != nil || len(p.Blocks) == maxBlocks {
			return nil, ErrMalformed
		}
		p.Blocks = append(p.Blocks, block)
		b = rest
	}
	return p, nil
}

func (p *PDU) parseBlock(b []byte) (Block, []byte, error) {
	if len(b) < 4 {
		return Block{}, nil, ErrMalformed
	}
	block := Block{Option: b[0], Suboption: b[1]}
	length := int(binary.BigEndian.Uint16(b[2:]))
	if b = b[4:]; length > len(b) || length > maxBlock {
		return Block{}, nil, ErrMalformed
	}
	data, rest := b[:length], b[length:]
	if length%2 == 1 && len(rest) > 0 {
		rest = rest[1:]
	}
	if p.hasInfo(block.Option) {
		if len(data) < 2 {
			return Block{}, nil, ErrMalformed
		}
		block.Info, data = binary.BigEndian.Uint16(data), data[2:]
	}
	block.Data = append([]byte(nil), data...)
	return block, rest, nil
}

// Append encodes the PDU after b.
func (p *PDU) Append(b []byte) []byte {
	b = binary.BigEndian.AppendUint16(b, p.FrameID)
	b = append(b, p.ServiceID, p.ServiceType)
	b = binary.BigEndian.AppendUint32(b, p.Xid)
	b = binary.BigEndian.AppendUint16(b, p.Delay)
	lengthAt := len(b)
	b = append(b, 0, 0)
	for _, block := range p.Blocks {
		b = append(b, block.Option, block.Suboption)
		if p.ServiceID == Get && p.ServiceType == TypeRequest {
			continue
		}
		data := block.Data
		if p.hasInfo(block.Option) {
			data = append(binary.BigEndian.AppendUint16(nil, block.Info), data...)
		}
		b = binary.BigEndian.AppendUint16(b, uint16(len(data)))
		b = append(b, data...)
		if len(data)%2 == 1 {
			b = append(b, 0)
		}
	}
	binary.BigEndian.PutUint16(b[lengthAt:], uint16(len(b)-lengthAt-2))
	return b
}

// Frame wraps the PDU for the wire.
func (p *PDU) Frame(from, to address.MAC) []byte {
	return ethernet.Frame{Destination: to, Source: from, Type: ethernet.TypePROFINET,
		Payload: p.Append(nil)}.Append(nil)
}

// Find gives the first block of an option and suboption.
func (p *PDU) Find(option, suboption uint8) (Block, bool) {
	for _, b := range p.Blocks {
		if b.Option == option && b.Suboption == suboption {
			return b, true
		}
	}
	return Block{}, false
}

// IdentifyAll asks every station who it is. The delay factor spreads the
// answers, in units of 10 ms (IEC 61158-6-10, ResponseDelayFactor).
func IdentifyAll(xid uint32, delay uint16) *PDU {
	return &PDU{FrameID: FrameIdentifyRequest, ServiceID: Identify, Xid: xid, Delay: delay,
		Blocks: []Block{{Option: OptionAll, Suboption: SubAll}}}
}

// GetRequest asks one station for its name, type and address.
func GetRequest(xid uint32) *PDU {
	return &PDU{FrameID: FrameGetSet, ServiceID: Get, Xid: xid, Blocks: []Block{
		{Option: OptionDevice, Suboption: SubName}, {Option: OptionDevice, Suboption: SubVendor},
		{Option: OptionIP, Suboption: SubIPAddress},
	}}
}

// SetRequest asks one station to take values.
func SetRequest(xid uint32, blocks ...Block) *PDU {
	return &PDU{FrameID: FrameGetSet, ServiceID: Set, Xid: xid, Blocks: blocks}
}

// NameBlock carries a station name.
func NameBlock(name string, info uint16) Block {
	return Block{OptionDevice, SubName, info, []byte(name)}
}

// VendorBlock carries the type of station.
func VendorBlock(text string) Block { return Block{OptionDevice, SubVendor, 0, []byte(text)} }

// AddressBlock carries address, mask and gateway. An invalid gateway is sent
// as the station's own address, which stands for none.
func AddressBlock(p netip.Prefix, gateway netip.Addr, info uint16) Block {
	if !p.IsValid() {
		return Block{OptionIP, SubIPAddress, info, make([]byte, 12)}
	}
	if !gateway.IsValid() {
		gateway = p.Addr()
	}
	mask := ^uint32(0) << (32 - p.Bits())
	data := append([]byte(nil), p.Addr().AsSlice()...)
	data = binary.BigEndian.AppendUint32(data, mask)
	return Block{OptionIP, SubIPAddress, info, append(data, gateway.AsSlice()...)}
}

// SignalBlock asks the station to blink once.
func SignalBlock() Block { return Block{OptionControl, SubSignal, 0, []byte{0x01, 0x00}} }

// Addressing reads an address block. A station without an address gives the
// zero prefix.
func (b Block) Addressing() (p netip.Prefix, gateway netip.Addr, err error) {
	if len(b.Data) != 12 {
		return netip.Prefix{}, netip.Addr{}, ErrMalformed
	}
	a := netip.AddrFrom4([4]byte(b.Data[:4]))
	mask := binary.BigEndian.Uint32(b.Data[4:])
	bits := 0
	for m := mask; m&(1<<31) != 0; m <<= 1 {
		bits++
	}
	if mask != uint32(uint64(0xffffffff)<<(32-bits)) {
		return netip.Prefix{}, netip.Addr{}, fmt.Errorf("%w: mask with holes", ErrMalformed)
	}
	if a.IsUnspecified() {
		return netip.Prefix{}, netip.Addr{}, nil
	}
	return netip.PrefixFrom(a, bits), netip.AddrFrom4([4]byte(b.Data[8:])), nil
}

// Errors of a set response (IEC 61158-6-10, BlockError).
var blockErrors = []string{"", "option not supported", "suboption not supported", "suboption not set", "resource error",
	"set not possible by local reasons", "in operation, set not possible"}

// ResponseBlock answers one block of a set request.
func ResponseBlock(option, suboption, code uint8) Block {
	return Block{OptionControl, SubResponse, 0, []byte{option, suboption, code}}
}

// SetError gives the first error that a set response reports.
func (p *PDU) SetError() error {
	if p.ServiceType == TypeUnsupported {
		return errors.New("the device does not support this request")
	}
	for _, b := range p.Blocks {
		if b.Option == OptionControl && b.Suboption == SubResponse && len(b.Data) == 3 && b.Data[2] != 0 {
			text := fmt.Sprintf("error %d", b.Data[2])
			if int(b.Data[2]) < len(blockErrors) {
				text = blockErrors[b.Data[2]]
			}
			return errors.New(text)
		}
	}
	return nil
}

// NoAddress is what Station gives for the address of a station that says that it
// has none.
const NoAddress = "none"

// Station gives what a station tells about itself in an identify or get
// response: name, model (the type of station) and address, as far as given.
func (p *PDU) Station() map[string]string {
	facts := map[string]string{}
	if b, ok := p.Find(OptionDevice, SubName); ok {
		facts["name"] = string(b.Data)
	}
	if b, ok := p.Find(OptionDevice, SubVendor); ok {
		facts["model"] = string(b.Data)
	}
	if b, ok := p.Find(OptionIP, SubIPAddress); ok {
		switch at, _, err := b.Addressing(); {
		case err != nil:
		case at.IsValid():
			facts["address"] = at.Addr().String()
		default:
			facts["address"] = NoAddress
		}
	}
	return facts
}
