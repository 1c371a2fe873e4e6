package store_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/result"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/sim/skerry"
	"redstart/internal/store"
	"redstart/internal/store/storetest"
)

var ctx = context.Background()

func open(t *testing.T, dir string) *store.Store {
	t.Helper()
	storetest.Begin(t, dir)
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
	_, err := s.Revise(ctx, "owner", "added", store.Changes{Edits: edits})
	return err
}

// match matches an entry that had no box.
func match(s *store.Site, tag string, mac address.MAC) error {
	return s.SetMatches(ctx, []store.Match{{Tag: tag, MAC: mac, By: "serial", Why: "the plan gives this serial"}},
		"owner")
}

func entries(n int) []plan.Entry {
	var list []plan.Entry
	for i := range n {
		list = append(list, plan.Entry{Tag: fmt.Sprintf("T-%02d", i), Kind: "camera", Profile: "p",
			Address: netip.AddrFrom4([4]byte{10, 0, 0, byte(i + 1)}), Name: fmt.Sprintf("t-%02d", i),
			Serial: fmt.Sprint(i)})
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
	seen := device.Sighting{MAC: mac, Protocol: "arp", At: time.Now().UTC().Truncate(time.Microsecond),
		Facts: map[string]string{"address": "10.0.0.1"}}
	now := stamp.Now()
	must(t,
		add(s, entries(3)),
		match(s, "T-01", mac),
		s.Sight(ctx, nil, seen),
		records.SetDeviceState(ctx, store.DeviceState{MAC: mac, Serial: "S", ChangedAt: now}),
		records.SetDeviceState(ctx, store.DeviceState{MAC: mac, RestartedAt: now}),
		records.SetServer(ctx, mac, "certificate", "bb"),
		records.SetServer(ctx, mac, "certificate", "aa"),
		s.SetChecks(ctx, "T-01", mac, []result.Check{{Name: "echo", Expected: "answers", Observed: "answers",
			Verdict: result.Passed, By: "ICMP", At: now.Time}, {Name: "name", At: now.Time}}, state.Configured, "",
			"owner"),
	)
	run, err := s.AddRun(ctx, "owner", []store.RunDevice{{Tag: "T-01", MAC: mac, Profile: "p", Steps: 3,
		Given: procedure.Values{Name: "n", Address: netip.MustParsePrefix("10.0.0.1/24")}}})
	given := procedure.Values{Name: "given", Address: netip.MustParsePrefix("10.0.0.2/24"),
		Settings: map[string]string{"room": "7"}}
	must(t, err, s.SetConfigured(ctx, "T-01", mac, given, "run"))
	run, err = s.AddRun(ctx, "owner", run.Devices)
	must(t, err, records.AddLine(ctx, store.Line{Run: run.ID, Tag: "T-01", MAC: mac, Step: "name", Phase: state.Begun}),
		records.AddLine(ctx, store.Line{Run: run.ID, Tag: "T-01", MAC: mac, Step: "name", Phase: state.Done, Detail: "set"}),
		records.Close())

	records = open(t, dir)
	defer records.Close()
	must(t, records.InterruptRuns(ctx))
	s = at(t, records, data.Key)
	site, err := s.Data(ctx)
	if err != nil || !reflect.DeepEqual(site, data) {
		t.Errorf("site %+v, %v", site, err)
	}
	e, err := s.Entry(ctx, "T-01")
	if err != nil || e.Device != mac || e.State != state.Configuring || e.MatchedBy != "serial" ||
		e.CheckedAt.IsZero() || e.Address.String() != "10.0.0.2" || !reflect.DeepEqual(e.Given, &given) {
		t.Errorf("entry %+v, %v", e, err)
	}
	found, err := s.Device(ctx, mac)
	if err != nil || found.Value("address") != "10.0.0.1" || !found.First.Equal(seen.At) {
		t.Errorf("device %+v, %v", found, err)
	}
	c, err := records.DeviceState(ctx, mac)
	if err != nil || c.Serial != "S" || !c.ChangedAt.Equal(now.Time) || !c.RestartedAt.Equal(now.Time) {
		t.Errorf("device state %+v, %v", c, err)
	}
	servers, err := records.Servers(ctx, mac)
	if err != nil || !reflect.DeepEqual(servers, map[string]string{"certificate": "aa"}) {
		t.Errorf("servers %v, %v", servers, err)
	}
	last, ok, err := s.LastRun(ctx)
	if err != nil || !ok || last.State != state.Interrupted ||
		last.Devices[0].Given.Address.String() != "10.0.0.1/24" || last.Devices[0].State != state.Waiting {
		t.Errorf("run %+v, %v", last, err)
	}
	journal, err := records.Journal(ctx, run.ID, "T-01")
	if err != nil || journal["name"].Phase != state.Done || journal["name"].Detail != "set" {
		t.Errorf("journal %+v, %v", journal, err)
	}
	history, err := s.History(ctx, "T-01")
	var text strings.Builder
	for _, n := range history {
		text.WriteString(n.Who + " " + n.What + "\n")
	}
	if want := "owner planned at 10.0.0.2\nowner matched with 02:00:00:00:00:01: the plan gives this serial\nowner configured; not looked at: name\nrun configured\nrun 2 name begin\nrun 2 name done: set\n"; err != nil || text.String() != want {
		t.Errorf("history:\n%s%v", text.String(), err)
	}
	checks, err := s.Checks(ctx, "T-01")
	if err != nil || len(checks) != 2 || checks[0].Verdict != result.Passed || checks[0].By != "ICMP" ||
		checks[1].Verdict != result.NotLookedAt {
		t.Errorf("checks %+v, %v", checks, err)
	}
}

func TestAPlanIsStoredWholeOrNotAtAll(t *testing.T) {
	records := open(t, t.TempDir())
	defer records.Close()
	s, other := at(t, records, "a"), at(t, records, "b")
	must(t, add(s, entries(2)))
	if err := add(s, append([]plan.Entry{{Tag: "NEW", Address: netip.MustParseAddr("10.0.0.9")}},
		entries(2)...)); err == nil {
		t.Error("a tag was stored twice")
	}
	list, err := s.Entries(ctx)
	if err != nil || len(list) != 2 {
		t.Errorf("%d entries after a refused change, %v", len(list), err)
	}
	// Sites know nothing of each other.
	must(t, add(other, entries(1)), match(s, "T-00", address.MAC{2}), match(other, "T-00", address.MAC{2}))
	if err := match(s, "T-01", address.MAC{2}); err == nil {
		t.Error("one box was matched with two entries")
	}
	must(t, other.Remove(ctx))
	if _, err := records.At(ctx, "b"); problem.KindOf(err) != problem.Missing {
		t.Errorf("a site that was removed: %v", err)
	}
	if list, err = s.Entries(ctx); err != nil || len(list) != 2 || list[0].Device.IsZero() {
		t.Errorf("another site's removal left %+v, %v", list, err)
	}
	if _, err := records.AddSite(ctx, plan.Site{Key: "a", Name: "again"},
		"x"); problem.KindOf(err) != problem.Conflict {
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
	mac := address.MAC{2}
	must(t, match(s, "T-01", mac), s.SetChecks(ctx, "T-01", mac, []result.Check{{Name: "echo", At: time.Now()}},
		state.Verified, "", "x"))
	// One act: a tag that becomes free is taken at once.
	again := plan.Entry{Tag: "T-00", Place: "elsewhere"}
	r, err := s.Revise(ctx, "planner", "all at once", store.Changes{Edits: []store.Edit{{After: &again},
		{Before: &before[1], After: &changed}, {Before: &before[0]}, {Site: &renamed, WasSite: &data}}})
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
	if notes, err := s.History(ctx, "NEW-01"); err != nil || len(notes) != 5 ||
		!strings.Contains(notes[4].What, "place set to Hall") {
		t.Errorf("%+v, %v", notes, err)
	}
	edits, err := s.EditsBetween(ctx, r.ID-1, r.ID)
	must(t, err)
	if len(edits) != 4 || edits[0].WasSite.Contact != "" || edits[0].Site.Contact != "somebody" ||
		edits[1].Before.Tag != "T-01" || edits[3].After != nil || edits[3].Position != 1 {
		t.Errorf("%+v", edits)
	}
	must(t, s.NameRevision(ctx, r.ID, "issued for construction, rev C"))
	revisions, err := s.Revisions(ctx, 0)
	if err != nil || len(revisions) != 3 || revisions[0].Name != "issued for construction, rev C" ||
		revisions[0].Who != "planner" || revisions[2].What != "site made" {
		t.Errorf("%+v, %v", revisions, err)
	}
	if all, err := s.EditsBetween(ctx, 0, 0); err != nil || len(all) != 8 {
		t.Errorf("%d edits in all, %v", len(all), err)
	}
}

// What was found out about one box is never written to an entry that has another
// one, or none, by then; and what is decided at once is done whole or not at all.
func TestStateBelongsToTheBoxThatWasLookedAt(t *testing.T) {
	records := open(t, t.TempDir())
	defer records.Close()
	s := at(t, records, "a")
	one, two := address.MAC{2, 1}, address.MAC{2, 2}
	must(t, add(s, entries(3)), match(s, "T-00", one), match(s, "T-01", two))
	refused := func(what string, err error) {
		t.Helper()
		if problem.KindOf(err) != problem.Conflict {
			t.Errorf("%s: %v", what, err)
		}
	}
	refused("the state of another box", s.SetState(ctx, "T-00", two, state.Attention, "x", "x"))
	refused("another box configured", s.SetConfigured(ctx, "T-00", two, procedure.Values{}, "x"))
	refused("another box verified", s.SetChecks(ctx, "T-00", two, []result.Check{{Verdict: result.Passed}},
		state.Verified, "", "x"))
	refused("no box verified", s.SetChecks(ctx, "T-02", one, nil, state.Verified, "", "x"))
	_, err := s.AddRun(ctx, "x", []store.RunDevice{{Tag: "T-00", MAC: one}, {Tag: "T-01", MAC: one}})
	refused("a run over another box", err)
	refused("an undoing of what changed since", s.SetMatches(ctx,
		[]store.Match{{Tag: "T-00", Was: one}, {Tag: "T-01", Was: one}}, "x"))
	refused("a lock on what has no box", s.SetLocked(ctx, []string{"T-00", "T-02"}, true, "x"))
	list, err := s.Entries(ctx)
	must(t, err)
	for i, want := range []address.MAC{one, two, {}} {
		if list[i].Device != want || list[i].Set() || list[i].State == state.Configuring || list[i].Locked {
			t.Errorf("%s was half changed: %+v", list[i].Tag, list[i])
		}
	}
	// Two boxes change places in one act.
	must(t, s.SetByHand(ctx, []store.HandSet{{Tag: "T-00", MAC: one, Given: procedure.Values{Name: "n"}}}, "anna"),
		s.SetMatches(ctx, []store.Match{{Tag: "T-00", Was: one, MAC: two}, {Tag: "T-01", Was: two, MAC: one}}, "x"))
	e, err := s.Entry(ctx, "T-00")
	if err != nil || e.Device != two || e.Given != nil || e.HandBy != "" || e.State != state.Matched {
		t.Errorf("another box has what the first one was given: %+v, %v", e, err)
	}
}

func TestCredentialsHaveAState(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	mac := address.MAC{2, 1}
	credential := func(to string) store.Credential {
		return store.Credential{MAC: mac, User: "u", Sealed: []byte{1}, MadeAt: stamp.Now(), State: to,
			StateAt: stamp.Now(), ToldBy: "test"}
	}
	states := func() (list string) {
		all, err := s.Credentials(ctx, mac)
		must(t, err)
		for _, c := range all {
			list += c.State + " "
		}
		return list
	}
	must(t, s.AddCredentials(ctx, []store.Credential{credential(state.Accepted)}),
		s.AddCredentials(ctx, []store.Credential{credential(state.Pending)}))
	if got := states(); got != "pending accepted " {
		t.Errorf("a pending one beside an accepted one: %s", got)
	}
	all, err := s.Credentials(ctx, mac)
	must(t, err, s.SetCredential(ctx, mac, all[0].ID, state.Accepted, "run 1"))
	if got := states(); got != "accepted superseded " {
		t.Errorf("the new one proven: %s", got)
	}
	must(t, s.AddCredentials(ctx, []store.Credential{credential(state.Accepted)}))
	opening, err := s.Opening(ctx)
	if got := states(); got != "accepted superseded superseded " || err != nil || len(opening) != 1 {
		t.Errorf("%s, %d that open, %v", got, len(opening), err)
	}
	must(t, s.AddWrong(ctx, mac), s.AddWrong(ctx, mac))
	if c, err := s.DeviceState(ctx, mac); err != nil || c.Wrong != 2 || c.WrongAt.IsZero() || c.Starts != -1 {
		t.Errorf("%+v, %v", c, err)
	}
	must(t, s.ClearWrong(ctx, mac), s.SetStarts(ctx, mac, 4))
	if c, err := s.DeviceState(ctx, mac); err != nil || c.Wrong != 0 || c.Starts != 4 {
		t.Errorf("%+v, %v", c, err)
	}
}

func TestFilesAreKeptWholeOrNotAtAll(t *testing.T) {
	dir := t.TempDir()
	records := open(t, dir)
	s, other := at(t, records, "a"), at(t, records, "b")
	big := bytes.Repeat([]byte("0123456789abcdef"), 5<<16) // 5 MiB
	f, err := s.PutFile(ctx, "licence.bin", bytes.NewReader(big), "x")
	must(t, err)
	if want := sha256.Sum256(big); f.Size != int64(len(big)) || f.SHA256 != hex.EncodeToString(want[:]) {
		t.Errorf("%+v", f)
	}
	if _, err := other.PutFile(ctx, "same.bin", bytes.NewReader(big), "x"); err != nil {
		t.Error(err)
	}
	if _, err := s.PutFile(ctx, "licence.bin", io.MultiReader(strings.NewReader("new"),
		iotest.ErrReader(io.ErrUnexpectedEOF)), "x"); err == nil {
		t.Error("half a file was stored")
	}
	if _, err := s.PutFile(ctx, "zeros", zeros{}, "x"); problem.KindOf(err) != problem.Usage ||
		!strings.Contains(err.Error(), "512 MiB") {
		t.Errorf("a file without end: %v", err)
	}
	if _, err := s.PutFile(ctx, "none", strings.NewReader(""), "x"); problem.KindOf(err) != problem.Usage {
		t.Errorf("an empty file: %v", err)
	}
	must(t, records.Close())
	must(t, os.WriteFile(filepath.Join(dir, "files", "taking-in-1"), nil, 0o600))
	records = open(t, dir)
	defer records.Close()
	s, other = at(t, records, "a"), at(t, records, "b")
	again, content, err := s.File(ctx, "licence.bin")
	must(t, err)
	defer content.Close()
	if all, err := io.ReadAll(content); err != nil || !bytes.Equal(all, big) || again.SHA256 != f.SHA256 {
		t.Errorf("%d bytes came back, %v", len(all), err)
	}
	must(t, s.RemoveFile(ctx, "licence.bin"))
	left := func() int {
		list, err := os.ReadDir(filepath.Join(dir, "files"))
		must(t, err)
		return len(list)
	}
	if left() != 1 {
		t.Errorf("%d files in the folder, want the one that the other site has", left())
	}
	if must(t, other.Remove(ctx)); left() != 0 {
		t.Errorf("%d files are left of a site that was removed", left())
	}
	if _, _, err := s.File(ctx, "licence.bin"); problem.KindOf(err) != problem.Missing {
		t.Errorf("a file that is gone: %v", err)
	}
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) { return len(b), nil }

// Undoing goes back step by step, and redoing forward until something else is done.
func TestStepsBackAndForward(t *testing.T) {
	list := []store.Revision{}
	did := func(undoes int64) int64 {
		r := store.Revision{ID: int64(len(list) + 1), Undoes: undoes}
		list = append([]store.Revision{r}, list...)
		return r.ID
	}
	expect := func(what string, undo, redo int64) {
		t.Helper()
		if u, r := store.Steps(list); u != undo || r != redo {
			t.Errorf("%s: undo %d, redo %d, want %d and %d", what, u, r, undo, redo)
		}
	}
	expect("nothing", 0, 0)
	one, two, three := did(0), did(0), did(0)
	expect("three changes", three, 0)
	back3 := did(three)
	expect("one undone", two, back3)
	back2 := did(two)
	expect("two undone", one, back2)
	did(back2)
	expect("one redone", two, back3)
	did(back3)
	expect("all redone", three, 0)
	back3 = did(three)
	expect("undone again", two, back3)
	four := did(0)
	expect("something else", four, 0)
	did(four)
	expect("and undone", two, list[0].ID)
}

func TestUsersAndTokens(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	must(t, s.AddUser(ctx, store.User{Name: "ada", Hash: "h", Rights: "plan"}),
		s.AddUser(ctx, store.User{Name: "bo", Hash: "h", Rights: "look"}),
		s.AddToken(ctx, store.Token{User: "ada", Name: "laptop", Hash: "1"}),
		s.AddToken(ctx, store.Token{User: "bo", Name: "laptop", Hash: "2"}),
		s.AddSession(ctx, store.Session{Hash: "s", User: "ada",
			ExpiresAt: stamp.Time{Time: time.Now().Add(time.Hour)}}))
	if err := s.AddUser(ctx, store.User{Name: "ada"}); problem.KindOf(err) != problem.Conflict {
		t.Errorf("a user twice: %v", err)
	}
	if err := s.AddToken(ctx, store.Token{User: "ada", Name: "laptop",
		Hash: "3"}); problem.KindOf(err) != problem.Conflict {
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
		s.AddSession(ctx, store.Session{Hash: "old", User: "u",
			ExpiresAt: stamp.Time{Time: time.Now().Add(-time.Second)}}),
		s.AddSession(ctx, store.Session{Hash: "new", User: "u",
			ExpiresAt: stamp.Time{Time: time.Now().Add(time.Hour)}}))
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

// Writes that are put into one transaction stand or fall by themselves.
func TestOneWritesMistakeIsNoOthers(t *testing.T) {
	t.Parallel()
	records := open(t, t.TempDir())
	s, err := records.AddSite(ctx, skerry.Data(), "owner")
	must(t, err, add(s, entries(4)))
	var all sync.WaitGroup
	wrong := make([]error, 40)
	for i := range wrong {
		all.Go(func() { // every other one is about an entry that is not there
			wrong[i] = s.SetState(ctx, fmt.Sprintf("T-%02d", i%8), address.MAC{}, state.Attention, fmt.Sprint("by ", i), "owner")
		})
	}
	all.Wait()
	for i, err := range wrong {
		if missing := i%8 >= 4; missing != (err != nil) {
			t.Errorf("%d: %v", i, err)
		}
	}
	list, err := s.Entries(ctx)
	must(t, err)
	for _, e := range list {
		if e.State != state.Attention {
			t.Errorf("%s is %s", e.Tag, e.State)
		}
	}
}

// What the service sees by itself night after night is told once, of the last time; what a person
// looks at is told each time.
func TestWhatIsSeenAgainIsOneLine(t *testing.T) {
	t.Parallel()
	records := open(t, t.TempDir())
	s, err := records.AddSite(ctx, skerry.Data(), "owner")
	mac := address.MAC{2, 0, 0, 0, 0, 1}
	must(t, err, add(s, entries(1)), match(s, "T-00", mac))
	before, err := s.History(ctx, "T-00")
	must(t, err)
	look := func(who, to string) { must(t, s.SetChecks(ctx, "T-00", mac, nil, to, "", who)) }
	for _, c := range []struct {
		who, to string
		lines   int
	}{{store.TheService, state.Verified, 1}, {store.TheService, state.Verified, 1}, {store.TheService, state.Configured, 2},
		{store.TheService, state.Verified, 3}, {store.TheService, state.Verified, 3}, {"ida", state.Verified, 4}, {"ida", state.Verified, 5}} {
		look(c.who, c.to)
		now, err := s.History(ctx, "T-00")
		must(t, err)
		if len(now)-len(before) != c.lines {
			t.Errorf("after %s saw that it is %s: %d lines, want %d", c.who, c.to, len(now)-len(before), c.lines)
		}
	}
}

// A restart counts until the next write, also when our clock was set back in between.
func TestAWriteEndsWhatARestartShowed(t *testing.T) {
	s, err := store.Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	mac := address.MAC{2, 0, 0, 0, 0, 1}
	fast, right := stamp.Time{Time: time.Now().Add(time.Hour)}, stamp.Now()
	for _, c := range []store.DeviceState{
		{MAC: mac, ChangedAt: fast}, {MAC: mac, RestartedAt: stamp.Time{Time: fast.Add(time.Second)}, Evidence: "silent for 2 s"},
		{MAC: mac, ChangedAt: right},
	} {
		if err := s.SetDeviceState(t.Context(), c); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := s.DeviceState(t.Context(), mac); err != nil || !got.RestartedAt.IsZero() || got.Evidence != "" ||
		!got.ChangedAt.Equal(right.Time) || got.Written.IsZero() {
		t.Errorf("%+v, %v", got, err)
	}
}
