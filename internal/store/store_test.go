package store_test

import (
	"context"
	"fmt"
	"net/netip"
	"reflect"
	"strings"
	"sync"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/check"
	"redstart/internal/core/device"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
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

// at makes a site in the store, or opens it.
func at(t *testing.T, s *store.Store, key string) *store.Site {
	t.Helper()
	site, err := s.At(ctx, key)
	if err != nil {
		site, err = s.AddSite(ctx, plan.Site{Key: key, Name: key}, "x")
	}
	if err != nil {
		t.Fatal(err)
	}
	return site
}

// add puts entries into a plan.
func add(s *store.Site, entries []plan.Entry) error {
	var edits []store.Edit
	for i := range entries {
		edits = append(edits, store.Edit{After: &entries[i]})
	}
	_, err := s.Revise(ctx, "owner", "added", edits)
	return err
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
	records := open(t, dir)
	data := skerry.Data()
	s, err := records.AddSite(ctx, data, "owner")
	must(t, err)
	mac := address.MAC{2, 0, 0, 0, 0, 1}
	seen := device.Sighting{MAC: mac, Protocol: "arp", At: time.Now().UTC().Truncate(time.Microsecond), Facts: map[string]string{"address": "10.0.0.1"}}
	now := store.Now()
	must(t,
		add(s, entries(3)),
		s.SetMatch(ctx, "T-01", mac, "serial", "the plan gives this serial", "owner"),
		s.Sight(ctx, seen),
		s.SetConduct(ctx, store.Conduct{MAC: mac, Serial: "S", ChangedAt: now}),
		s.SetConduct(ctx, store.Conduct{MAC: mac, Certificate: "aa", RestartedAt: now}),
		s.SetChecks(ctx, "T-01", []check.Check{{Name: "echo", Expected: "answers", Observed: "answers", Verdict: check.Pass, At: now.Time}}, store.Verified, "", "owner"),
	)
	run, err := s.AddRun(ctx, "owner", []store.RunDevice{{Tag: "T-01", MAC: mac, Profile: "p", Steps: 3, Given: procedure.Values{Name: "n", Address: netip.MustParsePrefix("10.0.0.1/24")}}})
	given := procedure.Values{Name: "given", Address: netip.MustParsePrefix("10.0.0.2/24"), Settings: map[string]string{"room": "7"}}
	must(t, err, s.SetConfigured(ctx, "T-01", given, "run"))
	run, err = s.AddRun(ctx, "owner", run.Devices)
	must(t, err, s.AddLine(ctx, store.Line{Run: run.ID, Tag: "T-01", MAC: mac, Step: "name", Phase: store.Begin}),
		s.AddLine(ctx, store.Line{Run: run.ID, Tag: "T-01", MAC: mac, Step: "name", Phase: store.Done, Detail: "set"}), s.Close())

	records = open(t, dir)
	defer records.Close()
	must(t, records.InterruptRuns(ctx))
	s = at(t, records, data.Key)
	site, err := s.Data(ctx)
	if err != nil || !reflect.DeepEqual(site, data) {
		t.Errorf("site %+v, %v", site, err)
	}
	e, err := s.Entry(ctx, "T-01")
	if err != nil || e.Device != mac || e.State != store.Configuring || e.MatchedBy != "serial" || e.CheckedAt.IsZero() || e.Address.String() != "10.0.0.2" || !reflect.DeepEqual(e.Given, &given) {
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
	if want := "owner planned at 10.0.0.2\nowner matched with 02:00:00:00:00:01: the plan gives this serial\nowner verified\nrun configured\nrun 2 name begin\nrun 2 name done: set\n"; err != nil || text.String() != want {
		t.Errorf("history:\n%s%v", text.String(), err)
	}
	checks, err := s.Checks(ctx, "T-01")
	if err != nil || len(checks) != 1 || checks[0].Verdict != check.Pass {
		t.Errorf("checks %+v, %v", checks, err)
	}
}

func TestAPlanIsStoredWholeOrNotAtAll(t *testing.T) {
	records := open(t, t.TempDir())
	defer records.Close()
	s, other := at(t, records, "a"), at(t, records, "b")
	must(t, add(s, entries(2)))
	if err := add(s, append([]plan.Entry{{Tag: "NEW", Address: netip.MustParseAddr("10.0.0.9")}}, entries(2)...)); err == nil {
		t.Error("a tag was stored twice")
	}
	list, err := s.Entries(ctx)
	if err != nil || len(list) != 2 {
		t.Errorf("%d entries after a refused change, %v", len(list), err)
	}
	// Sites know nothing of each other.
	must(t, add(other, entries(1)), s.SetMatch(ctx, "T-00", address.MAC{2}, "hand", "", "x"), other.SetMatch(ctx, "T-00", address.MAC{2}, "hand", "", "x"))
	if err := s.SetMatch(ctx, "T-01", address.MAC{2}, "hand", "", "x"); err == nil {
		t.Error("one box was matched with two entries")
	}
	must(t, other.Remove(ctx))
	if _, err := records.At(ctx, "b"); problem.KindOf(err) != problem.Missing {
		t.Errorf("a site that was removed: %v", err)
	}
	if list, err = s.Entries(ctx); err != nil || len(list) != 2 || list[0].Device.IsZero() {
		t.Errorf("another site's removal left %+v, %v", list, err)
	}
	if _, err := records.AddSite(ctx, plan.Site{Key: "a", Name: "again"}, "x"); problem.KindOf(err) != problem.Conflict {
		t.Errorf("a key twice: %v", err)
	}
}

func TestRevisionsTellWhatWasBefore(t *testing.T) {
	records := open(t, t.TempDir())
	defer records.Close()
	s := at(t, records, "a")
	must(t, add(s, entries(3)))
	before := entries(3)
	changed := before[1]
	changed.Tag, changed.Place = "NEW-01", "Hall"
	data, err := s.Data(ctx)
	must(t, err)
	renamed := data
	renamed.Contact = "somebody"
	must(t, s.SetChecks(ctx, "T-01", []check.Check{{Name: "echo", At: time.Now()}}, store.Verified, "", "x"))
	// One act: a tag that becomes free is taken at once.
	again := plan.Entry{Tag: "T-00", Place: "elsewhere"}
	r, err := s.Revise(ctx, "planner", "all at once", []store.Edit{{After: &again}, {Before: &before[1], After: &changed}, {Before: &before[0]}, {Site: &renamed, WasSite: &data}})
	must(t, err)
	list, err := s.Entries(ctx)
	must(t, err)
	var tags []string
	for _, e := range list {
		tags = append(tags, e.Tag+" "+e.Place+" "+e.State)
	}
	if got := strings.Join(tags, ", "); got != "NEW-01 Hall verified, T-02  planned, T-00 elsewhere planned" {
		t.Error(got)
	}
	if checks, err := s.Checks(ctx, "NEW-01"); err != nil || len(checks) != 1 {
		t.Errorf("the checks did not follow the tag: %v, %v", checks, err)
	}
	if notes, err := s.History(ctx, "NEW-01"); err != nil || len(notes) != 4 || !strings.Contains(notes[3].What, "place set to Hall") {
		t.Errorf("%+v, %v", notes, err)
	}
	edits, err := s.EditsAfter(ctx, r.ID, true)
	must(t, err)
	if len(edits) != 4 || edits[0].WasSite.Contact != "" || edits[0].Site.Contact != "somebody" || edits[1].Before.Tag != "T-01" || edits[3].After != nil || edits[3].Position != 1 {
		t.Errorf("%+v", edits)
	}
	must(t, s.NameRevision(ctx, r.ID, "issued for construction, rev C"))
	revisions, err := s.Revisions(ctx, 0)
	if err != nil || len(revisions) != 3 || revisions[0].Name != "issued for construction, rev C" || revisions[0].Who != "planner" || revisions[2].What != "site made" {
		t.Errorf("%+v, %v", revisions, err)
	}
	if all, err := s.EditsAfter(ctx, 0, false); err != nil || len(all) != 8 {
		t.Errorf("%d edits in all, %v", len(all), err)
	}
}

func TestUsersAndTokens(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	must(t, s.AddUser(ctx, store.User{Name: "ada", Hash: "h", Rights: "plan"}), s.AddUser(ctx, store.User{Name: "bo", Hash: "h", Rights: "look"}),
		s.AddToken(ctx, store.Token{User: "ada", Name: "laptop", Hash: "1"}), s.AddToken(ctx, store.Token{User: "bo", Name: "laptop", Hash: "2"}),
		s.AddSession(ctx, store.Session{Hash: "s", User: "ada", ExpiresAt: store.Stamp{Time: time.Now().Add(time.Hour)}}))
	if err := s.AddUser(ctx, store.User{Name: "ada"}); problem.KindOf(err) != problem.Conflict {
		t.Errorf("a user twice: %v", err)
	}
	if err := s.AddToken(ctx, store.Token{User: "ada", Name: "laptop", Hash: "3"}); problem.KindOf(err) != problem.Conflict {
		t.Errorf("a token twice: %v", err)
	}
	token, ok, err := s.Token(ctx, "1")
	if err != nil || !ok || token.User != "ada" {
		t.Fatalf("%+v %v", token, err)
	}
	must(t, s.TokenUsed(ctx, token.ID))
	if err := s.RevokeToken(ctx, token.ID, "bo"); problem.KindOf(err) != problem.Missing {
		t.Errorf("somebody else's token was revoked: %v", err)
	}
	must(t, s.SetUser(ctx, store.User{Name: "ada", Hash: "h2", Rights: "look"}))
	if _, ok, _ := s.Session(ctx, "s"); ok {
		t.Error("a session outlives the change of password and rights")
	}
	must(t, s.RemoveUser(ctx, "ada"))
	if _, ok, _ := s.Token(ctx, "1"); ok {
		t.Error("a token outlives its user")
	}
	if list, err := s.Tokens(ctx, ""); err != nil || len(list) != 1 || list[0].User != "bo" {
		t.Errorf("%+v, %v", list, err)
	}
}

// Many writers side by side: each has its own data on disk, and one that fails
// spoils nothing for the others.
func TestWritersSideBySide(t *testing.T) {
	records := open(t, t.TempDir())
	defer records.Close()
	s := at(t, records, "a")
	must(t, add(s, entries(1)))
	var all sync.WaitGroup
	refused := make(chan error, 200)
	for i := range 200 {
		all.Add(1)
		go func() {
			defer all.Done()
			if i%10 == 0 {
				refused <- add(s, entries(1)) // exists already
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
