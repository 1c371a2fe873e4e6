package survey

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/profile"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/segment"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/bacnet"
	"redstart/internal/wire/dcp"
	"redstart/internal/wire/dhcp"
	"redstart/internal/wire/enip"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
	"redstart/internal/wire/lldp"
	"redstart/internal/wire/mdns"
	"redstart/internal/wire/ndp"
	"redstart/internal/wire/snmp"
	"redstart/internal/wire/ssdp"
	"redstart/internal/wire/wsd"
	"redstart/profiles"
)

var (
	us   = address.MAC{2, 0x52, 0x53, 0, 0, 1}
	them = address.MAC{0x0a, 0x4f, 0x56, 0, 0, 9}
	at   = netip.MustParseAddr("10.40.8.30")
)

// udp is a datagram of theirs in a frame.
func udp(from, to string, payload []byte) []byte {
	return ip.Datagram{Source: netip.MustParseAddrPort(from), Destination: netip.MustParseAddrPort(to), TTL: 255,
		Payload: payload}.Frame(them, us)
}

// frames are answers as they come from the wire, with the facts that each tells.
func frames(t testing.TB) map[string][]byte {
	t.Helper()
	sysName, err := snmp.Message{Kind: snmp.KindResponse, ID: 1, Community: "public",
		Values: []snmp.Value{{OID: snmp.SysName, Text: "core-1"}}}.Append()
	if err != nil {
		t.Fatal(err)
	}
	return map[string][]byte{
		"arp address 10.40.8.30":            arp.Announcement(them, at),
		"icmp6 address6 fe80::9":            ndp.Echo(them, netip.MustParseAddr("fe80::9"), 1, 1),
		"lldp port port7; lldp name core-1": lldp.Unit{Port: "port7", TTL: 9, System: "core-1"}.Frame(them),
		"dhcp asks dhcp; dhcp class thing":  dhcp.Renew(them, netip.Addr{}, netip.Addr{}, "", "thing"),
		"mdns name clk; mdns model K3; mdns address 10.40.8.30; mdns service _ssh._tcp": udp("10.40.8.30:5353",
			"224.0.0.251:5353", mdns.Announce("x", "_ssh._tcp", "clk", 22, at, map[string]string{"model": "K3"})),
		"wsd model C20; wsd name gate": udp("10.40.8.30:3702", "10.40.8.1:43702",
			wsd.Match{Endpoint: "u", Scopes: []string{wsd.ScopeOf("hardware", "C20"),
				wsd.ScopeOf("name", "gate")}}.Answer("1")),
		"ssdp server R16": udp("10.40.8.30:1900", "10.40.8.1:41900",
			ssdp.Message{Server: "R16", Unique: "u", Location: "l"}.Answer()),
		"bacnet instance 7; bacnet vendor-id bacnet 9": udp("10.40.8.30:47808", "255.255.255.255:47808",
			bacnet.Message{Kind: bacnet.KindIAm, Instance: 7, Vendor: 9}.Frame(true)),
		"bacnet network 2001; bacnet network 2002": udp("10.40.8.30:47808", "255.255.255.255:47808",
			bacnet.Message{Kind: bacnet.KindIAmRouter, Networks: []uint16{2001, 2002}}.Frame(true)),
		"enip model M9; enip serial 0000002A; enip state set": udp("10.40.8.30:44818", "10.40.8.1:42222",
			enip.Identity{Address: at, Product: "M9", Serial: 42, Status: 4}.Answer()),
		"snmp name core-1": udp("10.40.8.30:161", "10.40.8.1:40161", sysName),
	}
}

func TestEveryProberReadsItsAnswer(t *testing.T) {
	for want, raw := range frames(t) {
		f, err := ethernet.Parse(raw)
		if err != nil {
			t.Fatal(err)
		}
		var told []string
		for _, s := range read(f, time.Unix(1, 0)) {
			if s.MAC != them {
				t.Errorf("%s is told of %s", want, s.MAC)
			}
			for inv, v := range s.Facts {
				told = append(told, s.Protocol+" "+inv+" "+v)
			}
		}
		for _, w := range strings.Split(want, "; ") {
			if !slices.Contains(told, w) {
				t.Errorf("%q is not among %q", w, told)
			}
		}
	}
	// A host that shares files answers the same question, and is no camera for it.
	sharing, _ := ethernet.Parse(udp("10.40.8.30:3702", "10.40.8.1:43702",
		wsd.Match{Endpoint: "u", Types: "wsdp:Device pub:Computer",
			Where: []string{"http://10.40.8.30:5357/x"}}.Answer("1")))
	if list := read(sharing, time.Unix(1, 0)); len(list) != 1 || len(list[0].Facts) != 0 {
		t.Errorf("a host that shares files: %+v", list)
	}
	// What no prober understands still says that its sender is there.
	if list := read(ethernet.Frame{Source: them, Type: 0x1234}, time.Unix(1, 0)); len(list) != 1 ||
		list[0].Protocol != "traffic" || len(list[0].Facts) != 0 {
		t.Errorf("%+v", list)
	}
	// The answer of a station behind a router is told of that station.
	behind := udp("10.40.8.30:47808", "255.255.255.255:47808",
		bacnet.Message{Kind: bacnet.KindIAm, From: bacnet.Station{Network: 2001, Address: "\x0b"},
			Instance: 7}.Frame(true))
	f, _ := ethernet.Parse(behind)
	if list := read(f, time.Unix(1, 0)); len(list) != 1 || list[0].Part != "2001/11" {
		t.Errorf("%+v", list)
	}
}

