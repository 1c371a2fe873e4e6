package e2e

import (
	"context"
	"slices"
	"strings"
	"testing"

	"redstart/internal/api"
	"redstart/internal/check"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/result"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/skerry"
)

// boxes gives the site's boxes of a model.
func (r *rig) boxes(model string) (list []*box.Box) {
	for _, b := range r.site.Boxes {
		if b.Model.Name == model {
			list = append(list, b)
		}
	}
	return list
}

// checkOf gives one check of an entry's last verification.
func (r *rig) checkOf(tag, name string) result.Check {
	r.t.Helper()
	d, err := r.c.Entry(patience(r.t), tag)
	if err != nil {
		r.t.Fatal(err)
	}
	for _, c := range d.Checks {
		if c.Name == name {
			return c
		}
	}
	return result.Check{}
}

// A restart needs evidence: boxes that apply their address at once and forget it,
// or only pretend to restart, are told apart from those that restart, however fast,
// and from those that have no reason to.
func TestRestartsAreToldApart(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 10, Seed: 21, Pace: 0.02}) // a camera is away for 60 ms
	cameras, controllers := r.boxes("C20"), r.boxes("B4")
	atOnce, pretends, skips, honest, sham := cameras[0], cameras[1], cameras[2], cameras[3], controllers[0]
	atOnce.SetFaults(box.Faults{AppliesAtOnce: true})
	pretends.SetFaults(box.Faults{Pretends: true})
	skips.SetFaults(box.Faults{SkipsUnchanged: true})
	sham.SetFaults(box.Faults{Pretends: true})
	r.upToMatch()
	r.commission()
	for b, what := range map[*box.Box]string{atOnce: "applies at once", pretends: "pretends",
		sham: "pretends, counted"} {
		if e := r.entryOf(b); e.State != state.Attention || !strings.Contains(e.Reason,
			"nothing shows that it restarted") || !strings.Contains(e.Reason,
			"It was last seen at "+e.Address.String()) {
			t.Errorf("%s: %s: %s", what, e.State, e.Reason)
		}
		if b.Starts() != 1 {
			t.Errorf("%s: the simulated box started %d times", what, b.Starts())
		}
	}
	for b, what := range map[*box.Box]string{skips: "skips", honest: "restarts"} {
		if e := r.entryOf(b); e.State != state.Configured {
			t.Errorf("%s: %s: %s", what, e.State, e.Reason)
		}
	}
	r.verify()
	for _, b := range []*box.Box{skips, honest} {
		tag := r.entryOf(b).Tag
		if c := r.checkOf(tag, check.Kept); c.Verdict != result.Passed ||
			!strings.Contains(c.By, "up-time began anew") {
			t.Errorf("%s: %s, by %q", tag, c.Verdict, c.By)
		}
	}
	// Nothing changes for the one that skips then: no failure, and no proof either.
	tag := r.entryOf(skips).Tag
	starts := skips.Starts()
	r.commission(tag)
	if e := r.entries()[tag]; e.State != state.Configured || skips.Starts() != starts {
		t.Fatalf("commissioned again: %s: %s, %d starts", e.State, e.Reason, skips.Starts()-starts)
	}
	r.verify(tag)
	if e := r.entries()[tag]; e.State != state.Configured || !slices.Equal(e.Unseen, []string{check.Kept}) {
		t.Errorf("without a restart: %s, not looked at %q", e.State, e.Unseen)
	}
	// Whoever cuts its power gives the proof, though nobody watched.
	skips.PowerCut()
	waitFor(t, func() bool { return skips.Starts() == starts+1 })
	r.verify(tag)
	if e := r.entries()[tag]; e.State != state.Verified {
		t.Errorf("after a power cut: %s, not looked at %q, %s", e.State, e.Unseen, e.Reason)
	}
	// The one that forgets is found at its old address after a power cut.
	before := atOnce.Starts()
	atOnce.PowerCut()
	waitFor(t, func() bool { return atOnce.Starts() == before+1 })
	if got := atOnce.Running().Address; got != atOnce.Factory.Address {
		t.Errorf("the simulated box kept %s", got)
	}
}

