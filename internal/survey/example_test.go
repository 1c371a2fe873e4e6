package survey

import (
	"iter"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
)

// examplePort is where boxes answer a made-up greeting.
const examplePort = 4010

// exampleProber is a whole way of finding: who is greeted says its name.
// docs/adding.md walks through it.
var exampleProber = prober{
	protocol: "greeting",
	stage:    sourced, // it needs an address of ours to ask from
	is:       over(examplePort, func(payload []byte) bool { return string(payload) == "hello" }),
	ask: func(p *pass) iter.Seq[[]byte] {
		return p.overUDP(examplePort, netip.AddrPortFrom(ip.Broadcast, examplePort), 1, []byte("hello"))
	},
	read: func(h *heard) []device.Sighting {
		if !h.isUDP || h.udp.Source.Port() != examplePort || len(h.udp.Payload) > 64 {
			return nil // not its answer
		}
		name, ok := strings.CutPrefix(string(h.udp.Payload), "I am ")
		if !ok {
			return nil
		}
		return []device.Sighting{h.told(fact.Name, name)}
	},
}

func TestTheExampleAsksAndReads(t *testing.T) {
	p := &pass{from: us, sources: []netip.Addr{netip.MustParseAddr("10.40.8.9")}}
	asked := slices.Collect(exampleProber.ask(p))
	if len(asked) != 1 || !strings.Contains(string(asked[0]), "hello") {
		t.Fatalf("%d questions: %q", len(asked), asked)
	}
	for answer, want := range map[string]string{"I am gate-2": "gate-2", "go away": "",
		"I am " + strings.Repeat("x", 99): ""} {
		frame, err := ethernet.Parse(udp("10.40.8.30:4010", "10.40.8.9:4010", []byte(answer)))
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		for _, s := range exampleProber.read(hear(frame, time.Now())) {
			got = s.Facts[fact.Name]
		}
		if got != want {
			t.Errorf("%.20q: %q, want %q", answer, got, want)
		}
	}
}
