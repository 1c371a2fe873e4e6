package enip_test

import (
	"bytes"
	"net/netip"
	"testing"

	"redstart/internal/wire/bytesof"
	"redstart/internal/wire/enip"
)

// Written out from the CIP Networks Library, Volume 2, Tables 2-3.1, 2-4.3 and 2-4.4.
const (
	question = "6300 0000 00000000 00000000 0000000000000000 00000000"
	answer   = `6300 2c00 00000000 00000000 0000000000000000 00000000
		0100 0c00 2600
		0100 0002 af12 0a280814 0000000000000000
		0905 0e00 2a00 0307 0500 78563412 04 4d390a41 03`
)

func TestListIdentityByteByByte(t *testing.T) {
	if got := enip.Request(); !bytes.Equal(got, bytesof.Hex(t, question)) || !enip.IsRequest(got) {
		t.Errorf("%x", got)
	}
	i := enip.Identity{Address: netip.MustParseAddr("10.40.8.20"), Vendor: 0x509, Type: 14, Code: 42, RevMajor: 3,
		RevMinor: 7, Status: 5, Serial: 0x12345678, Product: "M9\nA", State: 3}
	want := bytesof.Hex(t, answer)
	if got := i.Answer(); !bytes.Equal(got, want) {
		t.Errorf("\ngot  %x\nwant %x", got, want)
	}
	got, err := enip.Parse(want)
	if err != nil || got != i || got.Revision() != "3.007" || !got.Configured() || enip.IsRequest(want) {
		t.Errorf("%+v, %v", got, err)
	}
	for n := range want {
		if i, err := enip.Parse(want[:n]); err == nil {
			t.Errorf("%d bytes are %+v", n, i)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(bytesof.Hex(f, answer))
	f.Add(bytesof.Hex(f, question))
	f.Fuzz(func(t *testing.T, b []byte) {
		i, err := enip.Parse(b)
		if err == nil && len(i.Product) > len(b) {
			t.Error(i)
		}
	})
}
