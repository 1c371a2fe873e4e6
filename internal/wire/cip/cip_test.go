package cip_test

import (
	"bytes"
	"strings"
	"testing"

	"redstart/internal/wire/bytesof"
	"redstart/internal/wire/cip"
)

// Written out from Volume 1, 2-4.1 and appendices A-3 and C-1.4.2.
func TestRequestsByteByByte(t *testing.T) {
	for _, c := range []struct {
		r    cip.Request
		want string
	}{
		{cip.Request{Service: cip.GetOne, Path: cip.Path{Class: cip.Identity, Instance: 1, Attribute: 7}},
			"0e 03 20 01 24 01 30 07"},
		{cip.Request{Service: cip.SetOne, Path: cip.Path{Class: cip.TCPIP, Instance: 1, Attribute: 3}, Data: make([]byte, 4)},
			"10 03 20 f5 24 01 30 03 00000000"},
		{cip.Request{Service: cip.Reset, Path: cip.Path{Class: cip.Identity, Instance: 1}, Data: []byte{0}},
			"05 02 20 01 24 01 00"},
		{cip.Request{Service: cip.GetOne, Path: cip.Path{Class: 0x300, Instance: 1, Attribute: 0x101}},
			"0e 05 21 00 0003 24 01 31 00 0101"},
	} {
		want := bytesof.Hex(t, c.want)
		got := c.r.Append(nil)
		if !bytes.Equal(got, want) {
			t.Errorf("\ngot  %x\nwant %x", got, want)
		}
		if back, err := cip.ParseRequest(want); err != nil || back.Path != c.r.Path || back.Service != c.r.Service ||
			!bytes.Equal(back.Data, c.r.Data) {
			t.Errorf("%+v, %v", back, err)
		}
	}
}

func TestResponses(t *testing.T) {
	r, err := cip.ParseResponse(bytesof.Hex(t, "8e 00 00 00 02 4d39"))
	if err != nil || r.Service != cip.GetOne || r.Status != 0 {
		t.Fatalf("%+v, %v", r, err)
	}
	if text, rest, err := cip.Value(r.Data, cip.ShortString); text != "M9" || len(rest) != 0 || err != nil {
		t.Errorf("%q, %x, %v", text, rest, err)
	}
	// One with an additional status of one word.
	r, err = cip.ParseResponse(bytesof.Hex(t, "90 00 0e 01 1234"))
	if err != nil || r.Status != 0x0e || len(r.Data) != 0 || cip.StatusText(r.Status) != "this cannot be written" {
		t.Errorf("%+v, %v", r, err)
	}
	if text := cip.StatusText(0xd1); !strings.Contains(text, "D1h") {
		t.Error(text)
	}
	for _, bad := range []string{"", "0e000000", "8e0000", "8e 00 00 05 00"} {
		if _, err := cip.ParseResponse(bytesof.Hex(t, bad)); err == nil {
			t.Errorf("%s was taken", bad)
		}
	}
}

func TestValues(t *testing.T) {
	for _, c := range []struct{ as, text, want string }{
		{cip.USInt, "255", "ff"}, {cip.UInt, "258", "0201"}, {cip.UDInt, "1", "01000000"}, {cip.DWord, "2", "02000000"},
		{cip.Address, "10.40.8.1", "01 08 28 0a"}, {cip.Address, "", "00000000"}, {cip.Hex, "B9012345", "452301b9"},
		{cip.String, "ab", "0200 6162"}, {cip.String, "abc", "0300 616263 00"}, {cip.ShortString, "abc", "03 616263"},
	} {
		want := bytesof.Hex(t, c.want)
		got, err := cip.AppendValue(nil, c.as, c.text)
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s %q: %x, %v", c.as, c.text, got, err)
		}
		if text, rest, err := cip.Value(want, c.as); err != nil || text != c.text || len(rest) != 0 {
			t.Errorf("%s %x: %q, %x, %v", c.as, want, text, rest, err)
		}
		for n := range want {
			if _, rest, err := cip.Value(want[:n], c.as); err == nil && !(c.as == cip.String && n == len(want)-1) {
				t.Errorf("%s of %d bytes was taken, %x left", c.as, n, rest)
			}
		}
	}
	for _, c := range [][2]string{{cip.USInt, "256"}, {cip.UInt, "-1"}, {cip.UDInt, "x"}, {cip.Address, "::1"},
		{cip.Revision, "1.1"}, {cip.ShortString, strings.Repeat("x", 256)}, {"odd", "1"}} {
		if _, err := cip.AppendValue(nil, c[0], c[1]); err == nil {
			t.Errorf("%v was taken", c)
		}
	}
	if text, _, err := cip.Value([]byte{12, 1}, cip.Revision); text != "12.001" || err != nil {
		t.Error(text, err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte{0x8e, 0, 0, 0, 2, 'M', '9'})
	f.Add([]byte{0x0e, 3, 0x20, 1, 0x24, 1, 0x30, 7})
	f.Fuzz(func(t *testing.T, b []byte) {
		if r, err := cip.ParseResponse(b); err == nil {
			for _, as := range cip.Types {
				_, _, _ = cip.Value(r.Data, as)
			}
		}
		if r, err := cip.ParseRequest(b); err == nil && r.Path.Class != 0 && r.Path.Instance != 0 {
			again, err := cip.ParseRequest(r.Append(nil))
			if err != nil || again.Path != r.Path {
				t.Errorf("%x: %+v, then %+v, %v", b, r, again, err)
			}
		}
	})
}