func TestStationsAreReadBackAsTheyArePrinted(t *testing.T) {
	for _, s := range []bacnet.Station{{}, {Network: 2001, Address: "\x0b"}, {Network: 7, Address: "\x01\x02\xff"}} {
		if got, ok := station(s.String()); !ok || got != s {
			t.Errorf("%q is %+v", s.String(), got)
		}
	}
	for _, bad := range []string{"x", "0/1", "1/", "1/256", "70000/1", "1/1.x"} {
		if s, ok := station(bad); ok {
			t.Errorf("%q is %+v", bad, s)
		}
	}
}

// Whatever comes from the wire, reading it neither panics nor tells of anybody
// but its sender.
func FuzzRead(f *testing.F) {
	for _, raw := range frames(f) {
		f.Add(raw)
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		frame, err := ethernet.Parse(raw)
		if err != nil {
			return
		}
		for _, s := range read(frame, time.Unix(1, 0)) {
			if s.MAC != frame.Source {
				t.Errorf("%+v", s)
			}
			(&device.Found{}).Add(s)
		}
	})
}

// The address that a survey asks from is defended, and given up where somebody
// else has it or is about to take it.
func TestSourcesAreFreeAndDefended(t *testing.T) {
	wire := &segment.Segment{}
	witness := wire.Attach(them, 64)
	b := bench.New(wire.Attach(us, 64))
	defer b.Close()
	inv := newInventory(b, profile.Set{}, Options{Subnets: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/24"),
		netip.MustParsePrefix("10.0.1.0/24"), netip.MustParsePrefix("10.0.2.0/24")},
		Avoid: func(a netip.Addr) bool { return a == netip.MustParseAddr("10.0.0.253") }})
	inv.emit = func(*device.Found) {}
	defer inv.close()
	wanted := inv.candidates()
	if len(wanted) != 6 || slices.Contains(wanted, netip.MustParseAddr("10.0.0.253")) {
		t.Fatalf("%v", wanted)
	}
	ctx := context.Background()
	frame := func(raw []byte) ethernet.Frame {
		f, err := ethernet.Parse(raw)
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	inv.hear(ctx, frame(arp.Announcement(them, wanted[2])))             // somebody has the first of the second subnet
	inv.hear(ctx, frame(arp.Probe(them, address.Broadcast, wanted[4]))) // and is about to take the first of the third
	inv.settle()
	slices.SortFunc(inv.sources, netip.Addr.Compare)
	if !slices.Equal(inv.sources, []netip.Addr{wanted[0], wanted[3], wanted[5]}) {
		t.Errorf("%v of %v", inv.sources, wanted)
	}
	inv.hear(ctx, frame(arp.Packet{Operation: arp.Request, SenderMAC: them, SenderIP: at,
		TargetIP: inv.sources[0]}.Frame(address.Broadcast)))
	raw, err := witness.Receive()
	if err != nil {
		t.Fatal(err)
	}
	if p, ok := bench.ARP(frame(raw)); !ok || p.Operation != arp.Reply || p.SenderIP != inv.sources[0] ||
		p.SenderMAC != us {
		t.Errorf("%+v", p)
	}
	// A conversation may not speak from it meanwhile.
	conv, err := b.Open(ctx, bench.Peer{MAC: them, Address: netip.MustParseAddr("10.0.0.250")})
	if err != nil {
		t.Fatal(err)
	}
	defer conv.Close()
	if conv.Source() == inv.sources[0] {
		t.Error("a conversation borrowed the survey's address")
	}
}

