package dcp_test

import (
	"bytes"
	"net/netip"
	"strings"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/wire/bytesof"
	"redstart/internal/wire/dcp"
)

var us = address.MAC{0x02, 0x52, 0x53, 0, 0, 1}

// The bytes are written out from the tables of IEC 61158-6-10: FrameID,
// ServiceID, ServiceType, Xid, delay or reserved, length, blocks.
const (
	identifyAll = "fefe 05 00 01020304 0001 0004 ffff 0000"
	// A station without a name and with type "FS8" and no address.
	freshStation = "feff 05 01 01020304 0000 0022" +
		"0202 0002 0000" +
		"0201 0005 0000 465338 00" +
		"0102 000e 0000 00000000 00000000 00000000"
	// The same with a name of odd length and an address.
	setStation = "feff 05 01 01020304 0000 002a" +
		"0202 0009 0000 79617264 2d7377 00" +
		"0201 0005 0000 465338 00" +
		"0102 000e 0001 0a280814 fffffc00 0a280801"
	setName    = "fefd 04 00 01020304 0000 000e 0202 0009 0000 79617264 2d7377 00"
	setAddress = "fefd 04 00 01020304 0000 0012 0102 000e 0001 0a280814 fffffc00 0a280801"
	signal     = "fefd 04 00 01020304 0000 0008 0503 0004 0000 0100"
	getAll     = "fefd 03 00 01020304 0000 0006 0202 0201 0102"
	setDone    = "fefd 04 01 01020304 0000 0010 0504 0003 0202 00 00 0504 0003 0102 05 00"
)

func TestRequestsByteByByte(t *testing.T) {
	at, gateway := netip.MustParsePrefix("10.40.8.20/22"), netip.MustParseAddr("10.40.8.1")
	for want, p := range map[string]*dcp.PDU{
		identifyAll: dcp.IdentifyAll(0x01020304, 1),
		setName:     dcp.SetRequest(0x01020304, dcp.NameBlock("yard-sw", dcp.Temporary)),
		setAddress:  dcp.SetRequest(0x01020304, dcp.AddressBlock(at, gateway, dcp.Permanent)),
		signal:      dcp.SetRequest(0x01020304, dcp.SignalBlock()),
		getAll:      dcp.GetRequest(0x01020304),
	} {
		if got := p.Append(nil); !bytes.Equal(got, bytesof.Hex(t, want)) {
			t.Errorf("got  %x\nwant %x", got, bytesof.Hex(t, want))
		}
	}
	frame := dcp.IdentifyAll(1, 1).Frame(us, dcp.IdentifyMulticast)
	if !bytes.Equal(frame[:14], bytesof.Hex(t, "010ecf000000 025253000001 8892")) || len(frame) != 60 {
		t.Errorf("% x", frame)
	}
}

func TestResponses(t *testing.T) {
	p, err := dcp.Parse(append(bytesof.Hex(t, freshStation), make([]byte, 10)...)) // padded to the least frame
	if err != nil {
		t.Fatal(err)
	}
	if got := p.Station(); got["model"] != "FS8" || got["name"] != "" || got["address"] != dcp.NoAddress ||
		len(p.Blocks) != 3 {
		t.Errorf("a fresh station reads as %v", got)
	}
	p, err = dcp.Parse(bytesof.Hex(t, setStation))
	if err != nil {
		t.Fatal(err)
	}
	if got := p.Station(); got["model"] != "FS8" || got["name"] != "yard-sw" || got["address"] != "10.40.8.20" {
		t.Errorf("a station that was set reads as %v", got)
	}
	b, ok := p.Find(dcp.OptionIP, dcp.SubIPAddress)
	at, gateway, err := b.Addressing()
	if !ok || err != nil || at.String() != "10.40.8.20/22" || gateway.String() != "10.40.8.1" || b.Info != 1 {
		t.Errorf("%v %v %v", at, gateway, err)
	}
	if got := p.Append(nil); !bytes.Equal(got, bytesof.Hex(t, setStation)) {
		t.Errorf("written back as %x", got)
	}
}

func TestSetErrors(t *testing.T) {
	p, err := dcp.Parse(bytesof.Hex(t, setDone))
	if err != nil {
		t.Fatal(err)
	}
	if err := p.SetError(); err == nil || !strings.Contains(err.Error(), "local reasons") {
		t.Errorf("error 5 reads as %v", err)
	}
	fine := &dcp.PDU{ServiceType: dcp.TypeSuccess, Blocks: []dcp.Block{dcp.ResponseBlock(2, 2, 0)}}
	if err := fine.SetError(); err != nil {
		t.Errorf("a success reads as %v", err)
	}
	unknown := &dcp.PDU{ServiceType: dcp.TypeSuccess, Blocks: []dcp.Block{dcp.ResponseBlock(2, 2, 99)}}
	if err := unknown.SetError(); err == nil || !strings.Contains(err.Error(), "99") {
		t.Errorf("an unknown error reads as %v", err)
	}
	if (&dcp.PDU{ServiceType: dcp.TypeUnsupported}).SetError() == nil {
		t.Error("an unsupported request reads as success")
	}
}

func TestNoGatewayIsTheStationItself(t *testing.T) {
	b := dcp.AddressBlock(netip.MustParsePrefix("10.0.0.9/24"), netip.Addr{}, 0)
	if !bytes.Equal(b.Data, bytesof.Hex(t, "0a000009 ffffff00 0a000009")) {
		t.Errorf("% x", b.Data)
	}
	none := dcp.AddressBlock(netip.Prefix{}, netip.Addr{}, 0)
	if at, _, err := none.Addressing(); err != nil || at.IsValid() {
		t.Errorf("no address reads as %v, %v", at, err)
	}
}

func TestMalformedPDUsAreRefused(t *testing.T) {
	good := bytesof.Hex(t, setStation)
	for n := range len(good) {
		if n == len(good)-1 {
			continue
		}
		if p, err := dcp.Parse(good[:n]); err == nil {
			t.Errorf("%d of %d bytes were read as %+v", n, len(good), p)
		}
	}
	for name, s := range map[string]string{
		"foreign frame":        "8000 05 01 01020304 0000 0000",
		"block beyond the PDU": "feff 05 01 01020304 0000 0006 0202 0009 0000",
		"no room for info":     "feff 05 01 01020304 0000 0005 0202 0001 00",
		"many blocks":          "fefd 03 00 01020304 0000 0100" + strings.Repeat("0202", 128),
	} {
		if p, err := dcp.Parse(bytesof.Hex(t, s)); err == nil {
			t.Errorf("%s was read as %+v", name, p)
		}
	}
	holes := dcp.Block{Option: dcp.OptionIP, Suboption: dcp.SubIPAddress,
		Data: bytesof.Hex(t, "0a000001 ff00ff00 0a000001")}
	if _, _, err := holes.Addressing(); err == nil {
		t.Error("a mask with holes was read")
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{identifyAll, freshStation, setStation, setName, setAddress, signal, getAll, setDone} {
		f.Add(bytesof.Hex(f, s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := dcp.Parse(b)
		if err != nil {
			return
		}
		p.Station()
		_ = p.SetError()
		again, err := dcp.Parse(p.Append(nil))
		if err != nil || len(again.Blocks) != len(p.Blocks) {
			t.Fatalf("%x parses, but what it is written back as does not: %v", b, err)
		}
		for i := range p.Blocks {
			if !bytes.Equal(again.Blocks[i].Data, p.Blocks[i].Data) || again.Blocks[i].Info != p.Blocks[i].Info {
				t.Errorf("block %d changed", i)
			}
		}
	})
}
