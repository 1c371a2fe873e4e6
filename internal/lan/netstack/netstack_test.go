package netstack_test

import (
	"context"
	"io"
	"net/netip"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/lan/netstack"
	"redstart/internal/wire/ethernet"
)

var (
	usMAC, themMAC = address.MAC{2, 0, 0, 0, 0, 1}, address.MAC{2, 0, 0, 0, 0, 2}
	usAt           = netip.MustParsePrefix("192.168.77.19/32")
	themAt         = netip.MustParsePrefix("192.168.77.20/24")
)

// wire joins two hosts; what is sent after one end was closed is lost.
func wire(t *testing.T) (us, them *netstack.Host, crossed func() []ethernet.Frame) {
	t.Helper()
	toThem, toUs := make(chan []byte, 256), make(chan []byte, 256)
	var seen []ethernet.Frame
	frames := make(chan ethernet.Frame, 1024)
	send := func(to chan []byte) func([]byte) {
		return func(f []byte) {
			copied := append([]byte(nil), f...)
			if parsed, err := ethernet.Parse(copied); err == nil {
				frames <- parsed
			}
			select {
			case to <- copied:
			default:
			}
		}
	}
	us, err := netstack.New(usMAC, usAt, netip.Addr{}, send(toThem))
	if err != nil {
		t.Fatal(err)
	}
	if them, err = netstack.New(themMAC, themAt, netip.Addr{}, send(toUs)); err != nil {
		t.Fatal(err)
	}
	stop := make(chan struct{})
	pump := func(from chan []byte, to *netstack.Host) {
		for {
			select {
			case f := <-from:
				to.Deliver(f)
			case <-stop:
				return
			}
		}
	}
	go pump(toThem, them)
	go pump(toUs, us)
	t.Cleanup(func() { close(stop); us.Close(); them.Close() })
	return us, them, func() []ethernet.Frame {
		for {
			select {
			case f := <-frames:
				seen = append(seen, f)
			default:
				return seen
			}
		}
	}
}

func patient(t *testing.T) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	t.Cleanup(cancel)
	return ctx
}

// A conversation reaches the pinned box, and asks nobody who has the address.
func TestAConversationWithAPinnedBox(t *testing.T) {
	us, them, crossed := wire(t)
	if err := us.Pin(themAt.Addr(), themMAC); err != nil {
		t.Fatal(err)
	}
	if err := them.Pin(usAt.Addr(), usMAC); err != nil {
		t.Fatal(err)
	}
	l, err := them.ListenTCP(80)
	if err != nil {
		t.Fatal(err)
	}
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		_, _ = io.Copy(c, c) // until the other end closes
		c.Close()
	}()
	c, err := us.Dial(patient(t), netip.AddrPortFrom(themAt.Addr(), 80))
	if err != nil {
		t.Fatal(err)
	}
	big := strings.Repeat("0123456789", 10000)
	go func() { _, _ = io.WriteString(c, big) }() // what comes back is what counts
	back := make([]byte, len(big))
	if _, err := io.ReadFull(c, back); err != nil || string(back) != big {
		t.Errorf("%d bytes came back, %v", len(back), err)
	}
	c.Close()
	if err := us.Echo(patient(t), themAt.Addr()); err != nil {
		t.Errorf("echo: %v", err)
	}
	for _, f := range crossed() {
		if f.Type == ethernet.TypeARP && f.Source == usMAC {
			t.Error("who has the address was asked, though the box is pinned")
		}
		if f.Source == usMAC && f.Destination != themMAC {
			t.Errorf("a frame went to %s", f.Destination)
		}
	}
}

func TestNobodyThere(t *testing.T) {
	us, _, _ := wire(t)
	gone := netip.MustParseAddr("192.168.77.99")
	if err := us.Pin(gone, address.MAC{2, 9, 9, 9, 9, 9}); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 200*time.Millisecond)
	defer cancel()
	if _, err := us.Dial(ctx, netip.AddrPortFrom(gone, 80)); err == nil {
		t.Error("a connection to nobody")
	}
	if err := us.Echo(ctx, gone); err == nil {
		t.Error("an echo of nobody")
	}
	if err := us.Pin(themAt.Addr(), themMAC); err != nil {
		t.Fatal(err)
	}
	if _, err := us.Dial(patient(t), netip.AddrPortFrom(themAt.Addr(), 81)); err == nil {
		t.Error("a connection to a port that nobody listens on")
	}
	us.Deliver(nil)
	us.Deliver([]byte{1, 2, 3})
}
