package jobs_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/match"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/pages"
	"redstart/internal/sim/box"
	"redstart/internal/sim/skerry"
	"redstart/internal/site/sitetest"
)

// eventually waits, by the events of the site, until something is so.
func eventually(r *sitetest.Rig, what string, is func() bool) {
	r.T.Helper()
	ctx, cancel := context.WithTimeout(r.T.Context(), time.Minute)
	defer cancel()
	heard, _ := r.Service.Events.Subscribe(r.Records.Key, "")
	defer r.Service.Events.Leave(heard)
	for !is() {
		select {
		case <-heard:
		case <-ctx.Done():
			r.T.Fatalf("it never came to: %s", what)
		}
	}
}

// The whole job by its stages: found, matched, set and verified, with what each tells meanwhile.
func TestFindMatchCommissionVerify(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 6, Only: "C20", Seed: 41})
	ctx := t.Context()
	r.Matched()
	seg, err := r.Jobs.Devices(ctx)
	r.Must(err)
	if len(seg.Devices) != 6 || !seg.Surveyed || seg.Name != "simulated site" {
		t.Fatalf("%d devices on %s", len(seg.Devices), seg.Name)
	}
	surveys, err := r.Jobs.Surveys(ctx)
	if err != nil || len(surveys) != 1 || surveys[0].Found != 6 {
		t.Errorf("%+v, %v", surveys, err)
	}
	if _, err := r.Jobs.LatestRun(ctx); problem.KindOf(err) != problem.Missing {
		t.Errorf("before the first run: %v", err)
	}
	tags := r.Tags()
	rehearsal, _, err := r.Jobs.Rehearse(ctx, api.RunOptions{Chosen: api.Chosen{All: true}})
	if err != nil || len(rehearsal.Devices) != 6 || len(rehearsal.Left) != 0 {
		t.Fatalf("%+v, %v", rehearsal.Left, err)
	}
	r.Work(r.Jobs.Commission(ctx, "owner", api.RunOptions{Chosen: api.Chosen{All: true}, Capture: true}))
	run, err := r.Jobs.LatestRun(ctx)
	if err != nil || run.State != state.Done || len(run.Devices) != 6 {
		t.Fatalf("%+v, %v", run, err)
	}
	if _, err := r.Jobs.Commission(ctx, "owner", api.RunOptions{Chosen: api.Chosen{All: true}}); problem.KindOf(err) != problem.Conflict {
		t.Errorf("with everything set: %v", err)
	}
	if _, err := r.Jobs.Resume(ctx, run.ID, "owner"); problem.KindOf(err) != problem.Conflict {
		t.Errorf("a run that was not cut off goes on: %v", err)
	}
	if err := r.Jobs.GiveUp(ctx, run.ID, "owner"); problem.KindOf(err) != problem.Conflict {
		t.Errorf("a run that is done is given up: %v", err)
	}
	r.Work(r.Jobs.Verify(ctx, "owner", api.VerifyOptions{Chosen: api.Chosen{All: true}}))
	for tag, e := range r.Entries() {
		if e.State != state.Verified {
			t.Errorf("%s is %s: %s", tag, e.State, e.Reason)
		}
	}
	kept, err := r.Jobs.Captures(ctx)
	if err != nil || len(kept) != 1 {
		t.Fatalf("%+v, %v", kept, err)
	}
	sealed := api.SealTo{Passphrase: "a long enough passphrase"}
	out, err := r.Jobs.HandPackets(ctx, kept[0].ID, api.PacketsFor{SealTo: sealed, Tags: tags[:1]}, "owner")
	if err != nil || len(out.Content) == 0 {
		t.Errorf("%d bytes, %v", len(out.Content), err)
	}
	if files, err := r.Jobs.CaptureFiles(ctx); err != nil || len(files) != 1 {
		t.Errorf("%v, %v", files, err)
	}
	r.Must(r.Jobs.ForgetCapture(ctx, kept[0].ID))
	// New passwords for one; then its login is forgotten here and learnt again.
	r.Work(r.Jobs.Commission(ctx, "owner", api.RunOptions{Chosen: api.Chosen{Tags: tags[:1]}, Fresh: true}))
	for _, b := range r.Terminal.Boxes {
		if b.MAC == r.Entries()[tags[0]].Device {
			learned, err := r.Jobs.LearnCredentials(ctx, []byte("tag,user,password\n"+tags[0]+",operator,"+b.Running().Password+"\n"), "owner")
			if err != nil || learned.Stored != 1 || learned.Accepted != 1 {
				t.Errorf("%+v, %v", learned, err)
			}
		}
	}
	if _, err := r.Jobs.LearnCredentials(ctx, []byte("tag,user,password\nNOBODY,u,p\n"), "owner"); problem.KindOf(err) != problem.Usage {
		t.Errorf("a login of nobody: %v", err)
	}
	for _, format := range []string{"csv", "xlsx", "json"} {
		if file, err := r.Jobs.ExportDevices(ctx, format); err != nil || len(file.Content) == 0 {
			t.Errorf("%s: %v", format, err)
		}
	}
	if _, err := r.Jobs.ExportDevices(ctx, "txt"); problem.KindOf(err) != problem.Usage {
		t.Errorf("%v", err)
	}
}

