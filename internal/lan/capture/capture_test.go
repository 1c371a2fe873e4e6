package capture_test

import (
	"bytes"
	"errors"
	"io"
	"testing"

	"github.com/gopacket/gopacket/pcapgo"

	"redstart/internal/core/address"
	"redstart/internal/lan/capture"
	"redstart/internal/lan/segment"
	"redstart/internal/wire/ethernet"
)

// What crosses the port between start and stop is in the file, both ways, and
// nothing else.
func TestACaptureHoldsWhatCrossed(t *testing.T) {
	wire := &segment.Segment{}
	us, them := address.MAC{2, 0, 0, 0, 0, 1}, address.MAC{2, 0, 0, 0, 0, 2}
	p, other := capture.On(wire.Attach(us, 16)), wire.Attach(them, 16)
	frame := func(from, to address.MAC, mark byte) []byte {
		return ethernet.Frame{Destination: to, Source: from, Type: 0x88b5, Payload: []byte{mark}}.Append(nil)
	}
	cross := func(mark byte) {
		t.Helper()
		if err := errors.Join(p.Send(frame(us, them, mark)), other.Send(frame(them, us, mark+1))); err != nil {
			t.Fatal(err)
		}
		if _, err := p.Receive(); err != nil {
			t.Fatal(err)
		}
	}
	var file bytes.Buffer
	cross(1)
	if err := p.Start(&file, "wire", "test"); err != nil {
		t.Fatal(err)
	}
	if err := p.Start(io.Discard, "wire", "test"); !errors.Is(err, capture.ErrBusy) {
		t.Errorf("a second one: %v", err)
	}
	cross(11)
	if err := p.Stop(); err != nil {
		t.Fatal(err)
	}
	cross(21)
	r, err := pcapgo.NewNgReader(&file, pcapgo.DefaultNgReaderOptions)
	if err != nil {
		t.Fatal(err)
	}
	var marks []byte
	for {
		raw, _, err := r.ReadPacketData()
		if err != nil {
			break
		}
		marks = append(marks, raw[14])
	}
	if !bytes.Equal(marks, []byte{11, 12}) {
		t.Errorf("%v", marks)
	}
}

// A capture ends at its bound; what crosses the port does not.
func TestACaptureIsBounded(t *testing.T) {
	t.Parallel()
	wire := &segment.Segment{}
	p := capture.On(wire.Attach(address.MAC{2, 0, 0, 0, 0, 1}, 4))
	defer p.Close()
	if err := p.Start(io.Discard, "wire", "test"); err != nil {
		t.Fatal(err)
	}
	frame := make([]byte, 64<<10)
	copy(frame, []byte{2, 0, 0, 0, 0, 9, 2, 0, 0, 0, 0, 1, 0x88, 0xb5})
	for range capture.MostBytes/len(frame) + 3 {
		if err := p.Send(frame); err != nil {
			t.Fatal(err)
		}
	}
	if err := p.Stop(); !errors.Is(err, capture.ErrFull) {
		t.Errorf("%v", err)
	}
}
