package ethernet_test

import (
	"bytes"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/wire/ethernet"
)

func TestFrameIsPaddedAndReadBack(t *testing.T) {
	f := ethernet.Frame{Destination: address.Broadcast, Source: address.MAC{2, 0, 0, 0, 0, 1}, Type: ethernet.TypeARP,
		Payload: []byte{1, 2, 3}}
	raw := f.Append(nil)
	if len(raw) != 60 || !bytes.Equal(raw[:14], []byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 2, 0, 0, 0, 0, 1, 8, 6}) {
		t.Errorf("% x", raw)
	}
	back, err := ethernet.Parse(raw)
	if err != nil || back.Source != f.Source || back.Destination != f.Destination || back.Type != f.Type ||
		!bytes.HasPrefix(back.Payload, f.Payload) {
		t.Errorf("%+v, %v", back, err)
	}
}

func TestVLANTagIsSkipped(t *testing.T) {
	raw := append(make([]byte, 12), 0x81, 0x00, 0x00, 0x05, 0x08, 0x00, 0x45)
	f, err := ethernet.Parse(raw)
	if err != nil || f.Type != ethernet.TypeIPv4 || !bytes.Equal(f.Payload, []byte{0x45}) {
		t.Errorf("%+v, %v", f, err)
	}
	for _, n := range []int{0, 13, 16} {
		if _, err := ethernet.Parse(raw[:n]); err == nil {
			t.Errorf("%d bytes were taken for a frame", n)
		}
	}
}
