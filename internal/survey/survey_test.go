package survey_test

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/profile"
	"redstart/internal/lan"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/faults"
	"redstart/internal/lan/segment"
	"redstart/internal/sim/skerry"
	"redstart/internal/survey"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/ethernet"
	"redstart/profiles"
)

func load(t testing.TB) profile.Set {
	t.Helper()
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	return set
}

// up starts a site and waits until every device has powered up.
func up(t testing.TB, o skerry.Options) (*skerry.Site, *bench.Bench) {
	t.Helper()
	site := skerry.Start(o)
	t.Cleanup(site.Close)
	b := bench.New(site.Attach())
	t.Cleanup(func() { b.Close() })
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for _, device := range site.All() {
		for device.Starts() == 0 {
			<-tick.C
		}
	}
	return site, b
}

func TestASurveyFindsEveryBoxOnALossySegment(t *testing.T) {
	site, b := up(t, skerry.Options{Devices: 200, Seed: 3, Pace: 0.05, Faults: faults.Faults{Loss: 0.02}})
	found := map[address.MAC]*device.Found{}
	var asked atomic.Int32
	o := survey.Options{Ask: func(_ context.Context, f *device.Found) ([]device.Sighting, error) {
		asked.Add(1)
		if f.MAC == site.Boxes[199].MAC {
			return nil, errors.New("it is shy")
		}
		return []device.Sighting{{Protocol: "web", At: time.Now(),
			Facts: map[string]string{"serial": "S-" + f.MAC.String()}}}, nil
	}}
	last := 0
	p, err := survey.Run(context.Background(), b, load(t), o, func(f *device.Found, p survey.Progress) {
		found[f.MAC] = f
		if p.Found < last {
			t.Errorf("the count of found devices fell from %d to %d", last, p.Found)
		}
		last = p.Found
	})
	if err != nil {
		t.Fatal(err)
	}
	if p.Found != 200 || p.Probes != p.Planned {
		t.Errorf("%d devices, %d of %d probes", p.Found, p.Probes, p.Planned)
	}
	for i, device := range site.Boxes {
		f := found[device.MAC]
		if f == nil {
			t.Errorf("%s was not found", device.MAC)
			continue
		}
		want := map[string]string{"FS8": "fennmark-fs8", "C20": "ovalis-c20", "B4": "brindlecap-b4"}[device.Model.Name]
		if f.Profile != want {
			t.Errorf("%s is taken for a %q, want %s", device.MAC, f.Profile, want)
		}
		if hasSerial := f.Value("serial") != ""; hasSerial != (device.Model.Name != "FS8" && i != 199) {
			t.Errorf("%s, a %s: serial %q", device.MAC, device.Model.Name, f.Value("serial"))
		}
	}
	if n := asked.Load(); n != 141 {
		t.Errorf("%d devices were asked, want 139 once and the shy one twice", n)
	}
	if p.Believed < 200 || p.Believed > 203 || len(p.Passes) < 2 {
		t.Errorf("believes in %d devices after %v", p.Believed, p.Passes)
	}
}

// A survey only asks: it must contain no frame that could write to a device,
// and must keep to its pace.
func TestASurveyIsQuietAndHarmless(t *testing.T) {
	site := skerry.Start(skerry.Options{Devices: 1})
	t.Cleanup(site.Close)
	b := bench.New(site.Attach())
	t.Cleanup(func() { b.Close() })
	witness := site.Segment.Attach(address.MAC{2, 0xee, 0, 0, 0, 1}, 1<<14)
	const pace = 400
	sweep := []netip.Addr{}
	for n := range 250 {
		sweep = append(sweep, netip.AddrFrom4([4]byte{10, 40, 8, byte(n)}))
	}
	began := time.Now()
	p, err := survey.Run(context.Background(), b, load(t), survey.Options{Sweep: sweep, Pace: pace, LookOnly: true},
		func(*device.Found, survey.Progress) {})
	if err != nil {
		t.Fatal(err)
	}
	// The pace is an upper bound; how long it really took depends on the machine.
	if least := time.Duration(p.Probes-pace/100) * time.Second / pace; time.Since(began) < least {
		t.Errorf("%d probes took only %s; at %d a second they take %s", p.Probes, time.Since(began), pace, least)
	}
	witness.Close()
	asked, probed := map[netip.Addr]int{}, map[netip.Addr]int{}
	kinds := map[uint16]int{}
	for {
		raw, err := witness.Receive()
		if err != nil {
			break
		}
		f, err := ethernet.Parse(raw)
		if err != nil || f.Source != b.MAC() {
			continue
		}
		if !survey.Question(raw) {
			t.Errorf("a frame that does not only ask: %x", raw)
		}
		kinds[f.Type]++
		if q, err := arp.Parse(f.Payload); f.Type == ethernet.TypeARP && err == nil {
			asked[q.TargetIP]++
			if q.IsProbe() {
				probed[q.TargetIP]++
			}
		}
	}
	for _, p := range load(t) {
		sweep = append(append(sweep, p.Factory.Address.List()...), p.Factory.Service.List()...)
	}
	for _, a := range sweep {
		if asked[a] < 2 {
			t.Errorf("%s was asked for %d times in two passes", a, asked[a])
		}
		if probed[a] > 0 {
			t.Errorf("%s, which somebody may have, was probed for", a)
		}
	}
	// The rest are addresses that it might ask from: each asked for twice, and probed for once.
	ours := 0
	for a, n := range asked {
		if !slices.Contains(sweep, a) {
			if a.IsLinkLocalUnicast() {
				continue
			}
			if ours++; n != 3 || probed[a] != 1 {
				t.Errorf("%s, which it might ask from, was asked for %d times, %d of them with a probe", a, n, probed[a])
			}
		}
	}
	if ours < 2 || ours > 60 || kinds[ethernet.TypePROFINET] != 2 || kinds[ethernet.TypeIPv6] != 4 ||
		kinds[ethernet.TypeIPv4] < 2*6*ours/2 {
		t.Errorf("%d addresses to ask from, frames by type: %v", ours, kinds)
	}
}

