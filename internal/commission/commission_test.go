package commission_test

import (
	"context"
	"errors"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"redstart/internal/api"
	"redstart/internal/commission"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/lan"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/line"
	"redstart/internal/lan/segment"
	"redstart/internal/store"
	"redstart/internal/task/tasktest"
	"redstart/profiles"
)

func planned(t *testing.T, entries ...plan.Entry) plan.Plan {
	t.Helper()
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	return plan.Plan{Site: plan.Site{Key: "s", Name: "S", Subnets: []plan.Subnet{{Name: "main",
		Prefix: netip.MustParsePrefix("10.40.8.0/22"), Gateway: netip.MustParseAddr("10.40.8.1")}}}, Profiles: set,
		Entries: entries}
}

func camera(tag string, host byte) plan.Entry {
	return plan.Entry{Tag: tag, Kind: "camera", Profile: "ovalis-c20", Name: strings.ToLower(tag),
		Address: netip.AddrFrom4([4]byte{10, 40, 9, host})}
}

func box(n byte) address.MAC { return address.MAC{0x0a, 0x4f, 0x56, 0, 0, n} }

func matched(e plan.Entry, mac address.MAC) store.Entry {
	return store.Entry{Entry: e, State: state.Matched, Device: mac}
}

func whys(r api.Rehearsal) string {
	var list []string
	for _, l := range r.Left {
		list = append(list, l.Tag+": "+l.Why)
	}
	return strings.Join(list, "\n")
}

func TestARehearsalSaysWhoIsLeftOut(t *testing.T) {
	a, b, c := camera("A", 10), camera("B", 11), camera("C", 12)
	wired := camera("D", 13)
	wired.NotWired = true
	clock := plan.Entry{Tag: "E", Kind: "clock", Profile: "clepsydra-k3", Name: "E",
		Address: netip.MustParseAddr("10.40.9.14")}
	p := planned(t, a, b, c, wired, clock)
	entries := []store.Entry{matched(a, box(1)), matched(b, box(2)), {Entry: c, State: state.Planned},
		matched(wired, box(4)), matched(clock, box(5))}
	r := commission.Rehearse(p, entries, commission.Known{Opens: map[address.MAC]procedure.Login{box(1): {Known: true,
		User: "operator", Stamp: "each 0"}}})
	if len(r.Devices) != 2 || r.Devices[0].Tag != "A" || !strings.Contains(r.Devices[0].Steps[2].Text,
		"keep its password") || !strings.Contains(r.Devices[1].Steps[2].Text, "set a new password") {
		t.Errorf("%+v", r.Devices)
	}
	for _, want := range []string{"C: no device is matched", "D: it is not wired yet", "E: the plan is wrong"} {
		if !strings.Contains(whys(r), want) && !(strings.HasPrefix(want, "E") &&
			strings.Contains(whys(r), "E: its profile does not say")) {
			t.Errorf("%q is not in\n%s", want, whys(r))
		}
	}
	// A holder that is to move away itself, and a circle of two.
	known := commission.Known{Holds: map[address.MAC]netip.Addr{box(1): b.Address,
		box(2): netip.MustParseAddr("10.40.9.50")}}
	if r = commission.Rehearse(p, entries[:2], known); len(r.Devices) != 1 ||
		!strings.Contains(whys(r), "B: its address 10.40.9.11 is still that of A; commission A first") {
		t.Errorf("%d devices\n%s", len(r.Devices), whys(r))
	}
	known.Holds[box(2)] = a.Address
	if r = commission.Rehearse(p, entries[:2], known); len(r.Devices) != 0 ||
		!strings.Contains(whys(r), "A: addresses go around in a circle: A wants that of B wants that of A") {
		t.Errorf("%d devices\n%s", len(r.Devices), whys(r))
	}
}

// What comes after another waits for it; what comes after one that is neither set nor in
// the run is left out, and so is what comes after that.
func TestARehearsalFollowsWhatComesAfterWhat(t *testing.T) {
	a, b, c, d := camera("A", 10), camera("B", 11), camera("C", 12), camera("D", 13)
	b.After, c.After, d.After = []string{"A"}, []string{"B", "X"}, []string{"C"}
	x := camera("X", 14)
	p := planned(t, a, b, c, d, x)
	entries := []store.Entry{matched(a, box(1)), matched(b, box(2)), matched(c, box(3)), matched(d, box(4))}
	r := commission.Rehearse(p, entries, commission.Known{})
	if len(r.Devices) != 2 || len(r.Devices[0].After) != 0 || !slices.Equal(r.Devices[1].After, []string{"A"}) ||
		r.Seconds != r.Devices[0].Seconds+r.Devices[1].Seconds {
		t.Errorf("%+v", r)
	}
	for _, want := range []string{"C: it comes after X, which is not set yet",
		"D: it comes after C, which is not set yet"} {
		if !strings.Contains(whys(r), want) {
			t.Errorf("%q is not in\n%s", want, whys(r))
		}
	}
	r = commission.Rehearse(p, entries, commission.Known{Set: map[string]bool{"X": true}})
	if len(r.Devices) != 4 || r.Seconds != 4*r.Devices[0].Seconds {
		t.Errorf("%d devices in %.1f s", len(r.Devices), r.Seconds)
	}
}

