package verify_test

import (
	"context"
	"log/slog"
	"net/netip"
	"strings"
	"testing"

	"redstart/internal/check"
	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/result"
	"redstart/internal/core/state"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/segment"
	"redstart/internal/store"
	"redstart/internal/task/tasktest"
	"redstart/internal/verify"
	"redstart/profiles"
)

var camera = address.MAC{0x0a, 0x4f, 0x56, 0, 0, 1}

// stage is a verifier over one matched camera, on a segment where nobody answers.
func stage(t *testing.T) (*verify.Verifier, plan.Resolver, store.Entry) {
	t.Helper()
	ctx := context.Background()
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	e := plan.Entry{Tag: "A", Kind: "camera", Profile: "ovalis-c20", Name: "a",
		Address: netip.MustParseAddr("10.40.9.10")}
	p := plan.Plan{Site: plan.Site{Key: "s", Name: "S", Subnets: []plan.Subnet{{Name: "main",
		Prefix: netip.MustParsePrefix("10.40.8.0/22")}}}, Profiles: set, Entries: []plan.Entry{e}}
	m := tasktest.New(p.Entries, map[string]address.MAC{"A": camera})
	entry, err := m.Entry(ctx, "A")
	if err != nil {
		t.Fatal(err)
	}
	var s segment.Segment
	w := &verify.Verifier{Bench: bench.New(s.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 64)), Records: m, Boxes: m, Secrets: m, Logins: m,
		Profiles: set, Log: slog.New(slog.DiscardHandler)}
	t.Cleanup(func() { w.Bench.Close() })
	return w, p.Resolve(), entry
}

// looked has the box of an entry looked at.
func looked(w *verify.Verifier, r plan.Resolver, e store.Entry, restart string) ([]result.Check, error) {
	lists, err := w.At(context.Background(), r, verify.Look{Box: e, Own: true}, restart, nil, "x")
	return lists[e.Tag], err
}

// A box that is not there is said to be away; the rest was not looked at, which is
// neither passed nor failed.
func TestWhatIsAwayWasNotLookedAt(t *testing.T) {
	t.Parallel()
	w, r, e := stage(t)
	list, err := looked(w, r, e, check.Always)
	if err != nil {
		t.Fatal(err)
	}
	if result.Verified(list) || len(result.Failing(list)) == 0 {
		t.Errorf("%+v", list)
	}
	for _, c := range list {
		if strings.Contains(c.Name, "login") && c.Verdict != result.NotLookedAt || c.Verdict == result.Passed {
			t.Errorf("%s is %v: %s", c.Name, c.Verdict, c.Observed)
		}
	}
	now, err := w.Records.(*tasktest.Memory).Entry(context.Background(), "A")
	if err != nil || now.State != state.Attention || !strings.Contains(now.Reason,
		"address held by: expected 0a:4f:56:00:00:01, observed nobody") {
		t.Errorf("%s: %s, %v", now.State, now.Reason, err)
	}
}

// What cannot be looked at is said, and changes nothing; a defect of ours is no
// fault of the device.
func TestWhatCannotBeLookedAt(t *testing.T) {
	t.Parallel()
	w, r, e := stage(t)
	ctx := context.Background()
	nowhere, other, stranger := e, e, e
	nowhere.Address = netip.Addr{}
	other.Profile = "gone"
	stranger.Device = address.MAC{0x0a, 0x4f, 0x56, 0, 0, 2}
	for _, c := range []struct {
		e    store.Entry
		want string
	}{
		{nowhere, "it has no planned address"},
		{other, "its profile gone is gone"},
		{stranger, "has another box by now"}, // it was matched anew while it was looked at
	} {
		if _, err := looked(w, r, c.e, check.Never); problem.KindOf(err) != problem.Conflict ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%v, not %q", err, c.want)
		}
	}
	healthy := w.Bench
	w.Bench = nil // whatever is done with it panics
	_, err := looked(w, r, e, check.Never)
	w.Bench = healthy
	if err == nil || !strings.Contains(err.Error(), "a defect of ours") {
		t.Errorf("%v", err)
	}
	if now, err := w.Records.(*tasktest.Memory).Entry(ctx, "A"); err != nil || now.State != state.Matched {
		t.Errorf("%s: %s, %v", now.State, now.Reason, err)
	}
}