// A watch tells of somebody with the first frame, and of silence only after it
// has asked.
func TestAWatchHearsTheFirstFrame(t *testing.T) {
	wire := &segment.Segment{}
	talker := wire.Attach(them, 1024)
	b := bench.New(wire.Attach(us, 1024))
	defer b.Close()
	known := &device.Found{}
	known.Add(device.Sighting{MAC: address.MAC{2, 7, 7, 7, 7, 7}, Protocol: "arp", At: time.Unix(1, 0),
		Facts: map[string]string{"address": "10.40.8.77"}})
	ctx, cancel := context.WithCancel(context.Background())
	type event struct {
		kind string
		f    *device.Found
	}
	events := make(chan event, 64)
	ended := make(chan error, 1)
	go func() {
		ended <- Watch(ctx, b, profile.Set{}, Options{Known: []*device.Found{known}}, 20*time.Millisecond,
			func(kind string, f *device.Found) {
				events <- event{kind, f}
			})
	}()
	asked := false
	for done := 0; done < 2; {
		_ = talker.Send(arp.Announcement(them, at))
		select {
		case e := <-events:
			switch {
			case e.f.MAC == them && e.kind == Arrived:
				done++
			case e.f.MAC == known.MAC && e.kind == Departed:
				done++
			case e.f.MAC == them && e.kind != Arrived: // it says little, and is silent by now, or back
			default:
				t.Errorf("%s %s", e.kind, e.f.MAC)
			}
		case <-time.After(time.Minute):
			t.Fatal("nothing happened")
		}
	}
	cancel()
	if err := <-ended; !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	talker.Close()
	for {
		raw, err := talker.Receive()
		if err != nil {
			break
		}
		f, _ := ethernet.Parse(raw)
		if p, ok := bench.ARP(f); ok && p.TargetIP == netip.MustParseAddr("10.40.8.77") && p.Operation == arp.Request {
			asked = true
		}
	}
	if !asked {
		t.Error("it was given up without being asked")
	}
}

// Whoever comes is told at once, although a round of questions to a thousand
// silent devices takes many seconds.
func TestAWatchHearsWhileItAsks(t *testing.T) {
	wire := &segment.Segment{}
	talker := wire.Attach(them, 4096)
	b := bench.New(wire.Attach(us, 1024))
	defer b.Close()
	var known []*device.Found
	for i := range 1000 {
		f := &device.Found{}
		f.Add(device.Sighting{MAC: address.MAC{2, 7, 7, 7, byte(i >> 8), byte(i)}, Protocol: "arp", At: time.Unix(1, 0),
			Facts: map[string]string{"address": "10.40.8.77"}})
		known = append(known, f)
	}
	ctx, cancel := context.WithCancel(context.Background())
	arrived := make(chan address.MAC, 1024)
	ended := make(chan error, 1)
	go func() {
		ended <- Watch(ctx, b, profile.Set{}, Options{Known: known}, 10*time.Millisecond,
			func(kind string, f *device.Found) {
				if kind == Arrived {
					arrived <- f.MAC
				}
			})
	}()
	question := func() bool {
		raw, err := talker.Receive()
		if err != nil {
			return false
		}
		f, _ := ethernet.Parse(raw)
		_, is := bench.ARP(f)
		return is
	}
	for !question() {
	}
	if err := talker.Send(arp.Announcement(them, at)); err != nil {
		t.Fatal(err)
	}
	if mac := <-arrived; mac != them {
		t.Errorf("%s arrived", mac)
	}
	cancel()
	if err := <-ended; !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	talker.Close()
	asked := 1
	for question() {
		asked++
	}
	if asked >= len(known) {
		t.Errorf("%d questions were asked before the newcomer was told", asked)
	}
}

