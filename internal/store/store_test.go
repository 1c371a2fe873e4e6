package store_test

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/check"
	"redstart/internal/core/device"
	"redstart/internal/core/plan"
	"redstart/internal/core/procedure"
	"redstart/internal/sim/skerry"
	"redstart/internal/store"
)

var ctx = context.Background()

func open(t *testing.T, dir string) *store.Store {
	t.Helper()
	s, err := store.Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func entries(n int) []plan.Entry {
	var list []plan.Entry
	for i := range n {
		list = append(list, plan.Entry{Tag: fmt.Sprintf("T-%02d", i), Kind: "camera", Profile: "p", Address: netip.AddrFrom4([4]byte{10, 0, 0, byte(i + 1)}), Name: fmt.Sprintf("t-%02d", i), Serial: fmt.Sprint(i)})
	}
	return list
}

func must(t *testing.T, errs ...error) {
	t.Helper()
	for _, err := range errs {
		if err != nil {
			t.Fatal(err)
		}
	}
}

func TestEverythingSurvivesAReopening(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	mac := address.MAC{2, 0, 0, 0, 0, 1}
	seen := device.Sighting{MAC: mac, Protocol: "arp", At: time.Now().UTC().Truncate(time.Microsecond), Facts: map[string]string{"address": "10.0.0.1"}}
	now := store.Now()
	must(t,
		s.SetSite(ctx, skerry.Data()),
		s.AddEntries(ctx, entries(3), false, "owner"),
		s.SetMatch(ctx, "T-01", mac, "serial", "the plan gives this serial", "owner"),
		s.Sight(ctx, seen),
		s.SetConduct(ctx, store.Conduct{MAC: mac, Serial: "S", ChangedAt: now}),
		s.SetConduct(ctx, store.Conduct{MAC: mac, Certificate: "aa", RestartedAt: now}),
		s.SetChecks(ctx, "T-01", []check.Check{{Name: "echo", Expected: "answers", Observed: "answers", Verdict: check.Pass, At: now.Time}}, store.Verified, "", "owner"),
	)
	run, err := s.AddRun(ctx, "owner", []store.RunDevice{{Tag: "T-01", MAC: mac, Profile: "p", Steps: 3, Given: procedure.Values{Name: "n", Address: netip.MustParsePrefix("10.0.0.1/24")}}})
	must(t, err, s.AddLine(ctx, store.Line{Run: run.ID, Tag: "T-01", MAC: mac, Step: "name", Phase: store.Begin}),
		s.AddLine(ctx, store.Line{Run: run.ID, Tag: "T-01", MAC: mac, Step: "name", Phase: store.Done, Detail: "set"}), s.Close())

	s = open(t, dir)
	defer s.Close()
	must(t, s.InterruptRuns(ctx))
	site, err := s.Site(ctx)
	if err != nil || site.Subnet.Prefix != skerry.Data().Subnet.Prefix || len(site.Subnet.KeptFree) != 1 {
		t.Errorf("site %+v, %v", site, err)
	}
	e, err := s.Entry(ctx, "T-01")
	if err != nil || e.Device != mac || e.State != store.Configuring || e.MatchedBy != "serial" || e.CheckedAt.IsZero() || e.Address.String() != "10.0.0.2" {
		t.Errorf("entry %+v, %v", e, err)
	}
	found, err := s.Device(ctx, mac)
	if err != nil || found.Value("address") != "10.0.0.1" || !found.First.Equal(seen.At) {
		t.Errorf("device %+v, %v", found, err)
	}
	c, err := s.Conduct(ctx, mac)
	if err != nil || c.Serial != "S" || c.Certificate != "aa" || !c.ChangedAt.Equal(now.Time) || !c.RestartedAt.Equal(now.Time) {
		t.Errorf("conduct %+v, %v", c, err)
	}
	last, ok, err := s.LastRun(ctx)
	if err != nil || !ok || last.State != store.Interrupted || last.Devices[0].Given.Address.String() != "10.0.0.1/24" || last.Devices[0].State != store.Waiting {
		t.Errorf("run %+v, %v", last, err)
	}
	journal, err := s.Journal(ctx, run.ID, "T-01")
	if err != nil || journal["name"].Phase != store.Done || journal["name"].Detail != "set" {
		t.Errorf("journal %+v, %v", journal, err)
	}
	history, err := s.History(ctx, "T-01")
	var text strings.Builder
	for _, n := range history {
		text.WriteString(n.Who + " " + n.What + "\n")
	}
	if want := "owner planned at 10.0.0.2\nowner matched with 02:00:00:00:00:01: the plan gives this serial\nowner verified\nrun 1 name begin\nrun 1 name done: set\n"; err != nil || text.String() != want {
		t.Errorf("history:\n%s%v", text.String(), err)
	}
	checks, err := s.Checks(ctx, "T-01")
	if err != nil || len(checks) != 1 || checks[0].Verdict != check.Pass {
		t.Errorf("checks %+v, %v", checks, err)
	}
}

func TestAPlanIsStoredWholeOrNotAtAll(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	must(t, s.AddEntries(ctx, entries(2), false, "x"))
	if err := s.AddEntries(ctx, append([]plan.Entry{{Tag: "NEW", Address: netip.MustParseAddr("10.0.0.9")}}, entries(2)...), false, "x"); err == nil {
		t.Error("a tag was stored twice")
	}
	list, err := s.Entries(ctx)
	if err != nil || len(list) != 2 {
		t.Errorf("%d entries after a refused import, %v", len(list), err)
	}
	must(t, s.AddEntries(ctx, entries(3)[2:], true, "x"))
	if list, err = s.Entries(ctx); err != nil || len(list) != 1 || list[0].Tag != "T-02" {
		t.Errorf("after replacing: %+v, %v", list, err)
	}
	if err := s.SetMatch(ctx, "T-02", address.MAC{2}, "hand", "", "x"); err != nil {
		t.Error(err)
	}
	must(t, s.AddEntries(ctx, entries(1), false, "x"))
	if err := s.SetMatch(ctx, "T-00", address.MAC{2}, "hand", "", "x"); err == nil {
		t.Error("one box was matched with two entries")
	}
}

// Many writers side by side: each has its own data on disk, and one that fails
// spoils nothing for the others.
func TestWritersSideBySide(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	must(t, s.AddEntries(ctx, entries(1), false, "x"))
	var all sync.WaitGroup
	refused := make(chan error, 200)
	for i := range 200 {
		all.Add(1)
		go func() {
			defer all.Done()
			if i%10 == 0 {
				refused <- s.AddEntries(ctx, entries(1), false, "x") // exists already
				return
			}
			if err := s.AddNote(ctx, "T-00", "writer", fmt.Sprint(i)); err != nil {
				t.Error(err)
			}
		}()
	}
	all.Wait()
	close(refused)
	for err := range refused {
		if err == nil {
			t.Error("an entry was stored twice")
		}
	}
	if notes, err := s.History(ctx, "T-00"); err != nil || len(notes) != 181 {
		t.Errorf("%d notes, want 181: one from planning and one from each writer; %v", len(notes), err)
	}
	gone, cancel := context.WithCancel(ctx)
	cancel()
	for range 20 {
		if err := s.AddNote(gone, "T-00", "late", ""); err != nil && err != context.Canceled {
			t.Error(err)
		}
	}
}

func TestOneServiceAtATime(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	if _, err := store.Open(ctx, dir); err == nil || !strings.Contains(err.Error(), "another Redstart service") {
		t.Errorf("a second one: %v", err)
	}
	must(t, s.Close())
	s = open(t, dir)
	must(t, s.Close())
}

func TestSessionsExpire(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	must(t,
		s.AddSession(ctx, store.Session{Hash: "old", User: "u", ExpiresAt: store.Stamp{Time: time.Now().Add(-time.Second)}}),
		s.AddSession(ctx, store.Session{Hash: "new", User: "u", ExpiresAt: store.Stamp{Time: time.Now().Add(time.Hour)}}))
	if _, ok, err := s.Session(ctx, "old"); ok || err != nil {
		t.Errorf("an expired session is good: %v", err)
	}
	if got, ok, err := s.Session(ctx, "new"); !ok || err != nil || got.User != "u" {
		t.Errorf("%+v, %v", got, err)
	}
	must(t, s.EndSession(ctx, "new"))
	if _, ok, _ := s.Session(ctx, "new"); ok {
		t.Error("an ended session is good")
	}
}
