package vlan_test

import (
	"bytes"
	"slices"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/lan"
	"redstart/internal/lan/segment"
	"redstart/internal/lan/vlan"
)

var (
	a = address.MAC{2, 0, 0, 0, 0, 1}
	b = address.MAC{2, 0, 0, 0, 0, 2}
)

func frame(to, from address.MAC, rest ...byte) []byte {
	return slices.Concat(to[:], from[:], rest, bytes.Repeat([]byte{0}, 46))
}

// A frame goes out with the tag of IEEE 802.1Q, and is heard without it on the same
// virtual LAN alone.
func TestOnlyWhatIsOnTheSameVirtualLANIsHeard(t *testing.T) {
	t.Parallel()
	var s segment.Segment
	wire := s.Attach(b, 16)
	defer wire.Close()
	on := vlan.On(s.Attach(a, 16), 108)
	defer on.Close()
	if err := on.Send(frame(b, a, 0x08, 0x06, 1, 2)); err != nil {
		t.Fatal(err)
	}
	got, err := wire.Receive()
	if err != nil || !bytes.Equal(got[12:20], []byte{0x81, 0x00, 0x00, 108, 0x08, 0x06, 1, 2}) {
		t.Fatalf("% x, %v", got, err)
	}
	for _, f := range [][]byte{
		frame(a, b, 0x08, 0x06, 9),                        // no tag
		frame(a, b, 0x81, 0x00, 0x00, 107, 0x08, 0x06, 9), // another
		frame(a, b, 0x81, 0x00, 0xe0, 108, 0x08, 0x06, 7), // with a priority
	} {
		if err := wire.Send(f); err != nil {
			t.Fatal(err)
		}
	}
	got, err = on.Receive()
	if err != nil || !bytes.Equal(got[12:15], []byte{0x08, 0x06, 7}) {
		t.Errorf("% x, %v", got, err)
	}
}

// Without a number, what is tagged for others is not heard; a mere priority is.
func TestWithoutANumber(t *testing.T) {
	t.Parallel()
	var s segment.Segment
	wire := s.Attach(b, 16)
	defer wire.Close()
	on := vlan.On(s.Attach(a, 16), vlan.None)
	defer on.Close()
	for _, f := range [][]byte{
		frame(a, b, 0x81, 0x00, 0x00, 107, 0x08, 0x06, 9),
		frame(a, b, 0x81, 0x00, 0xc0, 0, 0x88, 0x92, 7),
		frame(a, b, 0x08, 0x06, 8),
	} {
		if err := wire.Send(f); err != nil {
			t.Fatal(err)
		}
	}
	for _, want := range [][]byte{{0x88, 0x92, 7}, {0x08, 0x06, 8}} {
		if got, err := on.Receive(); err != nil || !bytes.Equal(got[12:15], want) {
			t.Errorf("% x, %v, want % x", got, err, want)
		}
	}
	if err := on.Send(frame(b, a, 0x08, 0x06, 5)); err != nil {
		t.Fatal(err)
	}
	if got, err := wire.Receive(); err != nil || !bytes.Equal(got[12:15], []byte{0x08, 0x06, 5}) {
		t.Errorf("% x, %v", got, err)
	}
	on.Close()
	if _, err := on.Receive(); err != lan.ErrClosed {
		t.Errorf("after its end: %v", err)
	}
}
