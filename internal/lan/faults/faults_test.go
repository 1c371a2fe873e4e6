package faults_test

import (
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/lan"
	"redstart/internal/lan/faults"
)

// counter is a port that counts what it is given.
type counter struct {
	lan.Port
	sent chan []byte
}

func (c counter) Send(f []byte) error { c.sent <- f; return nil }
func (c counter) MAC() address.MAC    { return address.MAC{2} }

func send(t *testing.T, p lan.Port, n int) {
	t.Helper()
	for range n {
		if err := p.Send([]byte("frame")); err != nil {
			t.Fatal(err)
		}
	}
}

func TestLossAndDuplicatesComeInTheirShares(t *testing.T) {
	const n = 10000
	for name, c := range map[string]struct {
		faults    faults.Faults
		low, high int
	}{
		"none":      {faults.Faults{}, n, n},
		"loss":      {faults.Faults{Loss: 0.2}, 7800, 8200},
		"duplicate": {faults.Faults{Duplicate: 0.1}, 10850, 11150},
		"both":      {faults.Faults{Loss: 0.5, Duplicate: 1}, 9700, 10300},
	} {
		at := counter{sent: make(chan []byte, 3*n)}
		p := faults.On(at, c.faults, 42)
		send(t, p, n)
		if got := len(at.sent); got < c.low || got > c.high {
			t.Errorf("%s: %d of %d frames arrived, want %d to %d", name, got, n, c.low, c.high)
		}
		if p.MAC() != at.MAC() {
			t.Errorf("%s: the port's MAC changed", name)
		}
	}
}

func TestTheSameSeedLosesTheSameFrames(t *testing.T) {
	pattern := func(seed uint64) (p []int) {
		at := counter{sent: make(chan []byte, 100)}
		wire := faults.On(at, faults.Faults{Loss: 0.5}, seed)
		for range 50 {
			send(t, wire, 1)
			p = append(p, len(at.sent))
		}
		return p
	}
	a, b, c := pattern(1), pattern(1), pattern(2)
	same := true
	for i := range a {
		if a[i] != b[i] {
			t.Fatal("one seed gives two patterns")
		}
		same = same && a[i] == c[i]
	}
	if same {
		t.Error("two seeds give one pattern")
	}
}

func TestDelayKeepsTheFrame(t *testing.T) {
	at := counter{sent: make(chan []byte, 10)}
	p := faults.On(at, faults.Faults{Delay: 20 * time.Millisecond}, 1)
	f := []byte("first")
	if err := p.Send(f); err != nil {
		t.Fatal(err)
	}
	copy(f, "XXXXX") // the sender may use its buffer again
	if got := <-at.sent; string(got) != "first" {
		t.Errorf("the delayed frame became %q", got)
	}
}