// An older restart does not stand for one that was asked for and failed.
func TestARestartThatWasAskedForMustHappen(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 4, Seed: 22})
	r.upToVerify()
	field := r.boxes("FS8")[0]
	tag := r.entryOf(field).Tag
	if e := r.entries()[tag]; e.State != state.Verified {
		t.Fatal(e.State, e.Reason)
	}
	field.SetFaults(box.Faults{Pretends: true})
	r.do(func(ctx context.Context) (api.Work, error) {
		return r.c.Verify(ctx, api.VerifyOptions{Chosen: chosen([]string{tag}), Restart: "always"})
	})
	if e, c := r.entries()[tag], r.checkOf(tag, check.Kept); e.State != state.Attention || c.Verdict != result.Failed ||
		!strings.Contains(c.Observed, "nothing shows that it restarted") {
		t.Errorf("%s, %s: %s", e.State, c.Verdict, c.Observed)
	}
}

// What differs from the plan covers the login: the rehearsal, the run and
// verification agree on it.
func TestAPolicyChangeIsACommission(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 8, Seed: 23})
	ctx := patience(t)
	r.upToVerify()
	camera, field := r.boxes("C20")[0], r.boxes("FS8")[0]
	tag := r.entryOf(camera).Tag
	first := camera.Running().Password
	secrets := map[string]string{first: "a password that was superseded", "LanternQuay42": "the given password"}
	r.t.Cleanup(func() { r.hidden(secrets) })
	for _, c := range []struct {
		policy  api.PolicyChange
		differs string
	}{
		{api.PolicyChange{For: "kind:camera", Mode: ptr(plan.OneKind)},
			"password: set to one of its own, planned one for every camera"},
		{api.PolicyChange{For: "kind:camera", Mode: ptr(plan.Given), Password: "LanternQuay42"},
			"password: set to one for every camera, planned the given one"},
	} {
		if err := r.c.SetPolicy(ctx, c.policy); err != nil {
			t.Fatal(err)
		}
		if e := r.entries()[tag]; e.State == state.Verified || !slices.Equal(e.Differs, []string{c.differs}) {
			t.Errorf("%s, differs in %q", e.State, e.Differs)
		}
		rehearsal, err := r.c.Rehearse(ctx, api.RunOptions{Chosen: chosen(nil)})
		if err != nil || len(rehearsal.Devices) != len(r.boxes("C20")) {
			t.Fatalf("%d rehearsed, %+v, %v", len(rehearsal.Devices), rehearsal.Left, err)
		}
		if text := rehearsal.Devices[0].Steps[2].Text; !strings.Contains(text, "the one before opens it") {
			t.Errorf("the rehearsal says: %s", text)
		}
		r.verify(tag)
		if got := r.checkOf(tag, check.Password); got.Verdict != result.Failed {
			t.Errorf("verification says of the password: %s, %s", got.Verdict, got.Observed)
		}
		before := camera.Running().Password
		secrets[before] = "a password that was superseded"
		r.commission()
		if now := camera.Running().Password; now == before {
			t.Errorf("%s: the old password stayed", c.differs)
		}
		r.verify(tag)
		if e := r.entries()[tag]; e.State != state.Verified || e.Differs != nil {
			t.Errorf("%s: %s, differs in %q", e.State, e.Reason, e.Differs)
		}
	}
	if camera.Running().Password != "LanternQuay42" || r.boxes("C20")[1].Running().Password != "LanternQuay42" {
		t.Error("the given password was not set")
	}
	list, err := r.c.Credentials(ctx, tag)
	if err != nil || len(list) != 3 || list[0].State != state.Accepted || list[1].State != state.Superseded ||
		list[2].State != state.Superseded {
		t.Fatalf("%+v, %v", list, err)
	}
	// An older one can be seen on purpose.
	shown, err := r.c.Reveal(ctx, tag, "", "1")
	if err == nil && shown.Password == "LanternQuay42" {
		t.Error("an older credential shows the present password")
	}
	if now, err := r.c.Reveal(ctx, tag, "", ""); err != nil || now.Password != "LanternQuay42" ||
		now.State != state.Accepted {
		t.Errorf("%s, %v", now.State, err)
	}
	// Rotated: a switch whose first page is shut by now, too.
	old := field.Running().Password
	secrets[old] = "a password that was superseded"
	out, errs, code := run("--data", r.dir, "vault", "rotate", "--yes", r.entryOf(field).Tag)
	if code != 0 || field.Running().Password == old || field.Saved().Password != field.Running().Password {
		t.Errorf("rotate: exit code %d\n%s%s", code, out, errs)
	}
	if _, errs, code = run("--data", r.dir, "vault", "rotate", "--yes", tag); code != 1 ||
		!strings.Contains(errs, "one that a person gave") {
		t.Errorf("rotating a given password: %d, %s", code, errs)
	}
}

