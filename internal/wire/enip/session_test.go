package enip_test

import (
	"bytes"
	"testing"

	"redstart/internal/wire/bytesof"
	"redstart/internal/wire/enip"
)

// Written out from the CIP Networks Library, Volume 2, Tables 2-3.1, 2-4.6, 2-4.9 and 2-6.
func TestSessionsByteByByte(t *testing.T) {
	for _, c := range []struct {
		f    enip.Frame
		want string
	}{
		{enip.Registration(), "6500 0400 00000000 00000000 0000000000000000 00000000 0100 0000"},
		{enip.Message(0x11223344, []byte{0x0e, 0x01}),
			"6f00 1200 44332211 00000000 0000000000000000 00000000 00000000 0000 0200 0000 0000 b200 0200 0e01"},
	} {
		want := bytesof.Hex(t, c.want)
		if got := c.f.Append(nil); !bytes.Equal(got, want) {
			t.Errorf("\ngot  %x\nwant %x", got, want)
		}
		back, err := enip.ReadFrame(bytes.NewReader(want))
		if err != nil || back.Command != c.f.Command || back.Session != c.f.Session || !bytes.Equal(back.Data, c.f.Data) {
			t.Errorf("%+v, %v", back, err)
		}
		for n := range want {
			if _, err := enip.ReadFrame(bytes.NewReader(want[:n])); err == nil {
				t.Errorf("%d bytes were taken for a frame", n)
			}
		}
	}
	m, err := enip.Message(7, []byte{1, 2, 3}).Unwrap()
	if err != nil || !bytes.Equal(m, []byte{1, 2, 3}) {
		t.Errorf("%x, %v", m, err)
	}
	huge := bytesof.Hex(t, "6f00 ffff 00000000 00000000 0000000000000000 00000000")
	if _, err := enip.ReadFrame(bytes.NewReader(huge)); err != enip.ErrMalformed {
		t.Errorf("a frame of 64 KiB: %v", err)
	}
}

func FuzzFrame(f *testing.F) {
	f.Add(enip.Message(7, []byte{1, 2, 3}).Append(nil))
	f.Add(enip.Registration().Append(nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		frame, err := enip.ReadFrame(bytes.NewReader(b))
		if err != nil {
			return
		}
		if m, err := frame.Unwrap(); err == nil && len(m) > len(b) {
			t.Errorf("%d bytes out of %d", len(m), len(b))
		}
	})
}
