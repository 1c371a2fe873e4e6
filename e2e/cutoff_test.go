package e2e

import (
	"context"
	"log/slog"
	"math/rand/v2"
	"net/netip"
	"sync"
	"testing"

	"redstart/internal/api"
	"redstart/internal/commission"
	"redstart/internal/core/device"
	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/state"
	"redstart/internal/lan/bench"
	"redstart/internal/sim/skerry"
	"redstart/internal/store"
	"redstart/internal/survey"
	"redstart/internal/vault"
	"redstart/profiles"
)

// A run is cut off at random moves, over and over, until it is done. After
// every cut each device is where the journal can find it and a stored or the
// factory credential opens it; in the end none is lost and each has exactly
// the values that were frozen when the run began.
func TestARunCutOffAnywhereLosesNothing(t *testing.T) {
	t.Parallel()
	site := skerry.Start(skerry.Options{Devices: 10, Seed: 21, Pace: 0.05})
	t.Cleanup(site.Close)
	dir := t.TempDir()
	random := rand.New(rand.NewPCG(21, 21))
	ctx := patience(t)
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	b := bench.New(site.Attach())
	t.Cleanup(func() { b.Close() })
	all, err := store.Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { all.Close() })

	planned := plan.Plan{Site: skerry.Data(), Profiles: set}
	read, err := planfile.Read(context.Background(), site.Plan(), planned, nil, planfile.Options{})
	if err != nil {
		t.Fatal(err)
	}
	planned.Entries = read.Entries
	records, err := all.AddSite(ctx, skerry.Data(), "test")
	if err != nil {
		t.Fatal(err)
	}
	var edits []store.Edit
	for i := range read.Entries {
		edits = append(edits, store.Edit{After: &read.Entries[i]})
	}
	if _, err := records.Revise(ctx, "test", "planned", store.Changes{Edits: edits}); err != nil {
		t.Fatal(err)
	}
	found := map[string]int{}
	if _, err := survey.Run(ctx, b, set, survey.Options{}, func(f *device.Found, _ survey.Progress) {
		found[f.Profile]++
	}); err != nil {
		t.Fatal(err)
	}
	// Which box is which does not matter here: the n-th of its model.
	next := map[string]int{}
	names := map[string]string{"fennmark-fs8": "FS8", "ovalis-c20": "C20", "brindlecap-b4": "B4"}
	for _, e := range planned.Entries {
		for skip := next[e.Profile]; ; skip++ {
			if site.Boxes[skip].Model.Name == names[e.Profile] {
				if err := records.SetMatches(ctx, []store.Match{{Tag: e.Tag, MAC: site.Boxes[skip].MAC, By: "hand"}},
					"test"); err != nil {
					t.Fatal(err)
				}
				next[e.Profile] = skip + 1
				break
			}
		}
	}
	matched, err := records.Entries(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for i := range matched {
		matched[i].Serial = "" // the serials belong to other boxes than the plan says
	}

	v, err := vault.Open(ctx, dir, all)
	if err != nil {
		t.Fatal(err)
	}
	avoid := planned.Needs()
	runner := func(notify func(store.RunDevice)) *commission.Runner {
		return &commission.Runner{Bench: b, Records: records, Journal: all, Boxes: all, Secrets: v.At(records), Logins: v, Plan: planned,
			Log: slog.New(slog.DiscardHandler), Notify: notify}
	}
	rehearsal := commission.Rehearse(planned, matched, commission.Known{})
	if len(rehearsal.Devices) != 10 {
		t.Fatalf("%d devices rehearsed: %+v", len(rehearsal.Devices), rehearsal.Left)
	}
	run, err := runner(nil).Prepare(ctx, "test", rehearsal, matched, false, nil)
	if err != nil {
		t.Fatal(err)
	}
	cuts := 0
	for ; cuts < 60; cuts++ {
		if done := carryUntilCut(ctx, t, runner, run, avoid, 1+random.IntN(20+8*cuts)); done {
			break
		}
		if err := all.InterruptRuns(ctx); err != nil {
			t.Fatal(err)
		}
		if run, err = all.Run(ctx, run.ID); err != nil {
			t.Fatal(err)
		}
		for _, box := range site.Boxes {
			password := box.Running().Password
			if password == "" || password == box.Factory.Password {
				continue
			}
			logins, err := v.Logins(ctx, box.MAC)
			if err != nil || len(logins) == 0 || logins[0].Password != password {
				t.Fatalf("cut %d: %s has a password that is not stored (%v)", cuts, box.MAC, err)
			}
		}
	}
	t.Logf("done after %d cuts", cuts)
	if cuts < 3 || cuts == 60 {
		t.Errorf("%d cuts: too few to mean anything, or the run never ended", cuts)
	}
	final, err := records.Entries(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range final {
		if e.State != state.Configured {
			t.Errorf("%s is %s: %s", e.Tag, e.State, e.Reason)
		}
		for _, box := range site.Boxes {
			if box.MAC == e.Device {
				expectPlanned(t, box, api.EntryView{Entry: api.Entry{Entry: e.Entry, State: e.State, Device: e.Device}})
			}
		}
	}
}

// carryUntilCut carries a run on and cuts it off after so many moves; it
// reports whether the run was done before that.
func carryUntilCut(ctx context.Context, t *testing.T, runner func(func(store.RunDevice)) *commission.Runner,
	run store.Run, avoid func(netip.Addr) bool, moves int) bool {
	t.Helper()
	ctx, cut := context.WithCancel(ctx)
	defer cut()
	var mu sync.Mutex
	r := runner(func(d store.RunDevice) {
		mu.Lock()
		defer mu.Unlock()
		if moves--; moves == 0 {
			cut()
		}
		if d.State == state.Failed {
			t.Errorf("%s failed: %s", d.Tag, d.Error)
		}
	})
	err := r.Carry(ctx, run, avoid, make(chan struct{}))
	if err != nil && ctx.Err() == nil {
		t.Fatal(err)
	}
	return err == nil
}
