package lldp_test

import (
	"bytes"
	"net/netip"
	"reflect"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/wire/bytesof"
	"redstart/internal/wire/lldp"
)

// Written out from IEEE 802.1AB-2016, Figure 8-2 and Table 8-1: seven bits of
// type, nine of length.
const unit = `0207 04 06464e50c8a1
	0407 05 706f72743132
	0602 0078
	0806 75706c696e6b
	0a07 796172642d7377
	0c03 465338
	0e04 0004 0004
	100c 05 01 0a280814 02 00000001 00
	0000`

func TestAUnitByteByByte(t *testing.T) {
	u := lldp.Unit{Chassis: "06:46:4e:50:c8:a1", Port: "port12", TTL: 120, PortText: "uplink", System: "yard-sw",
		Description:  "FS8",
		Capabilities: []string{"bridge"}, Management: []netip.Addr{netip.MustParseAddr("10.40.8.20")}}
	mac, _ := address.ParseMAC(u.Chassis)
	want := bytesof.Hex(t, unit)
	if got := u.Append(nil, mac); !bytes.Equal(got, want) {
		t.Errorf("\ngot  %x\nwant %x", got, want)
	}
	if got, err := lldp.Parse(want); err != nil || !reflect.DeepEqual(got, u) {
		t.Errorf("%+v, %v", got, err)
	}
}

func TestBadUnitsAreRefused(t *testing.T) {
	for what, b := range map[string]string{
		"empty": "", "no end": "0207 04 06464e50c8a1 0402 0531 0602 0078",
		"port before chassis": "0402 0531 0207 04 06464e50c8a1 0602 0078 0000",
		"longer than it is":   "02ff 04", "end at once": "0000",
	} {
		if u, err := lldp.Parse(bytesof.Hex(t, b)); err == nil {
			t.Errorf("%s: %+v", what, u)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(bytesof.Hex(f, unit))
	f.Add(bytesof.Hex(f, "0206 05 01 0a280801 0407 03 020000000001 0602 0000 1003 ff0101 0000"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if u, err := lldp.Parse(b); err == nil && len(u.Management) > 64 {
			t.Errorf("%d addresses", len(u.Management))
		}
	})
}