func TestHowLongIsLeft(t *testing.T) {
	p := planned(t)
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	d := func(to string, began time.Duration) store.RunDevice {
		return store.RunDevice{Profile: "ovalis-c20", State: to, StartedAt: stamp.Time{Time: now.Add(-began)},
			EndedAt: stamp.Time{Time: now}}
	}
	if left := commission.Left(store.Run{Devices: []store.RunDevice{d(state.Done, 5*time.Second),
		d(state.Running, 2*time.Second)}}, p, now); left != 3*time.Second {
		t.Errorf("one took 5 s, another is at it for 2 s: %s left", left)
	}
	if left := commission.Left(store.Run{Devices: []store.RunDevice{d(state.Done, time.Second),
		d(state.Failed, time.Second)}}, p, now); left != 0 {
		t.Errorf("all are done: %s left", left)
	}
}

// stage is a run over one camera on a segment where nobody is.
func stage(t *testing.T) (*commission.Runner, store.Run, *tasktest.Memory) {
	t.Helper()
	ctx := context.Background()
	p := planned(t, camera("A", 10))
	m := tasktest.New(p.Entries, map[string]address.MAC{"A": box(1)})
	e, err := m.Entry(ctx, "A")
	if err == nil {
		err = m.Sight(ctx, nil, device.Sighting{MAC: box(1), Protocol: "arp", At: time.Now(),
			Facts: map[string]string{fact.Address: "192.168.77.20"}})
	}
	if err != nil {
		t.Fatal(err)
	}
	var s segment.Segment
	r := runner(m, bench.New(s.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 64)), p)
	t.Cleanup(func() { r.Bench.Close() })
	entries := []store.Entry{e}
	run, err := r.Prepare(ctx, "x", commission.Rehearse(p, entries, commission.Known{}), entries, false, nil)
	if err != nil {
		t.Fatal(err)
	}
	return r, run, m
}

// runner carries out runs with records that are no more than a memory.
func runner(m *tasktest.Memory, b *bench.Bench, p plan.Plan) *commission.Runner {
	return &commission.Runner{Bench: b, Records: m, Journal: m, Boxes: m, Secrets: m, Logins: m, Plan: p,
		Log: slog.New(slog.DiscardHandler), Line: line.Open, Notify: func(store.RunDevice) {}}
}

// A segment that goes, and records that are closed, cut the run off; no device has
// failed for it.
func TestWhatIsOursCutsTheRunOff(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	for name, c := range map[string]struct {
		take func(*commission.Runner, *tasktest.Memory)
		want error
	}{
		"the segment": {func(r *commission.Runner, _ *tasktest.Memory) { r.Bench.Close() }, lan.ErrClosed},
		"the journal": {func(_ *commission.Runner, m *tasktest.Memory) {
			m.Fails = func(what string) error {
				if what == "AddLine" {
					return store.ErrUnwritable
				}
				return nil
			}
		}, store.ErrUnwritable},
	} {
		r, run, records := stage(t)
		c.take(r, records)
		err := r.Carry(ctx, run, nil, make(chan struct{}))
		if !errors.Is(err, c.want) {
			t.Errorf("%s: %v", name, err)
		}
		if run = records.Run(run.ID); run.Devices[0].State == state.Failed {
			t.Errorf("%s: the device is %s", name, run.Devices[0].State)
		}
		if e, err := r.Records.Entry(ctx, "A"); err != nil || e.State == state.Attention {
			t.Errorf("%s: the entry is %s: %s, %v", name, e.State, e.Reason, err)
		}
	}
}

// A defect in one device's work is that device's failure, and ends nothing else.
func TestADefectIsOneDevicesFailure(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	r, run, records := stage(t)
	healthy := r.Bench
	r.Bench = nil // whatever is done with it panics
	err := r.Carry(ctx, run, nil, make(chan struct{}))
	r.Bench = healthy
	if err != nil {
		t.Fatal(err)
	}
	run = records.Run(run.ID)
	if run.State != state.Done || run.Devices[0].State != state.Failed ||
		!strings.Contains(run.Devices[0].Error, "a defect of ours") {
		t.Errorf("%s, %+v", run.State, run.Devices)
	}
}

func TestNothingToDoSaysWhy(t *testing.T) {
	t.Parallel()
	r, _, _ := stage(t)
	_, err := r.Prepare(context.Background(), "x", api.Rehearsal{Left: []api.LeftOut{{Tag: "A",
		Why: "it is not wired yet"}, {Tag: "B", Why: "it is not wired yet"}, {Tag: "C", Why: "no device is matched with it"}}}, nil, false, nil)
	cells := problem.Cells(err)
	if problem.KindOf(err) != problem.Conflict || len(cells) != 2 || cells[0].String() != "A, B: it is not wired yet" ||
		cells[1].String() != "C: no device is matched with it" {
		t.Errorf("%v, %v", err, cells)
	}
}