// Logins are tried before they are believed, never twice, and a box is never
// brought near to blocking.
func TestLearningTriesBeforeItBelieves(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 4, Seed: 24})
	ctx := patience(t)
	r.upToVerify()
	camera := r.boxes("C20")[0]
	tag := r.entryOf(camera).Tag
	good, err := r.c.Reveal(ctx, tag, "", "")
	if err != nil {
		t.Fatal(err)
	}
	_, err = r.c.LearnCredentials(ctx, []byte("tag,user,password\n"+tag+",operator,Wrong-One-1234\n"))
	if problem.KindOf(err) != problem.Usage || !strings.Contains(err.Error(), "none was stored") {
		t.Errorf("a wrong login: %v", err)
	}
	if now, err := r.c.Reveal(ctx, tag, "", ""); err != nil || now.Password != good.Password {
		t.Errorf("a refused login took the place of the good one: %v", err)
	}
	// Whoever changed it on the box knows it, and the box tells that it is right.
	camera.Change(func(s *box.Settings) { s.Password = "ElsewhereMade77" })
	camera.Save()
	out, err := r.c.LearnCredentials(ctx, []byte("tag,user,password\n"+tag+",operator,ElsewhereMade77\n"))
	if err != nil || out.Accepted != 1 || len(out.Untried) != 0 {
		t.Fatalf("%+v, %v", out, err)
	}
	r.verify(tag)
	if e := r.entries()[tag]; e.State != state.Verified {
		t.Errorf("with the learned login: %s, %s %q", e.State, e.Reason, e.Unseen)
	}
	if c := r.checkOf(tag, check.NewLogin); !strings.Contains(c.By, "learned from") {
		t.Errorf("the login rests on %q", c.By)
	}
	// One that is away keeps an untried one, apart from the accepted one.
	camera.SetFaults(box.Faults{NeverReturns: true})
	camera.PowerCut()
	waitFor(t, func() bool {
		out, err = r.c.LearnCredentials(ctx, []byte("tag,user,password\n"+tag+",operator,Not-Tried-9876\n"))
		return err == nil && out.Accepted == 0 && len(out.Untried) == 1
	})
	list, err := r.c.Credentials(ctx, tag)
	if err != nil || list[0].State != state.Accepted || list[1].State != state.Pending {
		t.Errorf("%+v, %v", list, err)
	}
}

// State is written only for the box that was looked at.
func TestAnotherBoxIsNotVerified(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 6, Seed: 25})
	ctx := patience(t)
	r.upToVerify()
	one, two := r.entryOf(r.boxes("C20")[0]), r.entryOf(r.boxes("C20")[1])
	// A MAC that the plan names and that is another than the matched box.
	if err := r.set(one.Tag, "mac", "0a:4f:56:00:00:01"); err != nil {
		t.Fatal(err)
	}
	findings, err := r.c.Findings(ctx)
	if err != nil || !slices.ContainsFunc(findings, func(f plan.Finding) bool {
		return f.Code == "mac-other" && f.Tag == one.Tag && f.Level == plan.Stops
	}) {
		t.Errorf("no finding about another MAC: %v", err)
	}
	r.verify(one.Tag)
	if c := r.checkOf(one.Tag, check.MAC); c.Verdict != result.Failed || r.entries()[one.Tag].State != state.Attention {
		t.Errorf("%+v, %s", c, r.entries()[one.Tag].State)
	}
	// Without an address there is nothing to verify, and nobody falls over it.
	if err := r.set(two.Tag, "address", "none"); err != nil {
		t.Fatal(err)
	}
	if _, err := r.c.Verify(ctx,
		api.VerifyOptions{Chosen: chosen([]string{two.Tag})}); problem.KindOf(err) != problem.Conflict ||
		!strings.Contains(err.Error(), "no planned address") {
		t.Errorf("an entry without an address: %v", err)
	}
	r.verify()
	if _, err := r.c.Sites(ctx); err != nil {
		t.Errorf("the service is gone: %v", err)
	}
}

