package bench_test

import (
	"context"
	"encoding/json"
	"net"
	"net/http"
	"net/netip"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"

	"redstart/internal/core/address"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/segment"
	"redstart/internal/sim/skerry"
	"redstart/internal/wire/ethernet"
)

// site starts simulated cameras and waits for each to announce itself.
func site(t *testing.T, o skerry.Options) (*skerry.Site, *bench.Bench) {
	t.Helper()
	s := skerry.Start(o)
	t.Cleanup(s.Close)
	b := bench.New(s.Attach())
	t.Cleanup(func() { b.Close() })
	return s, b
}

func TestDevicesThatShareAnAddressAnswerSideBySide(t *testing.T) {
	const n = 60
	s, b := site(t, skerry.Options{Devices: n, Only: "C20", Pace: 0.01})
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	shared := netip.MustParseAddr("192.168.77.20")
	var all sync.WaitGroup
	for _, device := range s.Boxes {
		all.Add(1)
		go func() {
			defer all.Done()
			for {
				here, err := b.Holds(ctx, bench.Peer{MAC: device.MAC, Address: shared})
				if err != nil {
					t.Error(err)
					return
				}
				if here {
					break
				}
			}
			c, err := b.Open(ctx, bench.Peer{MAC: device.MAC, Address: shared})
			if err != nil {
				t.Error(err)
				return
			}
			defer c.Close()
			if err := c.Echo(ctx); err != nil {
				t.Errorf("%s: %v", device.MAC, err)
			}
			client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true,
				DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
					return c.Dial(ctx, 80)
				}}}
			r, err := client.Get("http://" + shared.String() + "/about.json")
			if err != nil {
				t.Error(err)
				return
			}
			defer r.Body.Close()
			var about struct{ Serial string }
			if err := json.NewDecoder(r.Body).Decode(&about); err != nil || about.Serial != device.Serial {
				t.Errorf("%s answered as %q (%v), want %q", device.MAC, about.Serial, err, device.Serial)
			}
		}()
	}
	all.Wait()
	holders, err := b.Holders(ctx, bench.Peer{Address: shared})
	if err != nil || len(holders) != n {
		t.Errorf("%d holders of the shared address (%v), want %d", len(holders), err, n)
	}
}

func TestSourceIsFreeNearAndNotPlanned(t *testing.T) {
	s, b := site(t, skerry.Options{Devices: 2, Only: "C20", Pace: 0.01})
	ctx := context.Background()
	at := netip.MustParseAddr("192.168.77.20")
	avoided := netip.MustParseAddr("192.168.77.17")
	open := func() *bench.Conversation {
		c, err := b.Open(ctx, bench.Peer{MAC: s.Boxes[0].MAC, Address: at, Avoid: func(a netip.Addr) bool {
			return a == avoided
		}})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(c.Close)
		return c
	}
	first, second := open(), open()
	if first.Source() == at || first.Source() == avoided || !netip.PrefixFrom(at,
		29).Masked().Contains(first.Source()) {
		t.Errorf("source %s is not a free neighbour of %s", first.Source(), at)
	}
	if first.Source() == second.Source() {
		t.Errorf("two conversations with one device share the source %s", first.Source())
	}
}

