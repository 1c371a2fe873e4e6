package lookonly_test

import (
	"context"
	"errors"
	"net/netip"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/lookonly"
	"redstart/internal/lan/segment"
	"redstart/internal/survey"
	"redstart/internal/wire/dcp"
	"redstart/internal/wire/ethernet"
)

var (
	us   = address.MAC{2, 0x52, 0x53, 0, 0, 1}
	them = address.MAC{6, 0x46, 0x4e, 0, 0, 1}
)

// A conversation over such a port cannot even begin: its first TCP segment stays
// inside, as the wire shows.
func TestNoConversationCanBeHeld(t *testing.T) {
	wire := &segment.Segment{}
	witness := wire.Attach(them, 64)
	b := bench.New(lookonly.On(wire.Attach(us, 64), survey.Question))
	defer b.Close()
	if err := b.Send(dcp.SetRequest(1, dcp.SignalBlock()).Frame(us, them)); !errors.Is(err, lookonly.ErrRefused) {
		t.Errorf("a signal: %v", err)
	}
	conv, err := b.Open(context.Background(), bench.Peer{MAC: them, Address: netip.MustParseAddr("192.168.77.20")})
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	dialled := make(chan error, 1)
	go func() {
		_, err := conv.Dial(ctx, 80)
		dialled <- err
	}()
	stop()
	if err := <-dialled; err == nil {
		t.Error("a connection was opened")
	}
	conv.Close()
	witness.Close()
	for {
		raw, err := witness.Receive()
		if err != nil {
			break
		}
		if f, err := ethernet.Parse(raw); err != nil || f.Type != ethernet.TypeARP {
			t.Errorf("a frame of type %#x got out", f.Type)
		}
	}
}