// What a person decides about matches: by hand, by label, undone, locked, another box instead,
// or the box becomes an entry.
func TestWhatAPersonSaysOfMatches(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 6, Only: "C20", Seed: 42})
	ctx := t.Context()
	r.Import("")
	r.Find()
	boxes, tags := r.Terminal.Boxes, r.Tags()
	match1 := func(i, b int) error {
		return r.Jobs.Match(ctx, tags[i], boxes[b].MAC, match.ByHand, "chosen", "owner")
	}
	r.Must(match1(0, 0))
	if err := match1(1, 0); problem.KindOf(err) != problem.Conflict {
		t.Errorf("one box for two: %v", err)
	}
	if err := r.Jobs.Match(ctx, tags[1], address.MAC{2, 9, 9, 9, 9, 9}, match.ByHand, "chosen", "owner"); problem.KindOf(err) != problem.Missing {
		t.Errorf("a box that nobody found: %v", err)
	}
	scan := func(text, tag string) api.Scanned {
		out, err := r.Jobs.Scanned(ctx, api.Scan{Text: text, Tag: tag}, "owner")
		r.Must(err)
		return out
	}
	if out := scan(tags[1], ""); out.Outcome != api.ScanEntry || out.Tag != tags[1] {
		t.Errorf("%+v", out)
	}
	if out := scan(boxes[1].MAC.String(), tags[1]); out.Outcome != api.ScanMatched || r.Entries()[tags[1]].Device != boxes[1].MAC {
		t.Errorf("%+v", out)
	}
	if out := scan(boxes[2].Label, ""); out.Outcome != api.ScanDevice || out.Device.MAC != boxes[2].MAC {
		t.Errorf("%+v", out)
	}
	if out := scan("C20-ABSENT-1", tags[2]); out.Outcome != api.ScanNoted || r.Entries()[tags[2]].Serial == "" {
		t.Errorf("%+v", out)
	}
	r.Must(r.Jobs.Lock(ctx, api.Locking{Tags: tags[:1], Locked: true}, "owner"))
	if _, err := r.Jobs.UndoMatches(ctx, api.Undo{Tags: tags[:1]}, "owner"); problem.KindOf(err) != problem.Conflict {
		t.Errorf("a locked match is undone: %v", err)
	}
	undone, err := r.Jobs.UndoMatches(ctx, api.Undo{Tags: tags[1:2]}, "owner")
	if err != nil || len(undone) != 1 || undone[0] != tags[1] {
		t.Errorf("%v, %v", undone, err)
	}
	for _, wrong := range []api.Undo{{}, {Reasons: []string{"the moon"}}, {Tags: []string{tags[3]}}} {
		if _, err := r.Jobs.UndoMatches(ctx, wrong, "owner"); err == nil {
			t.Errorf("%+v was undone", wrong)
		}
	}
	replaced, err := r.Jobs.Replace(ctx, tags[0], api.Replacement{MAC: boxes[3].MAC}, "owner")
	if err != nil || replaced.Old != boxes[0].MAC || r.Entries()[tags[0]].Device != boxes[3].MAC {
		t.Errorf("%+v, %v", replaced, err)
	}
	if _, err := r.Jobs.Replace(ctx, tags[0], api.Replacement{}, "owner"); problem.KindOf(err) != problem.Conflict {
		t.Errorf("several are fresh: %v", err)
	}
	adopted, err := r.Jobs.Adopt(ctx, api.Adoption{MACs: []address.MAC{boxes[0].MAC}, Tag: "NEW-1", Area: "QUAY"}, false, "owner")
	if err != nil || len(adopted.Comparison.Added) != 1 || r.Entries()["NEW-1"].Device != boxes[0].MAC {
		t.Errorf("%+v, %v", adopted, err)
	}
	if _, err := r.Jobs.Adopt(ctx, api.Adoption{}, false, "owner"); problem.KindOf(err) != problem.Usage {
		t.Errorf("%v", err)
	}
	if err := r.Jobs.Forget(ctx, []address.MAC{boxes[0].MAC}); err == nil {
		t.Error("a matched box is forgotten")
	}
	r.Must(r.Jobs.Forget(ctx, []address.MAC{boxes[5].MAC}))
	if v, err := r.Jobs.Choose(ctx, boxes[4].MAC, api.Choice{Profile: "ovalis-c31"}); err != nil || v.Profile != "ovalis-c31" {
		t.Errorf("%v", err)
	}
	if err := match1(4, 4); problem.KindOf(err) != problem.Conflict || !strings.Contains(err.Error(), "the plan says") {
		t.Errorf("a box of another model: %v", err)
	}
	if _, err := r.Jobs.Accept(ctx, api.Acceptance{}, "owner"); problem.KindOf(err) != problem.Usage {
		t.Errorf("%v", err)
	}
	if _, err := r.Jobs.Accept(ctx, api.Acceptance{Tags: []string{tags[0]}}, "owner"); problem.KindOf(err) != problem.Conflict {
		t.Errorf("%v", err)
	}
	if err := r.Jobs.Blink(ctx, boxes[0].MAC); problem.KindOf(err) != problem.Conflict {
		t.Errorf("a camera blinks: %v", err)
	}
}

