package task_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"redstart/internal/core/plan"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/all"
	"redstart/internal/sim/model/fs8"
	"redstart/internal/sim/skerry"
	"redstart/internal/store"
	"redstart/internal/task"
	"redstart/internal/task/tasktest"
	"redstart/internal/vault"
)

// quick has boxes restart ten times as fast as they do.
const quick = 0.1

// work does all tasks of one entry in their order, as a run would, and a person's part with it.
func work(ctx context.Context, x *tasktest.Terminal, run store.RunDevice) (said map[string]string, err error) {
	parked := func(_ context.Context, h profile.Hand) (*task.Parking, error) {
		done := make(chan task.Word, 1) // what the segment shows by itself needs no word
		if h.Terms != "" {
			done <- task.Word{Who: "Ida Holm"}
		} else if !x.Hand(run.Tag, h.Do) {
			return nil, fmt.Errorf("nobody can %q", h.Do)
		}
		return &task.Parking{Since: time.Now(), Watched: time.Now(), Done: done, Back: func(context.Context) error { return nil }}, nil
	}
	b, err := task.With(x.Tools(parked), run, "run 1")
	if err != nil {
		return nil, err
	}
	defer b.HangUp()
	if err := b.GoOn(ctx, map[string]store.Line{}); err != nil {
		return nil, err
	}
	said = map[string]string{}
	for _, s := range task.Steps(b.Profile(), run.Given, procedure.Login{}) {
		if said[s.Name], err = b.Do(ctx, s); err != nil {
			b.LookAgain(ctx)
			return said, errors.New(b.Explain(err))
		}
	}
	return said, b.Sighted(ctx, true)
}

// given is one device of a run over an entry.
func given(x *tasktest.Terminal, tag string) store.RunDevice {
	e, _ := x.Entry(context.Background(), tag)
	r := x.Plan.Resolve()
	return store.RunDevice{Run: 1, Tag: tag, MAC: e.Device, Profile: e.Profile, Serial: e.Serial, Line: x.Lines[tag],
		Given: procedure.For(r, e.Entry, x.Plan.Profiles[e.Profile])}
}

// Every model is set by its tasks alone, with records that are no more than a memory: it has what
// was planned in force and kept, and a login of its own that was stored before it was sent.
func TestTasksSetEveryModel(t *testing.T) {
	t.Parallel()
	x := tasktest.Find(t, skerry.Options{Devices: len(all.Stock), Every: true, Seed: 17, Pace: quick})
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute)
	defer cancel()
	// What hands out addresses comes before those that wait for one, and a camera before what shows it.
	left := x.Tags()
	for _, first := range [][]string{x.Tags("FS5"), x.Tags("FS8", "FS24", "C20", "C31"), nil} {
		var now []string
		if first == nil {
			now, left = left, nil
		}
		for _, tag := range first {
			for i, l := range left {
				if l == tag {
					now, left = append(now, tag), append(left[:i:i], left[i+1:]...)
					break
				}
			}
		}
		var all sync.WaitGroup
		for _, tag := range now {
			all.Go(func() {
				if said, err := work(ctx, x, given(x, tag)); err != nil {
					t.Errorf("%s, %s: %v; so far %v", tag, x.Box(tag).Model.Name, err, said)
				}
			})
		}
		all.Wait()
	}
	for _, e := range x.Plan.Entries {
		b, p := x.Box(e.Tag), x.Plan.Profiles[e.Profile]
		for where, s := range map[string]box.Settings{"in force": b.Running(), "kept": b.Saved()} {
			if s.Address.Addr() != e.Address || p.Name.Max > 0 && s.Name != e.Name {
				t.Errorf("%s, %s: %s: %s, %q, want %s, %q", e.Tag, b.Model.Name, where, s.Address, s.Name, e.Address, e.Name)
			}
		}
		logins, _ := x.Logins(ctx, b.MAC)
		if len(p.Acts[profile.Password]) > 0 && (len(logins) == 0 || logins[0].State != state.Accepted ||
			b.Running().Password != logins[0].Password) {
			t.Errorf("%s, %s: it has %q, stored are %+v", e.Tag, b.Model.Name, b.Running().Password, logins)
		}
		if known, _ := x.DeviceState(ctx, b.MAC); known.ChangedAt.IsZero() {
			t.Errorf("%s: nobody knows when it was written to", e.Tag)
		}
	}
}

