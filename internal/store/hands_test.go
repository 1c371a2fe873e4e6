package store_test

import (
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
	"redstart/internal/store"
)

// Who accepted terms first stands, for each site by itself.
func TestTermsAreAcceptedOnce(t *testing.T) {
	all := open(t, t.TempDir())
	here, there := at(t, all, "here"), at(t, all, "there")
	if _, ok, err := here.Accepted(ctx, "v2", "edition 4"); ok || err != nil {
		t.Fatalf("%t, %v", ok, err)
	}
	for _, who := range []string{"ines", "odd"} {
		if err := here.Accept(ctx, store.Acceptance{Profile: "v2", Terms: "edition 4", Who: who, At: stamp.Now()}); err != nil {
			t.Fatal(err)
		}
	}
	a, ok, err := here.Accepted(ctx, "v2", "edition 4")
	if !ok || err != nil || a.Who != "ines" || a.At.IsZero() {
		t.Errorf("%+v, %t, %v", a, ok, err)
	}
	if list, err := there.AllAccepted(ctx); err != nil || len(list) != 0 {
		t.Errorf("%+v, %v", list, err)
	}
	if _, ok, _ := here.Accepted(ctx, "v2", "edition 5"); ok {
		t.Error("another edition counts as accepted")
	}
	if err := here.Remove(ctx); err != nil {
		t.Error(err)
	}
}

func TestHostIDsTellWhatWasAskedFor(t *testing.T) {
	s := at(t, open(t, t.TempDir()), "here")
	mac := address.MAC{2, 1, 1, 1, 1, 1}
	began := time.Now().UTC().Add(-time.Hour)
	told := func(id string, after time.Duration) store.HostID {
		t.Helper()
		if err := s.ToldHostID(ctx, mac, id, stamp.Time{Time: began.Add(after)}); err != nil {
			t.Fatal(err)
		}
		all, err := s.HostIDs(ctx)
		if err != nil {
			t.Fatal(err)
		}
		return all[mac]
	}
	if h := told("aa", 0); h.ID != "aa" || h.Asked != "" || h.Since != "" {
		t.Errorf("%+v", h)
	}
	if err := s.AskedFor(ctx, []address.MAC{mac}); err != nil {
		t.Fatal(err)
	}
	if h := told("aa", time.Minute); h.Asked != "aa" || h.AskedAt.IsZero() || !h.Seen.After(h.At.Time) {
		t.Errorf("told again: %+v", h)
	}
	if h := told("bb", 2*time.Minute); h.ID != "bb" || h.Asked != "aa" || h.At.Before(began.Add(2*time.Minute).Truncate(time.Millisecond)) {
		t.Errorf("changed: %+v", h)
	}
}

func TestOnlyWhatWaitsIsTaken(t *testing.T) {
	s := at(t, open(t, t.TempDir()), "here")
	if err := s.TakeHand(ctx, 7, []string{"X"}, "ines"); problem.KindOf(err) != problem.Conflict {
		t.Errorf("%v", err)
	}
}
