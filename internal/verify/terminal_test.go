package verify_test

import (
	"strings"
	"testing"

	"redstart/internal/check"
	"redstart/internal/commission/commissiontest"
	"redstart/internal/core/plan"
	"redstart/internal/core/result"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/all"
	"redstart/internal/sim/skerry"
	"redstart/internal/task/tasktest"
	"redstart/internal/verify"
	"redstart/internal/verify/verifytest"
)

// A restart that nobody saw is asked for, and shows whether what was set is kept.
func TestARestartShowsWhatIsKept(t *testing.T) {
	t.Parallel()
	x := tasktest.Find(t, skerry.Options{Devices: 4, Only: "FS8", Seed: 38, Pace: 0.1})
	tags := x.Tags()
	commissiontest.Set(t, x, tags...)
	forgets := x.Box(tags[0])
	forgets.Store(func(s *box.Settings) { s.Name = "as-it-was" }) // in force is another than is kept
	starts := forgets.Starts()
	lists := verifytest.LookAt(t, x, check.Always, tags...)
	if forgets.Starts() == starts {
		t.Fatal("it was not restarted")
	}
	if failing := result.Failing(lists[tags[0]]); len(failing) == 0 {
		t.Error("what is not kept passed")
	}
	for _, tag := range tags[1:] {
		if !result.Verified(lists[tag]) {
			t.Errorf("%s: %+v", tag, result.Failing(lists[tag]))
		}
	}
}

// What hangs behind a box is looked at with it: each entry by itself, and what does not answer is
// the box's fault too.
func TestWhatHangsBehindIsLookedAtWithIt(t *testing.T) {
	t.Parallel()
	x := tasktest.Find(t, skerry.Options{Devices: len(all.Stock), Every: true, Seed: 39, Pace: 0.1})
	door := x.Tags("D2")[0]
	x.Add(plan.Entry{Tag: "RDR-1", Kind: "reader", Profile: "brindlecap-q1", Behind: door, Part: "1", Settings: map[string]string{"side": "in"}},
		plan.Entry{Tag: "RDR-2", Kind: "reader", Profile: "brindlecap-q1", Behind: door, Part: "5", Settings: map[string]string{"side": "out"}})
	commissiontest.Set(t, x, door)
	for _, part := range x.Entries("RDR-1", "RDR-2") {
		if part.State != state.Configured {
			t.Errorf("%s is %s once its box is set", part.Tag, part.State)
		}
	}
	l := verify.Look{Box: x.Entries(door)[0], Own: true, Parts: x.Entries("RDR-1", "RDR-2")}
	if len(l.Entries()) != 3 {
		t.Errorf("%d entries are looked at", len(l.Entries()))
	}
	lists, err := verifytest.Verifier(x).At(t.Context(), x.Plan.Resolve(), l, check.Never, x.Plan.Needs(), "x")
	if err != nil {
		t.Fatal(err)
	}
	if !result.Verified(lists["RDR-1"]) || x.Entries("RDR-1")[0].State != state.Verified {
		t.Errorf("%+v", lists["RDR-1"])
	}
	for _, tag := range []string{door, "RDR-2"} {
		if e := x.Entries(tag)[0]; e.State != state.Attention || !strings.Contains(e.Reason, "silent") {
			t.Errorf("%s is %s: %s", tag, e.State, e.Reason)
		}
	}
}
