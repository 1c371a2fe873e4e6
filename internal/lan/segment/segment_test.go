package segment_test

import (
	"bytes"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/lan"
	"redstart/internal/lan/segment"
	"redstart/internal/wire/ethernet"
)

func mac(n byte) address.MAC { return address.MAC{2, 0, 0, 0, 0, n} }

func frame(from, to address.MAC, text string) []byte {
	return ethernet.Frame{Destination: to, Source: from, Type: 0x88b5, Payload: []byte(text)}.Append(nil)
}

// got reads one frame that must be there already: the switch delivers at once.
func got(t *testing.T, p *segment.Port) string {
	t.Helper()
	f, err := p.Receive()
	if err != nil {
		t.Fatal(err)
	}
	parsed, err := ethernet.Parse(f)
	if err != nil {
		t.Fatal(err)
	}
	return string(bytes.TrimRight(parsed.Payload, "\x00"))
}

func TestTheSwitchFloodsLearnsAndForgets(t *testing.T) {
	var s segment.Segment
	a, b, c := s.Attach(mac(1), 8), s.Attach(mac(2), 8), s.Attach(mac(3), 8)
	send := func(p *segment.Port, f []byte) {
		t.Helper()
		if err := p.Send(f); err != nil {
			t.Fatal(err)
		}
	}
	send(a, frame(mac(1), mac(2), "unknown"))
	if got(t, b) != "unknown" || got(t, c) != "unknown" || s.Forwarded.Load() != 2 {
		t.Error("a frame for an unknown MAC must go everywhere but back")
	}
	send(b, frame(mac(2), mac(1), "answer"))
	if got(t, a) != "answer" || s.Forwarded.Load() != 3 {
		t.Errorf("a known MAC's frame went to %d ports", s.Forwarded.Load()-2)
	}
	send(b, frame(mac(2), address.Broadcast, "all"))
	if got(t, a) != "all" || got(t, c) != "all" {
		t.Error("a broadcast did not reach everybody")
	}
	// The box behind MAC 1 moves to the third port.
	send(c, frame(mac(1), address.Broadcast, "moved"))
	got(t, a)
	got(t, b)
	send(b, frame(mac(2), mac(1), "there"))
	if got(t, c) != "there" {
		t.Error("the switch did not learn that a MAC moved")
	}
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
	send(b, frame(mac(2), mac(1), "gone"))
	if got(t, a) != "gone" {
		t.Error("the switch did not forget an unplugged port")
	}
	if _, err := c.Receive(); err != lan.ErrClosed {
		t.Errorf("receiving at a closed port: %v", err)
	}
	if err := c.Send(frame(mac(1), mac(2), "x")); err != lan.ErrClosed {
		t.Errorf("sending at a closed port: %v", err)
	}
}

func TestAFullPortLosesFramesAndNobodyWaits(t *testing.T) {
	var s segment.Segment
	a, b := s.Attach(mac(1), 1), s.Attach(mac(2), 2)
	for range 5 {
		if err := a.Send(frame(mac(1), mac(2), "x")); err != nil {
			t.Fatal(err)
		}
	}
	if s.Dropped.Load() != 3 || s.Forwarded.Load() != 2 {
		t.Errorf("%d dropped, %d forwarded", s.Dropped.Load(), s.Forwarded.Load())
	}
	got(t, b)
	for _, bad := range [][]byte{nil, {1, 2, 3}, frame(address.Broadcast, mac(2), "from a group")} {
		if err := a.Send(bad); err != nil {
			t.Error(err)
		}
	}
	if s.Forwarded.Load() != 2 {
		t.Error("a malformed frame was forwarded")
	}
}

func TestBridgeJoinsTwoSegments(t *testing.T) {
	var left, right segment.Segment
	inLeft, inRight := left.Attach(mac(8), 8), right.Attach(mac(9), 8)
	done := make(chan struct{})
	go func() {
		defer close(done)
		segment.Bridge(inLeft, inRight)
	}()
	a, b := left.Attach(mac(1), 8), right.Attach(mac(2), 8)
	if err := a.Send(frame(mac(1), mac(2), "over")); err != nil {
		t.Fatal(err)
	}
	if got(t, b) != "over" {
		t.Error("nothing came over the bridge")
	}
	if err := b.Send(frame(mac(2), mac(1), "back")); err != nil {
		t.Fatal(err)
	}
	if got(t, a) != "back" {
		t.Error("nothing came back")
	}
	inLeft.Close()
	<-done // closing one end ends both directions
}