// Whoever comes and goes is told while the segment is watched.
func TestAWatchTellsWhoComesAndGoes(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 3, Only: "C20", Seed: 43})
	ctx := t.Context()
	r.Must(r.Jobs.Watch(ctx, true), r.Jobs.Watch(ctx, true))
	here := func() (n int) {
		seg, err := r.Jobs.Devices(ctx)
		r.Must(err)
		for _, d := range seg.Devices {
			if d.Here {
				n++
			}
		}
		return n
	}
	r.Find()
	eventually(r, "all three", func() bool { return here() == 3 })
	r.Terminal.Boxes[0].SetFaults(box.Faults{NeverReturns: true})
	r.Terminal.Boxes[0].Restart()
	eventually(r, "one went", func() bool { return here() == 2 })
	r.Terminal.Plug(r.Terminal.Boxes[0])
	eventually(r, "it came back", func() bool { return here() == 3 })
	r.Must(r.Jobs.Watch(ctx, false))
	if seg, err := r.Jobs.Devices(ctx); err != nil || seg.Watched {
		t.Errorf("it is watched: %v", err)
	}
}

// Boxes that wait for an address over DHCP are told, and get the planned one.
func TestHandingOutAddresses(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 2, Only: "M9", Seed: 44})
	ctx := t.Context()
	r.Must(r.Jobs.Watch(ctx, true))
	eventually(r, "both ask", func() bool {
		list, err := r.Jobs.Askers(ctx)
		r.Must(err)
		return len(list) == 2
	})
	if _, err := r.Jobs.HandOut(ctx, "owner", api.HandOut{Chosen: api.Chosen{All: true}}); problem.KindOf(err) != problem.Conflict {
		t.Errorf("nobody is matched: %v", err)
	}
	r.Import("")
	_, err := r.Jobs.Accept(ctx, api.Acceptance{Reasons: match.Reasons}, "owner")
	r.Must(err)
	r.Work(r.Jobs.HandOut(ctx, "owner", api.HandOut{Chosen: api.Chosen{All: true}}))
	for tag, e := range r.Entries() {
		d, err := r.Plan.Device(ctx, e.Device)
		if err != nil || d.AddressNow() != e.Address {
			t.Errorf("%s is at %v, %v", tag, d, err)
		}
	}
}

// A profile is tried with one box, and each move is told.
func TestATrial(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 1, Only: "C20", Seed: 45})
	ctx := t.Context()
	r.Import("")
	r.Find()
	mac := r.Terminal.Boxes[0].MAC
	out, err := r.Jobs.Try(ctx, mac, api.Trial{Profile: "ovalis-c20", Acts: []string{"identify", "sign-in", "password", "name", "read"},
		Values: map[string]string{"name": "tried"}}, "owner")
	if err != nil || out.Error != "" || len(out.Done) != 5 || len(out.Exchanges) == 0 {
		t.Errorf("%+v, %v", out, err)
	}
	if r.Terminal.Boxes[0].Running().Name != "tried" {
		t.Error("it has another name")
	}
	if out, err := r.Jobs.Try(ctx, mac, api.Trial{Profile: "ovalis-c20", Acts: []string{"fly"}}, "owner"); err != nil || out.Error == "" {
		t.Errorf("%+v, %v", out, err)
	}
	if _, err := r.Jobs.Try(ctx, mac, api.Trial{Profile: "nobody's", Acts: []string{"read"}}, "owner"); problem.KindOf(err) != problem.Missing {
		t.Errorf("%v", err)
	}
}

