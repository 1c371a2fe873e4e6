package commission_test

import (
	"context"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"redstart/internal/commission"
	"redstart/internal/commission/commissiontest"
	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
	"redstart/internal/core/state"
	"redstart/internal/sim/model/all"
	"redstart/internal/sim/skerry"
	"redstart/internal/store"
	"redstart/internal/task"
	"redstart/internal/task/tasktest"
	"redstart/internal/vault"
)

// quick has boxes restart ten times as fast as they do.
const quick = 0.1

// A run takes the whole terminal from the factory to what is planned: each after those that it
// comes after, whoever waits for a hand lets the others go on, and every act is in the journal
// before it is done.
func TestARunSetsTheTerminal(t *testing.T) {
	t.Parallel()
	x := tasktest.Find(t, skerry.Options{Devices: len(all.Stock), Every: true, Seed: 27, Pace: quick})
	r, run := commissiontest.Prepare(t, x, false, x.Tags()...)
	var mu sync.Mutex
	freed := 0
	r.Free = func(address.MAC) {
		mu.Lock()
		freed++
		mu.Unlock()
	}
	run = commissiontest.Carry(t, x, r, run)
	began, ended := map[string]time.Time{}, map[string]time.Time{}
	for _, d := range run.Devices {
		if d.State != state.Done {
			t.Errorf("%s, %s: %s: %s", d.Tag, d.Profile, d.State, d.Error)
		}
		began[d.Tag], ended[d.Tag] = d.StartedAt.Time, d.EndedAt.Time
	}
	if run.State != state.Done || freed != len(run.Devices) {
		t.Errorf("it is %s; %d boxes were freed", run.State, freed)
	}
	for _, e := range x.Plan.Entries {
		for _, before := range x.Plan.Before(e) {
			if !began[before].IsZero() && began[e.Tag].Before(ended[before]) {
				t.Errorf("%s was begun before %s was set", e.Tag, before)
			}
		}
		if now := x.Entries(e.Tag)[0]; now.State != state.Configured || now.Given == nil {
			t.Errorf("%s is %s: %s", e.Tag, now.State, now.Reason)
		}
		lines, _ := x.Journal(t.Context(), run.ID, e.Tag)
		for step, l := range lines {
			if l.Phase == state.Begun {
				t.Errorf("%s: %s was begun and came to no end", e.Tag, step)
			}
		}
	}
	if left := commission.Left(run, x.Plan, time.Now()); left != 0 {
		t.Errorf("%s are left", left)
	}
}

// A run that is cut off goes on by looking, and does nothing twice with other values; one that
// is run once more with new passwords replaces them.
func TestARunGoesOnAfterACut(t *testing.T) {
	t.Parallel()
	x := tasktest.Find(t, skerry.Options{Devices: 3, Only: "C20", Seed: 28, Pace: quick})
	r, run := commissiontest.Prepare(t, x, false, x.Tags()...)
	given := slices.Clone(run.Devices)
	for cuts := 1; ; cuts++ {
		ctx, cut := context.WithCancel(t.Context())
		var mu sync.Mutex
		lines := 0
		x.Fails = func(what string) error {
			mu.Lock()
			defer mu.Unlock()
			if lines++; what == "AddLine" && lines > 4*cuts {
				cut()
			}
			return nil
		}
		err := r.Carry(ctx, run, nil, make(chan struct{}))
		cut()
		if err == nil {
			if cuts < 3 {
				t.Errorf("it was cut off %d times", cuts-1)
			}
			break
		}
		if run = x.Run(run.ID); cuts > 100 {
			t.Fatalf("it comes to no end: %+v", run.Devices)
		}
	}
	x.Fails = nil
	passwords := map[string]string{}
	for i, d := range x.Run(run.ID).Devices {
		logins, _ := x.Logins(t.Context(), d.MAC)
		if b := x.Box(d.Tag); d.State != state.Done || b.Saved().Address != given[i].Given.Address || b.Saved().Password != logins[0].Password {
			t.Errorf("%s: %s: %s; it is at %s", d.Tag, d.State, d.Error, b.Saved().Address)
		}
		if n := len(slices.DeleteFunc(slices.Clone(logins), func(l vault.Login) bool { return l.State != state.Accepted })); n != 1 {
			t.Errorf("%s: it took %d logins", d.Tag, n)
		}
		passwords[d.Tag] = logins[0].Password
	}
	r, run = commissiontest.Prepare(t, x, true, x.Tags()...)
	if err := r.Carry(t.Context(), run, nil, make(chan struct{})); err != nil {
		t.Fatal(err)
	}
	for _, d := range x.Run(run.ID).Devices {
		if b := x.Box(d.Tag); d.State != state.Done || b.Saved().Password == passwords[d.Tag] {
			t.Errorf("%s: %s: %s; it has the password of before", d.Tag, d.State, d.Error)
		}
	}
}

