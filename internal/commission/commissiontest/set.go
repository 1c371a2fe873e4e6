// Package commissiontest has a simulated terminal set by a run, for tests of what comes after.
package commissiontest

import (
	"log/slog"
	"net/netip"
	"sync"
	"testing"

	"redstart/internal/commission"
	"redstart/internal/core/state"
	"redstart/internal/lan/line"
	"redstart/internal/sim/model/fs5"
	"redstart/internal/store"
	"redstart/internal/task"
	"redstart/internal/task/tasktest"
)

// Runner carries out runs at the terminal, with records in memory.
func Runner(x *tasktest.Terminal) *commission.Runner {
	return &commission.Runner{Bench: x.Bench, Records: x, Journal: x, Boxes: x, Secrets: x, Logins: x, Plan: x.Plan,
		Log: slog.New(slog.DiscardHandler), Line: line.Open, Notify: func(store.RunDevice) {}}
}

// Prepare prepares a run over entries; with fresh it gives them new passwords.
func Prepare(t testing.TB, x *tasktest.Terminal, fresh bool, tags ...string) (*commission.Runner, store.Run) {
	t.Helper()
	r := Runner(x)
	entries := x.Entries(tags...)
	rehearsal := commission.Rehearse(x.Plan, entries, commission.Known{Lines: x.Lines, Fresh: fresh})
	if len(rehearsal.Devices) != len(tags) {
		t.Fatalf("left out are %+v", rehearsal.Left)
	}
	run, err := r.Prepare(t.Context(), "x", rehearsal, entries, fresh, []netip.Addr{fs5.Factory.Address.Addr()})
	if err != nil {
		t.Fatal(err)
	}
	return r, run
}

// Carry carries a run out while somebody does what it waits for, and gives it as it is then.
func Carry(t testing.TB, x *tasktest.Terminal, r *commission.Runner, run store.Run) store.Run {
	t.Helper()
	var people sync.WaitGroup
	r.Notify = func(d store.RunDevice) {
		if d.State != state.Parked {
			return
		}
		people.Go(func() {
			switch {
			case d.Terms == "" && !x.Hand(d.Tag, d.Do):
				t.Errorf("%s: nobody can %q", d.Tag, d.Do)
			case d.Terms != "":
				if err := r.Did(task.Word{Who: "Ida Holm"}, []string{d.Tag}); err != nil {
					t.Errorf("%s: %v", d.Tag, err)
				}
			}
		})
	}
	err := r.Carry(t.Context(), run, x.Plan.Needs(), make(chan struct{}))
	people.Wait()
	if err != nil {
		t.Fatal(err)
	}
	return x.Run(run.ID)
}

// Set sets entries of the terminal.
func Set(t testing.TB, x *tasktest.Terminal, tags ...string) {
	t.Helper()
	r, run := Prepare(t, x, false, tags...)
	for _, d := range Carry(t, x, r, run).Devices {
		if d.State != state.Done {
			t.Fatalf("%s, %s: %s: %s", d.Tag, d.Profile, d.State, d.Error)
		}
	}
}