// What fails is told with where the box is and what to do, and ours is told from the box's.
func TestWhatFailsIsToldWithWhereItIs(t *testing.T) {
	t.Parallel()
	x := tasktest.Find(t, skerry.Options{Devices: 2, Only: "C20", Seed: 18, Pace: quick})
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	tags := x.Tags()
	full := fmt.Errorf("no room: %w", store.ErrUnwritable)
	x.Fails = func(what string) error {
		if what == "Put" {
			return full
		}
		return nil
	}
	_, err := work(ctx, x, given(x, tags[0]))
	if err == nil || !strings.Contains(err.Error(), "no room") || !strings.Contains(err.Error(), "It was last seen at") {
		t.Errorf("%v", err)
	}
	if b := x.Box(tags[0]); b.Running().Password != b.Factory.Password {
		t.Error("it was given a password that nobody keeps")
	}
	if !task.Ours(full) || task.Ours(errors.New("it refused")) {
		t.Error("ours are not told from the box's")
	}
	x.Fails = nil
	wrong := given(x, tags[1])
	wrong.Serial = "C20-000000"
	if _, err := work(ctx, x, wrong); err == nil || !strings.Contains(err.Error(), "serial") {
		t.Errorf("another box was set: %v", err)
	}
	if b := x.Box(tags[1]); b.Running().Name != b.Factory.Name {
		t.Error("the wrong box was written to")
	}
	if _, err := task.With(x.Tools(nil), store.RunDevice{Tag: "A", Profile: "nobody's"}, "run 1"); err == nil {
		t.Error("a device without a profile was begun")
	}
}

// A box that is run once more keeps what is as planned; one that is to have another password gets
// it through the one that it has; a policy says which that is.
func TestOnceMore(t *testing.T) {
	t.Parallel()
	x := tasktest.Find(t, skerry.Options{Devices: 3, Only: "C20", Seed: 19, Pace: quick})
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	for _, tag := range x.Tags() {
		if _, err := work(ctx, x, given(x, tag)); err != nil {
			t.Fatal(err)
		}
	}
	tags := x.Tags()
	password := func(tag string) string { return x.Box(tag).Running().Password }
	was := map[string]string{}
	for _, tag := range tags {
		was[tag] = password(tag)
	}
	if said, err := work(ctx, x, given(x, tags[0])); err != nil || password(tags[0]) != was[tags[0]] {
		t.Errorf("it was given another password, %v; %v", said, err)
	}
	fresh := given(x, tags[0])
	fresh.FreshSince = stamp.Now()
	if said, err := work(ctx, x, fresh); err != nil || password(tags[0]) == was[tags[0]] {
		t.Errorf("it was given no other password, %v; %v", said, err)
	}
	x.Plan.Site.Policies = []plan.Policy{{Mode: plan.OneKind, Users: plan.KeepUser}}
	for _, tag := range tags[1:] {
		if said, err := work(ctx, x, given(x, tag)); err != nil {
			t.Errorf("%v; %v", said, err)
		}
	}
	if password(tags[1]) != password(tags[2]) || password(tags[1]) == was[tags[1]] {
		t.Error("they do not share one")
	}
	x.AddSecret("vault:given", "CameraQuay88x")
	x.Plan.Site.Policies = []plan.Policy{{Mode: plan.Given, Users: plan.KeepUser, Given: "vault:given"}}
	if said, err := work(ctx, x, given(x, tags[2])); err != nil || password(tags[2]) != "CameraQuay88x" {
		t.Errorf("it has %q: %v; %v", password(tags[2]), said, err)
	}
	x.Plan.Site.Policies[0].Given = "vault:gone"
	if _, err := work(ctx, x, given(x, tags[1])); err == nil || !strings.Contains(err.Error(), "not in the vault") {
		t.Errorf("%v", err)
	}
}

