package survey

import (
	"encoding/binary"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/profile"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/segment"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/ethernet"
)

// A survey ends, whoever goes on telling something new: one box that flips counts no more
// after a while, and many of them end it by the clock, which is said.
func TestASurveyEnds(t *testing.T) {
	mostUnquiet = 3 * time.Second
	defer func() { mostUnquiet = time.Minute }()
	for name, c := range map[string]struct {
		senders uint32
		unquiet bool
	}{"one that flips": {1, false}, "ever new ones": {1 << 20, true}} {
		wire := &segment.Segment{}
		port := wire.Attach(them, 64)
		b := bench.New(wire.Attach(us, 4096))
		i := uint32(0)
		tell := func() {
			mac := address.MAC{2, 0x77, 0, 0, 0, 0}
			binary.BigEndian.PutUint32(mac[2:], i%c.senders)
			p := arp.Packet{Operation: arp.Request, SenderMAC: mac, SenderIP: address.FromNumber(0x0a000001 + i),
				TargetIP: address.FromNumber(0x0a000001 + i)}
			i++
			_ = port.Send(ethernet.Frame{Destination: address.Broadcast, Source: mac, Type: ethernet.TypeARP,
				Payload: p.Append(nil)}.Append(nil)) // a port that is full has something to tell already
		}
		// Each piece of news brings the next, however busy the machine is; the first comes with a question.
		first := port
		asked := make(chan struct{})
		go func() {
			defer close(asked)
			if _, err := first.Receive(); err == nil {
				tell()
			}
		}()
		p, err := Run(t.Context(), b, profile.Set{}, Options{}, func(*device.Found, Progress) {
			<-asked
			time.Sleep(2 * time.Millisecond) // so that there is room for all of them; how long does not matter
			tell()
		})
		if err != nil || p.Unquiet != c.unquiet || p.Found == 0 {
			t.Errorf("%s: %+v, %v", name, p, err)
		}
		b.Close()
		port.Close()
	}
}