// Addresses that go around in a circle are refused in the rehearsal, with the reason.
func TestACircleOfAddresses(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 6, Seed: 26})
	ctx := patience(t)
	r.upToMatch()
	r.commission()
	one, two := r.entryOf(r.boxes("C20")[0]), r.entryOf(r.boxes("C20")[1])
	_, err := r.c.Edit(ctx, api.Edits{Configured: true, Patches: []plan.Patch{{Tag: one.Tag,
		Set: map[string]string{"address": two.Address.String()}},
		{Tag: two.Tag, Set: map[string]string{"address": one.Address.String()}}}}, false)
	if err != nil {
		t.Fatal(err)
	}
	rehearsal, err := r.c.Rehearse(ctx, api.RunOptions{Chosen: chosen([]string{one.Tag, two.Tag})})
	if err != nil || len(rehearsal.Devices) != 0 || len(rehearsal.Left) != 2 ||
		!strings.Contains(rehearsal.Left[0].Why, "around in a circle: "+one.Tag+" wants that of "+two.Tag) {
		t.Errorf("%+v, %v", rehearsal, err)
	}
}

// A dead device is replaced in one act.
func TestADeadDeviceIsReplaced(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 6, Seed: 27})
	ctx := patience(t)
	cameras := r.boxes("C20")
	dead, fresh := cameras[0], cameras[1]
	r.upToMatch()
	tag := r.entryOf(dead).Tag
	if err := r.unmatch(r.entryOf(fresh).Tag); err != nil {
		t.Fatal(err)
	}
	r.commission()
	r.verify()
	if err := r.unmatch(tag); problem.KindOf(err) != problem.Conflict ||
		!strings.Contains(err.Error(), "match replace "+tag) {
		t.Errorf("undoing the match of a device that was set: %v", err)
	}
	dead.SetFaults(box.Faults{NeverReturns: true})
	starts := dead.Starts()
	dead.PowerCut()
	waitFor(t, func() bool { _, err := r.c.Devices(ctx); return err == nil && dead.Starts() == starts })
	out, errs, code := run("--data", r.dir, "match", "replace", tag)
	if code != 0 {
		t.Fatalf("replace: %d\n%s%s", code, out, errs)
	}
	r.verify(tag)
	e := r.entries()[tag]
	if e.Device != fresh.MAC || e.State != state.Verified {
		t.Errorf("%s is %s, %s: %s", tag, e.Device, e.State, e.Reason)
	}
	expectPlanned(t, fresh, e)
	d, err := r.c.Entry(ctx, tag)
	if err != nil {
		t.Fatal(err)
	}
	var history strings.Builder
	for _, n := range d.History {
		history.WriteString(n.What + "\n")
	}
	has(t, "history", history.String(), "matched with "+dead.MAC.String(), "it replaces "+dead.MAC.String())
	if _, err := r.c.UndoMatches(ctx, api.Undo{Tags: []string{tag}, Configured: true}); err != nil {
		t.Errorf("undone on purpose: %v", err)
	}
}

// An address that a box had is never shown as present: neither that of a switch that
// lost it, which still answers over DCP, nor that of a camera without power.
func TestAnOldAddressIsNotPresent(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 6, Seed: 23})
	r.upToMatch()
	r.commission()
	bare, dark, lit := r.boxes("FS8")[0], r.boxes("C20")[0], r.boxes("C20")[1]
	starts := bare.Starts()
	bare.Store(func(s *box.Settings) { *s = bare.Factory })
	bare.PowerCut()
	dark.SetFaults(box.Faults{NeverReturns: true})
	dark.PowerCut()
	waitFor(t, func() bool { return bare.Starts() == starts+1 })
	r.find()
	for b, here := range map[*box.Box]bool{bare: true, dark: false} {
		if e := r.entryOf(b); e.Here != here || e.Now.IsValid() || !here && e.Was != e.Address {
			t.Errorf("%s: here %t, present %s, last at %s", e.Tag, e.Here, e.Now, e.Was)
		}
	}
	if e := r.entryOf(lit); !e.Here || e.Now != e.Address {
		t.Errorf("%s: here %t, present %s", e.Tag, e.Here, e.Now)
	}
}