// The other side is an independent decoder and encoder: it reads our datagram
// and sends it back.
func TestUDPReachesTheDevice(t *testing.T) {
	var wire segment.Segment
	b := bench.New(wire.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 64))
	t.Cleanup(func() { b.Close() })
	mac, at := address.MAC{0x0a, 0x4f, 0x56, 0, 0, 1}, netip.MustParseAddr("192.168.77.20")
	device := wire.Attach(mac, 64)
	t.Cleanup(func() { device.Close() })
	go func() {
		for {
			raw, err := device.Receive()
			if err != nil {
				return
			}
			packet := gopacket.NewPacket(raw, layers.LayerTypeEthernet, gopacket.Default)
			udp, ok := packet.Layer(layers.LayerTypeUDP).(*layers.UDP)
			if !ok {
				continue
			}
			ip := packet.Layer(layers.LayerTypeIPv4).(*layers.IPv4)
			eth := packet.Layer(layers.LayerTypeEthernet).(*layers.Ethernet)
			back := &layers.UDP{SrcPort: udp.DstPort, DstPort: udp.SrcPort}
			over := &layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolUDP, SrcIP: ip.DstIP, DstIP: ip.SrcIP}
			_ = back.SetNetworkLayerForChecksum(over) // never fails for IPv4
			buffer := gopacket.NewSerializeBuffer()
			if gopacket.SerializeLayers(buffer, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true},
				&layers.Ethernet{SrcMAC: eth.DstMAC, DstMAC: eth.SrcMAC, EthernetType: layers.EthernetTypeIPv4}, over,
				back, gopacket.Payload(append([]byte("back: "), udp.Payload...))) == nil {
				_ = device.Send(buffer.Bytes())
			}
		}
	}()
	c, err := b.Open(context.Background(), bench.Peer{MAC: mac, Address: at})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	u, err := c.DialUDP(47808)
	if err != nil {
		t.Fatal(err)
	}
	defer u.Close()
	if err := u.SetDeadline(time.Now().Add(30 * time.Second)); err != nil {
		t.Fatal(err)
	}
	if _, err := u.Write([]byte("who is")); err != nil {
		t.Fatal(err)
	}
	got := make([]byte, 64)
	if n, err := u.Read(got); err != nil || string(got[:n]) != "back: who is" {
		t.Errorf("%q, %v", got[:n], err)
	}
}

func TestSlowListenerLosesFramesAndNobodyWaits(t *testing.T) {
	s, b := site(t, skerry.Options{Devices: 5, Only: "C20", Pace: 0.01})
	at := netip.MustParseAddr("192.168.77.20")
	for _, device := range s.Boxes {
		for here := false; !here; {
			here, _ = b.Holds(context.Background(), bench.Peer{MAC: device.MAC, Address: at})
		}
	}
	heard := make(chan struct{}, 100)
	deaf := b.Listen(1, func(ethernet.Frame) bool { heard <- struct{}{}; return true })
	defer deaf.Close()
	// Three probes to five holders make fifteen answers; one fits the queue.
	if holders, err := b.Holders(context.Background(), bench.Peer{Address: at}); err != nil || len(holders) != 5 {
		t.Fatalf("%d holders, %v", len(holders), err)
	}
	for range 10 {
		<-heard
	}
	for b.Dropped.Load() < 9 { // counted right after each frame was offered
		runtime.Gosched()
	}
	if len(deaf.Frames()) != 1 {
		t.Errorf("%d frames wait in a queue of one", len(deaf.Frames()))
	}
}

// BenchmarkConversations opens conversations with 500 devices that share an
// address, side by side, and tells what one costs.
func BenchmarkConversations(b *testing.B) {
	const n = 500
	s := skerry.Start(skerry.Options{Devices: n, Only: "C20", Pace: 0.01})
	b.Cleanup(s.Close)
	on := bench.New(s.Attach())
	b.Cleanup(func() { on.Close() })
	ctx := context.Background()
	at := netip.MustParseAddr("192.168.77.20")
	for _, device := range s.Boxes {
		for here := false; !here; {
			here, _ = on.Holds(ctx, bench.Peer{MAC: device.MAC, Address: at})
		}
	}
	for range b.N {
		var before, after runtime.MemStats
		runtime.GC() // what has finalizers is cleared the second time
		runtime.GC()
		runtime.ReadMemStats(&before)
		open := make([]*bench.Conversation, n)
		for i, device := range s.Boxes {
			c, err := on.Open(ctx, bench.Peer{MAC: device.MAC, Address: at})
			if err != nil {
				b.Fatal(err)
			}
			if err := c.Echo(ctx); err != nil {
				b.Fatal(err)
			}
			open[i] = c
		}
		runtime.GC()
		runtime.ReadMemStats(&after)
		b.ReportMetric(float64(int64(after.HeapAlloc)-int64(before.HeapAlloc))/n/1024, "KiB/conversation")
		for _, c := range open {
			c.Close()
		}
	}
}