// A run that waits for a hand is told what was done; one that is stopped leaves it.
func TestHands(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 19, Every: true, Seed: 46})
	ctx := t.Context()
	r.Matched()
	var tag string
	for _, e := range r.Entries() {
		if e.Profile == "fennmark-fs5" {
			tag = e.Tag
		}
	}
	started, err := r.Jobs.Commission(ctx, "owner", api.RunOptions{Chosen: api.Chosen{Tags: []string{tag}}})
	r.Must(err)
	var hand api.HandTask
	eventually(r, "it waits for a hand", func() bool {
		list, err := r.Jobs.Hands(ctx)
		r.Must(err)
		if len(list.Tasks) > 0 && list.Tasks[0].Open {
			hand = list.Tasks[0]
		}
		return hand.Tag == tag
	})
	if runs, err := r.Jobs.OpenRuns(ctx); err != nil || len(runs) != 1 || runs[0].ID != hand.Run {
		t.Errorf("%+v, %v", runs, err)
	}
	r.Must(r.Jobs.TakeHands(ctx, hand.Run, api.TakeHands{Tags: []string{tag}}, "ida"))
	if run, err := r.Jobs.Run(ctx, hand.Run); err != nil || run.Devices[0].Hand.Who != "ida" {
		t.Errorf("%+v, %v", run, err)
	}
	for _, wrong := range []api.Hands{{}, {Tags: []string{tag}, Accept: true}} {
		if err := r.Jobs.Did(ctx, hand.Run, wrong, "ida"); err == nil {
			t.Errorf("%+v was done", wrong)
		}
	}
	for _, b := range r.Terminal.Boxes {
		if b.MAC == hand.MAC {
			b.Hand(hand.Do)
		}
	}
	r.Work(started, nil)
	if e := r.Entries()[tag]; e.State != state.Configured {
		t.Errorf("%s is %s: %s", tag, e.State, e.Reason)
	}
}

// A cable that is pulled interrupts a run and a watch; both go on when it is back.
func TestACutRunGoesOnByItself(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 19, Every: true, Seed: 47})
	ctx := t.Context()
	r.Matched()
	r.Must(r.Jobs.Watch(ctx, true))
	var tag string
	for _, e := range r.Entries() {
		if e.Profile == "fennmark-fs5" {
			tag = e.Tag
		}
	}
	_, err := r.Jobs.Commission(ctx, "owner", api.RunOptions{Chosen: api.Chosen{Tags: []string{tag}}})
	r.Must(err)
	waits := func() bool {
		list, err := r.Jobs.Hands(ctx)
		r.Must(err)
		return len(list.Tasks) > 0 && list.Tasks[0].Open
	}
	eventually(r, "it waits for a hand", waits)
	list, err := r.Jobs.Hands(ctx)
	r.Must(err, r.Wire.Close())
	works := func() (under, cut int) {
		for _, a := range r.Service.Works.List() {
			switch {
			case a.Kind != api.Commissioning:
			case a.State == state.Running:
				under++
			case a.State == state.Interrupted:
				cut++
			}
		}
		return under, cut
	}
	eventually(r, "it was cut off and goes on", func() bool { under, cut := works(); return under == 1 && cut == 1 })
	for _, b := range r.Terminal.Boxes {
		if b.MAC == list.Tasks[0].MAC {
			b.Hand(list.Tasks[0].Do)
		}
	}
	eventually(r, "it is set", func() bool { return r.Entries()[tag].State == state.Configured })
	eventually(r, "it is watched", func() bool { seg, err := r.Jobs.Devices(ctx); return err == nil && seg.Watched })
	eventually(r, "nothing is under way", func() bool { under, _ := works(); return under == 0 })
	r.Must(r.Service.Segments.Unplug("simulated site"))
	if err := r.Jobs.May(false); problem.KindOf(err) != problem.Machine {
		t.Errorf("unplugged: %v", err)
	}
}