// A run that is stopped leaves what waits for a hand, and what was not begun.
func TestAStoppedRunLeavesWhatWaits(t *testing.T) {
	t.Parallel()
	x := tasktest.Find(t, skerry.Options{Devices: len(all.Stock), Every: true, Seed: 29, Pace: quick})
	i := slices.IndexFunc(x.Plan.Entries, func(e plan.Entry) bool {
		return len(x.Plan.Before(e)) == 0 && slices.ContainsFunc(x.Plan.Profiles[e.Profile].Order, func(s profile.Stage) bool {
			return s.ByHand != nil && s.ByHand.Terms == ""
		})
	})
	waits := x.Plan.Entries[i].Tag
	r, run := commissiontest.Prepare(t, x, false, waits)
	if err := r.Did(task.Word{Who: "Ida Holm"}, []string{waits}); err == nil {
		t.Error("something was done that nobody waits for")
	}
	stop := make(chan struct{})
	r.Notify = func(d store.RunDevice) {
		if d.State == state.Parked {
			close(stop)
		}
	}
	if err := r.Carry(t.Context(), run, nil, stop); err != nil {
		t.Fatal(err)
	}
	e := x.Entries(waits)[0]
	if run = x.Run(run.ID); run.State != state.Stopped || run.Devices[0].State != state.Stopped || e.State != state.Attention ||
		!strings.Contains(e.Reason, "waited for a hand") {
		t.Errorf("%s, %+v; %s: %s", run.State, run.Devices[0], e.State, e.Reason)
	}
}

// Whoever comes after a device that failed is held back, and says so; an entry that was matched
// anew meanwhile is left alone.
func TestWhatFailsHoldsBackWhatComesAfterIt(t *testing.T) {
	t.Parallel()
	x := tasktest.Find(t, skerry.Options{Devices: 7, Every: true, Seed: 30, Pace: quick})
	door := x.Tags("D1")[0]
	i := slices.IndexFunc(x.Plan.Entries, func(e plan.Entry) bool { return e.Tag == door })
	before := x.Plan.Before(x.Plan.Entries[i])
	if len(before) == 0 {
		t.Fatal("it comes after nothing")
	}
	r, run := commissiontest.Prepare(t, x, false, append(before, door)...)
	for i, d := range run.Devices {
		if d.Tag == before[0] {
			run.Devices[i].Serial = "another" // than the box will tell
		}
		if d.Tag == before[len(before)-1] && len(before) > 1 {
			x.Rematch(d.Tag, address.MAC{2, 0, 0, 0, 0, 9})
		}
	}
	if err := r.Carry(t.Context(), run, nil, make(chan struct{})); err != nil {
		t.Fatal(err)
	}
	for _, d := range x.Run(run.ID).Devices {
		if d.Tag == door && (d.State != state.Failed || !strings.Contains(d.Error, before[0])) {
			t.Errorf("%s: %s: %s", d.Tag, d.State, d.Error)
		}
	}
	if b := x.Box(door); b.Running() != b.AtStart() {
		t.Error("it was written to")
	}
}