// What is wrong with a box is said of that box: what happened, where it is, what to do.
func TestTroubledBoxes(t *testing.T) {
	t.Parallel()
	troubles := []struct {
		has  box.Faults
		says string
	}{
		{box.Faults{RefusesPassword: true}, "password: "},
		{box.Faults{OldAddress: true}, "return after address: "},
		{box.Faults{NeverReturns: true}, "It is not on the segment"},
		{box.Faults{Locked: true}, "password: "},
		{box.Faults{OtherSerial: true}, "confirm: "},
		{box.Faults{Pretends: true}, "return after address: "},
	}
	broken := map[int]box.Faults{}
	for i, c := range troubles {
		broken[i] = c.has
	}
	x := tasktest.Find(t, skerry.Options{Devices: len(troubles), Only: "C20", Seed: 20, Pace: quick, Broken: broken})
	for id, p := range x.Plan.Profiles {
		hurried := *p // a box that does not come back is not waited for as long as a real one
		hurried.Restart.AtMost = profile.Duration(4 * time.Second)
		x.Plan.Profiles[id] = &hurried
	}
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	var all sync.WaitGroup
	for i, tag := range x.Tags() {
		all.Go(func() {
			said, err := work(ctx, x, given(x, tag))
			if err == nil || !strings.Contains(err.Error(), troubles[i].says) {
				t.Errorf("%+v: %v, want %q; so far %v", troubles[i].has, err, troubles[i].says, said)
			}
		})
	}
	all.Wait()
}

// Firmware is sent where an older one is told, and only with the content of then.
func TestFirmware(t *testing.T) {
	t.Parallel()
	x := tasktest.Find(t, skerry.Options{Devices: 2, Only: "FS8", Seed: 21, Pace: quick, Broken: map[int]box.Faults{0: {OldFirmware: true}, 1: {OldFirmware: true}}})
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	path := filepath.Join(t.TempDir(), "fs8.bin")
	if err := os.WriteFile(path, []byte(fs8.File("2.6.0")), 0o600); err != nil {
		t.Fatal(err)
	}
	tags := x.Tags()
	x.AddFile("fs8.bin", path)
	x.Plan.Known.Files = map[string]string{"fs8.bin": "fs8.bin"} // the sum of then
	x.Want(tags[0], profile.FirmwareAsked, "2.6.0")
	if _, err := work(ctx, x, given(x, tags[0])); err == nil || !strings.Contains(err.Error(), "2.6.0 is asked for") {
		t.Errorf("without a file: %v", err)
	}
	x.Want(tags[0], profile.FirmwareFile, "fs8.bin")
	if said, err := work(ctx, x, given(x, tags[0])); err != nil || !strings.Contains(said[string(profile.Firmware)], "it had") {
		t.Errorf("%v; %v", said, err)
	}
	x.Want(tags[1], profile.FirmwareAsked, "2.6.0")
	x.Want(tags[1], profile.FirmwareFile, "fs8.bin")
	changed := given(x, tags[1])
	changed.Given.Files[profile.FirmwareFile] = "another"
	if _, err := work(ctx, x, changed); err == nil || !strings.Contains(err.Error(), "was changed since the run began") {
		t.Errorf("with another content: %v", err)
	}
}

// orders gives a profile of the terminal other stages than its own, before or after them.
func orders(x *tasktest.Terminal, id string, first, last []profile.Stage) {
	p := *x.Plan.Profiles[id]
	p.Order = slices.Concat(first, p.Order, last)
	x.Plan.Profiles[id] = &p
}