// Boxes that came and say nothing unasked are found by the watch itself: one
// without an address, and one at its factory address.
func TestAWatchAsksForNewcomers(t *testing.T) {
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	wire := &segment.Segment{}
	b := bench.New(wire.Attach(us, 1024))
	defer b.Close()
	station, camera, old := address.MAC{0x06, 0x46, 0x4e, 0, 0, 9}, address.MAC{0x0a, 0x4f, 0x56, 0, 0,
		9}, address.MAC{0x0a, 0x4f, 0x56, 0, 0, 8}
	port := wire.Attach(station, 1024)
	defer port.Close()
	asked := 0 // they come after some rounds, and what answers at first was there before
	go func() {
		for {
			raw, err := port.Receive()
			if err != nil {
				return
			}
			f, _ := ethernet.Parse(raw)
			if f.Type == ethernet.TypePROFINET {
				if asked++; asked == 1 {
					_ = port.Send(arp.Packet{Operation: arp.Reply, SenderMAC: old, SenderIP: at,
						TargetMAC: us}.Frame(us))
				}
			}
			if asked < 10 {
				continue
			}
			if p, err := dcp.Parse(f.Payload); f.Type == ethernet.TypePROFINET && err == nil &&
				p.ServiceID == dcp.Identify {
				answer := dcp.PDU{FrameID: dcp.FrameIdentifyResponse, ServiceID: dcp.Identify,
					ServiceType: dcp.TypeSuccess, Xid: p.Xid, Blocks: []dcp.Block{dcp.VendorBlock("FS8")}}
				_ = port.Send(answer.Frame(station, us))
			}
			if p, ok := bench.ARP(f); ok && p.TargetIP == netip.MustParseAddr("192.168.77.20") {
				_ = port.Send(p.Answer(camera))
			}
		}
	}()
	ctx, cancel := context.WithCancel(context.Background())
	arrived, there := map[address.MAC]string{}, map[address.MAC]bool{}
	err = Watch(ctx, b, set, Options{}, 20*time.Millisecond, func(kind string, f *device.Found) {
		there[f.MAC] = true
		if kind == Arrived {
			arrived[f.MAC] = f.Profile
		}
		if len(arrived) == 2 {
			cancel()
		}
	})
	cancel()
	if !errors.Is(err, context.Canceled) || arrived[station] != "fennmark-fs8" || arrived[camera] != "ovalis-c20" ||
		!there[old] {
		t.Errorf("%v, %v", arrived, err)
	}
}

// A box that was switched off and on is told of, one that lost an answer or that
// defends its address against another is not.
func TestARestartIsToldFromALostAnswer(t *testing.T) {
	frame := func(raw []byte) ethernet.Frame {
		f, err := ethernet.Parse(raw)
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	plain := frame(arp.Packet{Operation: arp.Reply, SenderMAC: them, SenderIP: at, TargetMAC: us}.Frame(us))
	starting := map[string]ethernet.Frame{
		"an announcement": frame(arp.Announcement(them, at)), "a probe": frame(arp.Probe(them, address.Broadcast, at)),
		"a DISCOVER": frame(dhcp.Ask(them, 7)), "a probe for an IPv6 address": frame(ndp.Probe(them,
			netip.MustParseAddr("fe80::7"))),
	}
	for name, f := range starting {
		if !starts(f) || restarted(0, f) || !restarted(1, f) {
			t.Errorf("%s is not taken for a start", name)
		}
	}
	if starts(plain) || restarted(0, plain) || restarted(1, plain) || !restarted(2, plain) {
		t.Error("an answer is taken for a start")
	}
	if answer := frame(ndp.Echo(them, netip.MustParseAddr("fe80::7"), 1, 1)); starts(answer) {
		t.Error("an echo is taken for a start")
	}
}

// made gives the MAC of the nth sender that somebody made up.
func made(n int) address.MAC {
	return address.MAC{2, 0, byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)}
}

// noise is a frame of a sender that tells nothing.
func noise(from, to address.MAC) ethernet.Frame {
	return ethernet.Frame{Destination: to, Source: from, Type: 0x88b5}
}

// What a flood left in the records makes room for whoever is here now: the next survey is
// neither blind nor says that it is flooded. Who is matched with an entry stays.
func TestAFloodThatIsOverBlindsNobody(t *testing.T) {
	wire := &segment.Segment{}
	b := bench.New(wire.Attach(us, 64))
	defer b.Close()
	o := Options{Keep: map[address.MAC]bool{made(0): true}}
	for i := range MostFound {
		f := &device.Found{}
		f.Add(device.Sighting{MAC: made(i), Protocol: "arp", At: time.Unix(int64(i), 0), Facts: map[string]string{"address": "10.40.8.77"}})
		o.Known = append(o.Known, f)
	}
	inv := newInventory(b, profile.Set{}, o)
	inv.emit = func(*device.Found) {}
	defer inv.close()
	for i := range 100 {
		inv.hear(t.Context(), noise(made(MostFound+i), address.Broadcast))
	}
	if len(inv.found) != MostFound || len(inv.seen) != 100 || inv.flooded != 0 {
		t.Errorf("%d kept, %d heard, %d without room", len(inv.found), len(inv.seen), inv.flooded)
	}
	if inv.found[made(0)] == nil || inv.found[made(1)] != nil || inv.found[made(101)] == nil {
		t.Error("not those that were heard the longest ago made room")
	}
}