func TestASurveyCanBeStoppedAndKeepsWhatItKnows(t *testing.T) {
	site, b := up(t, skerry.Options{Devices: 20, Pace: 0.05})
	known := &device.Found{}
	known.Add(device.Sighting{MAC: site.Boxes[7].MAC, Protocol: "arp", At: time.Unix(1, 0),
		Facts: map[string]string{"address": "10.0.0.9"}})
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	count := 0
	p, err := survey.Run(ctx, b, load(t), survey.Options{Pace: 10, Known: []*device.Found{known}},
		func(*device.Found, survey.Progress) {
			if count++; count == 6 {
				stop()
			}
		})
	if !errors.Is(err, context.Canceled) || p.Found < 6 || p.Probes >= p.Planned {
		t.Errorf("%+v, %v", p, err)
	}
	p, err = survey.Run(context.Background(), b, load(t), survey.Options{Known: []*device.Found{known}},
		func(*device.Found, survey.Progress) {})
	if err != nil || p.Found != 20 {
		t.Fatalf("%+v, %v", p, err)
	}
	if got := known.Addresses(); len(got) != 2 || got[0].String() != "192.168.77.20" || got[1].String() != "10.0.0.9" {
		t.Errorf("a known device has %v", got)
	}
	b.Close()
	if _, err := survey.Run(context.Background(), b, load(t), survey.Options{},
		func(*device.Found, survey.Progress) {}); err == nil {
		t.Error("a survey over a closed port ended well")
	}
}

// BenchmarkSurvey finds 1,000 devices where 2 % of the frames are lost, and tells
// how many were found within two passes, when the first came, how long after the
// last one the survey ended, and what it took. Simulated devices share processor
// and memory; the same without the survey is subtracted from neither.
func BenchmarkSurvey(b *testing.B) {
	_, on := up(b, skerry.Options{Devices: 1000, Seed: 3, Pace: 0.05, Faults: faults.Faults{Loss: 0.02}})
	set := load(b)
	for range b.N {
		before := used(b)
		began := time.Now()
		var first, last time.Duration
		inTwo := 0
		p, err := survey.Run(context.Background(), on, set, survey.Options{}, func(_ *device.Found, p survey.Progress) {
			if last = time.Since(began); first == 0 {
				first = last
			}
			if len(p.Passes) <= 2 {
				inTwo = p.Found
			}
		})
		if err != nil || p.Found != 1000 {
			b.Fatalf("%d of 1000 found, %v", p.Found, err)
		}
		after := used(b)
		b.ReportMetric(float64(inTwo), "found-in-two-passes")
		b.ReportMetric(float64(first.Milliseconds()), "ms-to-first")
		b.ReportMetric(float64((time.Since(began) - last).Milliseconds()), "ms-from-last-to-end")
		b.ReportMetric((after.seconds-before.seconds)*1000, "ms-of-processor")
		b.ReportMetric((after.mebibytes - before.mebibytes), "MiB-allocated")
	}
}

// BenchmarkPace sweeps 5,000 addresses that nobody has, and tells how the pace
// that was held compares with the one that was asked for.
func BenchmarkPace(b *testing.B) {
	wire := &segment.Segment{}
	clocked := &clocked{Port: wire.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 1<<14)}
	on := bench.New(clocked)
	defer on.Close()
	var sweep []netip.Addr
	for n := range uint32(5000) {
		sweep = append(sweep, address.FromNumber(address.Number(netip.MustParseAddr("10.60.0.1"))+n))
	}
	for _, pace := range []int{survey.Normal, 250} {
		clocked.at = nil
		before := used(b)
		if _, err := survey.Run(context.Background(), on, profile.Set{},
			survey.Options{Sweep: sweep[:5*pace], Pace: pace}, func(*device.Found, survey.Progress) {}); err != nil {
			b.Fatal(err)
		}
		// The first pass alone: between passes the survey waits on purpose.
		list := clocked.at[:5*pace]
		held := float64(len(list)-1) / list[len(list)-1].Sub(list[0]).Seconds()
		b.ReportMetric(held/float64(pace), fmt.Sprintf("of-%d-a-second", pace))
		b.ReportMetric((used(b).seconds-before.seconds)*1e6/float64(len(clocked.at)),
			fmt.Sprintf("µs-of-processor-per-probe-at-%d", pace))
	}
}

// clocked notes when each frame is sent.
type clocked struct {
	lan.Port
	at []time.Time
}

func (c *clocked) Send(frame []byte) error {
	c.at = append(c.at, time.Now())
	return c.Port.Send(frame)
}

// use is what the process has used.
type use struct{ seconds, mebibytes float64 }

func used(b *testing.B) use {
	b.Helper()
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		b.Fatal(err)
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return use{float64(u.Utime.Nano()+u.Stime.Nano()) / 1e9, float64(m.TotalAlloc) / (1 << 20)}
}