// What a person does is believed when the segment shows it: a restart by the up-time that the box
// tells.
func TestASwitchingOffShowsItself(t *testing.T) {
	t.Parallel()
	x := tasktest.Find(t, skerry.Options{Devices: 1, Only: "C20", Seed: 22, Pace: quick})
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	tag := x.Tags()[0]
	orders(x, x.Entries(tag)[0].Profile, nil, []profile.Stage{{Act: "by hand",
		ByHand: &profile.Hand{Do: "Switch it off and on", ShownBy: profile.ShownByRestart}}})
	if said, err := work(ctx, x, given(x, tag)); err != nil || !strings.Contains(said["by hand"], "switched off and on") {
		t.Errorf("%v; %v", err, said)
	}
}

// A run that goes on finds that a box has everything and restarted since; or that it does not.
func TestWhatIsSettledAlready(t *testing.T) {
	t.Parallel()
	x := tasktest.Find(t, skerry.Options{Devices: 1, Only: "FS8", Seed: 23, Pace: quick})
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	tag := x.Tags()[0]
	run := given(x, tag)
	if _, err := work(ctx, x, run); err != nil {
		t.Fatal(err)
	}
	settled := func() string {
		b, err := task.With(x.Tools(nil), run, "run 2")
		if err != nil {
			t.Fatal(err)
		}
		defer b.HangUp()
		if err := b.GoOn(ctx, map[string]store.Line{"name": {Phase: state.Done}}); err != nil {
			t.Fatal(err)
		}
		steps := task.Steps(b.Profile(), run.Given, procedure.Login{})
		for _, s := range steps[:slices.IndexFunc(steps, func(s task.Step) bool { return s.Name == task.Confirm })+1] {
			if !s.Looks() || s.Waits() {
				t.Errorf("%s writes, or waits", s.Name)
			}
			if _, err := b.Do(ctx, s); err != nil {
				t.Fatal(err)
			}
		}
		how, err := b.Settled(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if err := b.NoteHostID(ctx); err != nil {
			t.Fatal(err)
		}
		return how
	}
	if how := settled(); how == "" {
		t.Error("it has everything, and restarted since it was written to")
	}
	x.Box(tag).Change(func(s *box.Settings) { s.Name = "other" })
	if how := settled(); how != "" {
		t.Errorf("it has another name: %s", how)
	}
}

// A box takes the password that a run had sent before it was cut off only while the next run tries
// the logins, the new one first: it is opened all the same, and by that one.
func TestAPasswordThatIsTakenLate(t *testing.T) {
	t.Parallel()
	x := tasktest.Find(t, skerry.Options{Devices: 1, Only: "C20", Seed: 30, Pace: quick})
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	run := given(x, x.Tags()[0])
	const sent = "Kittiwake-late-7"
	user := x.Plan.Profiles[run.Profile].User
	if err := x.Put(ctx, vault.New{MAC: run.MAC, Login: profile.Login{User: user, Password: sent}, State: state.Pending, Origin: "run 1"}); err != nil {
		t.Fatal(err)
	}
	refused := 0
	x.Fails = func(what string) error {
		if what == "SetCredential" {
			if refused++; refused == 1 {
				taken := func(s *box.Settings) { s.Password = sent }
				x.Box(run.Tag).Change(taken)
				x.Box(run.Tag).Store(taken)
			}
		}
		return nil
	}
	b, err := task.With(x.Tools(nil), run, "run 1")
	if err != nil {
		t.Fatal(err)
	}
	defer b.HangUp()
	if err := b.GoOn(ctx, map[string]store.Line{string(profile.Password): {Phase: state.Begun}}); err != nil {
		t.Fatal(err)
	}
	for _, s := range task.Steps(b.Profile(), run.Given, procedure.Login{}) {
		if s.Name == string(profile.Name) {
			break
		}
		if _, err := b.Do(ctx, s); err != nil {
			t.Fatal(s.Name, err)
		}
	}
	logins, err := x.Logins(ctx, run.MAC)
	if err != nil || refused == 0 || len(logins) != 1 || logins[0].State != state.Accepted || x.Box(run.Tag).Running().Password != sent {
		t.Errorf("refused %d times; %+v, %v; the box has %q", refused, logins, err, x.Box(run.Tag).Running().Password)
	}
}