// A standing watch outlives a flood during which somebody answers it.
func TestAWatchOutlivesAFlood(t *testing.T) {
	wire := &segment.Segment{}
	b := bench.New(wire.Attach(us, 64))
	defer b.Close()
	told := map[address.MAC]string{}
	emit := func(kind string, f *device.Found) { told[f.MAC] = kind }
	w := newWatch(b, profile.Set{}, Options{}, emit)
	defer w.close()
	for i := range MostFound {
		w.hear(t.Context(), noise(made(i), address.Broadcast))
	}
	newcomer := address.MAC{0x0a, 0x4f, 0x56, 1, 2, 3}
	w.hear(t.Context(), noise(newcomer, us))
	w.part(time.Hour, emit)
	for _, q := range w.questions() {
		w.count(q)
	}
	if told[newcomer] == "" || !w.here[newcomer] || len(w.here) != MostFound || w.here[made(0)] {
		t.Errorf("the newcomer is %q; %d are here", told[newcomer], len(w.here))
	}
	// Whoever went makes room again.
	w.seen[made(1)], w.missed[made(1)] = time.Unix(1, 0), silentRounds
	w.part(time.Minute, emit)
	other := address.MAC{0x0a, 0x4f, 0x56, 1, 2, 4}
	w.hear(t.Context(), noise(other, address.Broadcast))
	if told[made(1)] != Departed || told[other] == "" || w.found[made(1)] != nil {
		t.Errorf("who went: %q; who came: %q", told[made(1)], told[other])
	}
}

// A flood of senders that do not exist fills neither the memory nor the records,
// and senders that nobody can be are not listened to.
func TestAFloodOfSendersIsBounded(t *testing.T) {
	wire := &segment.Segment{}
	port := wire.Attach(them, 64)
	defer port.Close()
	b := bench.New(wire.Attach(us, 64))
	defer b.Close()
	inv := newInventory(b, profile.Set{}, Options{})
	told := 0
	inv.emit = func(*device.Found) { told++ }
	defer inv.close()
	for i := range MostFound + 100 {
		inv.hear(context.Background(), noise(made(i), address.Broadcast))
	}
	if told != MostFound || len(inv.found) != MostFound {
		t.Errorf("%d told, %d kept", told, len(inv.found))
	}
	// A real newcomer that answers us finds room; one that only makes noise does not, and the
	// noise is counted.
	newcomer := address.MAC{0x0a, 0x4f, 0x56, 1, 2, 3}
	inv.hear(t.Context(), noise(newcomer, address.Broadcast))
	if inv.found[newcomer] != nil {
		t.Error("noise finds room")
	}
	inv.hear(t.Context(), noise(newcomer, us))
	if inv.found[newcomer] == nil || len(inv.found) != MostFound || inv.flooded != 102 {
		t.Errorf("the newcomer is kept: %v; %d are, and %d were too many", inv.found[newcomer] != nil, len(inv.found), inv.flooded)
	}
	for i := range 3 * mostRefused {
		inv.refuse(address.FromNumber(uint32(i)))
	}
	if len(inv.refused) > mostRefused {
		t.Errorf("%d addresses are remembered as somebody's", len(inv.refused))
	}
	listener := b.Listen(8, inv.wants)
	defer listener.Close()
	for _, mac := range []address.MAC{address.Broadcast, {}, {1, 0x80, 0xc2, 0, 0, 0}, them} {
		if err := port.Send(ethernet.Frame{Destination: address.Broadcast, Source: mac,
			Type: 0x88b5}.Append(nil)); err != nil {
			t.Fatal(err)
		}
	}
	if f := <-listener.Frames(); f.Source != them {
		t.Errorf("%s is listened to", f.Source)
	}
}

// A box that never stops telling something new is told of so many times a second, and what it
// said last is told in the end.
func TestABoxThatFlipsIsToldOfNowAndThen(t *testing.T) {
	t.Parallel()
	wire := &segment.Segment{}
	b := bench.New(wire.Attach(us, 64))
	defer b.Close()
	inv := newInventory(b, profile.Set{}, Options{})
	defer inv.close()
	at, times, last := time.Now(), 0, ""
	inv.now = func() time.Time { return at }
	inv.emit = func(f *device.Found) { times, last = times+1, f.ValuesOf("7", fact.Name)[0] }
	const frames = 8000
	for i := range frames {
		at = at.Add(time.Second / 800)
		inv.merge(t.Context(), device.Sighting{MAC: them, Part: "7", Protocol: "bacnet", At: at,
			Facts: map[string]string{fact.Name: strconv.Itoa(i)}})
	}
	if most := (frames/800 + 1) * (mostTold + 1); times > most {
		t.Errorf("told of %d times in ten seconds", times)
	}
	if inv.catchUp(true); last != strconv.Itoa(frames-1) {
		t.Errorf("the last that was told is %q", last)
	}
}