// Surveys tell what changed between them, keep their packets where that is asked for, and ask
// for ranges besides the plan.
func TestSurveysTellWhatChanged(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 3, Every: true, Seed: 48})
	ctx := t.Context()
	if _, err := r.Jobs.Find(ctx, "owner", api.FindOptions{Pace: -1}); problem.KindOf(err) != problem.Usage {
		t.Errorf("%v", err)
	}
	for _, wrong := range []string{"10.0.0.0/8", "the quay", "10.9.0.9-10.9.0.1"} {
		if _, err := r.Jobs.Find(ctx, "owner", api.FindOptions{Ranges: []string{wrong}}); problem.KindOf(err) != problem.Usage {
			t.Errorf("%q: %v", wrong, err)
		}
	}
	r.Work(r.Jobs.Find(ctx, "owner", api.FindOptions{Ranges: []string{"10.77.0.0/28", "10.78.0.1-10.78.0.9", "10.79.0.7/32"}, Capture: true}))
	adopted, err := r.Jobs.Adopt(ctx, api.Adoption{All: true}, false, "owner")
	if err != nil || len(adopted.Comparison.Added) != 3 {
		t.Fatalf("%+v, %v", adopted, err)
	}
	gone := r.Terminal.Boxes[0]
	gone.SetFaults(box.Faults{NeverReturns: true})
	gone.Restart()
	a := r.Work(r.Jobs.Find(ctx, "owner", api.FindOptions{LookOnly: true}))
	if !strings.Contains(a.Text, "1 gone") {
		t.Errorf("%s", a.Text)
	}
	list, err := r.Jobs.Surveys(ctx)
	r.Must(err)
	packets, err := r.Jobs.Capture(ctx, list[1].ID)
	if err != nil || len(packets.Content) == 0 {
		t.Errorf("%d bytes, %v", len(packets.Content), err)
	}
	if _, err := r.Jobs.Capture(ctx, list[0].ID); problem.KindOf(err) != problem.Missing {
		t.Errorf("%v", err)
	}
	if _, err := r.Jobs.SetByHand(ctx, api.Chosen{All: true}, "owner"); problem.KindOf(err) != problem.Conflict {
		t.Errorf("a run can set them all: %v", err)
	}
}

// What a box has is kept as a file of the site, and its page is opened by its MAC.
func TestConfigurationAndPage(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 2, Only: "FS24", Seed: 49})
	ctx := t.Context()
	r.Matched()
	tag := r.Tags()[0]
	if _, err := r.Jobs.KeepConfiguration(ctx, tag, "", "owner"); err == nil {
		t.Error("a box that nobody can sign in to gave its configuration")
	}
	r.Work(r.Jobs.Commission(ctx, "owner", api.RunOptions{Chosen: api.Chosen{Tags: []string{tag}}}))
	kept, err := r.Jobs.KeepConfiguration(ctx, tag, "core.configuration", "owner")
	if err != nil || kept.Size == 0 || kept.Profile != "fennmark-fs24" {
		t.Errorf("%+v, %v", kept, err)
	}
	mac := r.Entries()[tag].Device
	page, err := r.Jobs.OpenPage(ctx, mac, pages.Guest{May: func(context.Context) bool { return true },
		Changed: func() <-chan struct{} { return nil }}, "127.0.0.1:80")
	if err != nil || page.URL == "" {
		t.Errorf("%+v, %v", page, err)
	}
	r.Jobs.ClosePage(mac)
	if _, err := r.Jobs.OpenPage(ctx, address.MAC{2, 9, 9, 9, 9, 9}, pages.Guest{}, "127.0.0.1:80"); problem.KindOf(err) != problem.Missing {
		t.Errorf("%v", err)
	}
}

// Cards of sensors are dealt out to what hangs behind a gateway.
func TestCardsAreDealtOut(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 1, Only: "W1", Seed: 50})
	ctx := t.Context()
	r.Import("tag,kind,profile,behind,name,address\nRAD,radio gateway,tidewell-w1,,RAD,10.40.9.9\nSEN-1,sensor,tidewell-s3,RAD,,\nSEN-2,sensor,tidewell-s3,RAD,,\n")
	card := "LW:D0:70B3D57ED0000001:70B3D57ED0001001:00000000"
	out, err := r.Jobs.Scanned(ctx, api.Scan{Text: card, Cards: true, Behind: "RAD"}, "owner")
	if err != nil || out.Outcome != api.ScanCard || out.Tag != "SEN-1" {
		t.Errorf("%+v, %v", out, err)
	}
	if _, err := r.Jobs.Scanned(ctx, api.Scan{Text: "LW:D0:70B3D57ED0000001:70B3D57ED0001002:00000000", Tag: "RAD", Cards: true, Behind: "NOBODY"}, "owner"); err == nil {
		t.Error("a card went behind nobody")
	}
}
