package planning_test

import (
	"fmt"
	"strings"
	"testing"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/sim/skerry"
	"redstart/internal/site/sitetest"
)

// edit changes one entry.
func edit(r *sitetest.Rig, tag string, fields ...string) (api.Edited, error) {
	return r.Plan.Edit(r.T.Context(), api.Edits{Patches: sitetest.Set(tag, fields...)}, false, "owner")
}

// A plan is made, changed and mended, each act as a whole; a preview changes nothing.
func TestAPlanIsMadeAndChanged(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 1, Only: "C20"})
	ctx := t.Context()
	quantities := []plan.Quantity{{Profile: "ovalis-c20", Count: 2, Pattern: "{area}-CAM-{n:02}", Areas: []string{"HALL", "YARD"}}}
	if out, err := r.Plan.Generate(ctx, quantities, true, "owner"); err != nil || len(out.Comparison.Added) != 4 || len(r.Entries()) != 0 {
		t.Fatalf("%+v, %v", out, err)
	}
	out, err := r.Plan.Generate(ctx, quantities, false, "owner")
	r.Must(err)
	if len(r.Entries()) != 4 || out.Revision == 0 {
		t.Fatalf("%+v", out)
	}
	if _, err := r.Plan.Allocate(ctx, api.Allocation{Allocation: plan.Allocation{Way: "missing", Tags: []string{"HALL-CAM-01"}}}, true, "owner"); err != nil {
		t.Errorf("%v", err)
	}
	if _, err := r.Plan.Allocate(ctx, api.Allocation{}, false, "owner"); problem.KindOf(err) != problem.Usage {
		t.Errorf("%v", err)
	}
	if _, err := edit(r, "HALL-CAM-01", "address", "the quay"); problem.KindOf(err) != problem.Usage {
		t.Errorf("%v", err)
	}
	if _, err := edit(r, "NOBODY", "place", "x"); err == nil {
		t.Error("an entry that is not there was changed")
	}
	_, err = edit(r, "HALL-CAM-01", "name", "Hall Camera 1!", "place", "north wall")
	r.Must(err)
	findings, err := r.Plan.Findings(ctx)
	if err != nil || len(findings) == 0 {
		t.Errorf("%+v, %v", findings, err)
	}
	mended, err := r.Plan.Mend(ctx, api.Chosen{All: true}, false, "owner")
	if err != nil || len(mended.Changes) == 0 {
		t.Errorf("%+v, %v", mended, err)
	}
	if _, err := r.Plan.Edit(ctx, api.Edits{What: strings.Repeat("x", 201)}, false, "owner"); problem.KindOf(err) != problem.Usage {
		t.Errorf("%v", err)
	}
	m, err := r.Plan.Map(ctx, "")
	if err != nil || len(m.Cells) == 0 {
		t.Errorf("%v", err)
	}
	if _, err := r.Plan.Map(ctx, "none"); problem.KindOf(err) != problem.Missing {
		t.Errorf("%v", err)
	}
	for of, wrong := range map[string]bool{"10.40.8.0/22": false, "10.40.8.9": false, "10.0.0.0/0": true, "quay": true, "192.0.2.1": true} {
		if _, err := r.Service.Plans.Reckon(ctx, of, r.Records.Key); (err != nil) != wrong {
			t.Errorf("%s: %v", of, err)
		}
	}
	data, err := r.Records.Data(ctx)
	r.Must(err)
	data.Notes = "Berth two is closed"
	if now, err := r.Plan.SetData(ctx, data, "owner"); err != nil || now.Notes != data.Notes {
		t.Errorf("%v", err)
	}
	data.Register = []string{"the moon"}
	if _, err := r.Plan.SetData(ctx, data, "owner"); problem.KindOf(err) != problem.Usage {
		t.Errorf("%v", err)
	}
}

// Files come in whole or not at all, and go out again as they came.
func TestFilesOfAPlan(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 6, Seed: 3})
	ctx := t.Context()
	r.Import("")
	before := len(r.Entries())
	for _, format := range []string{planfile.CSV, planfile.XLSX, planfile.JSON} {
		file, err := r.Plan.Export(ctx, format, "")
		r.Must(err)
		again, err := r.Plan.Import(ctx, file.Content, api.ImportOptions{}, "owner")
		if err != nil || len(again.Comparison.Added)+again.Comparison.Entries()+len(again.Comparison.Removed) != 0 {
			t.Errorf("%s: %+v, %v", format, again.Comparison, err)
		}
	}
	if _, err := r.Plan.Export(ctx, planfile.JSON, "schedule"); problem.KindOf(err) != problem.Usage {
		t.Errorf("%v", err)
	}
	if file, err := r.Plan.Template(ctx); err != nil || len(file.Content) == 0 {
		t.Errorf("%v", err)
	}
	changed := []byte("tag,place\n" + r.Tags()[0] + ",elsewhere\n")
	if _, err := r.Plan.Import(ctx, changed, api.ImportOptions{}, "owner"); problem.KindOf(err) != problem.Conflict {
		t.Errorf("what is there was changed without a word: %v", err)
	}
	if _, err := r.Plan.Import(ctx, changed, api.ImportOptions{Apply: true}, "owner"); err != nil || r.Entries()[r.Tags()[0]].Place != "elsewhere" {
		t.Errorf("%v", err)
	}
	if _, err := r.Plan.Import(ctx, []byte("tag,address\nX-1,elsewhere\n"), api.ImportOptions{}, "owner"); problem.KindOf(err) != problem.Usage {
		t.Errorf("%v", err)
	}
	if out, err := r.Plan.CheckFile(ctx, changed); err != nil || out.Format != planfile.CSV {
		t.Errorf("%+v, %v", out, err)
	}
	if len(r.Entries()) != before {
		t.Errorf("%d entries", len(r.Entries()))
	}
	kept, err := r.Plan.PutFile(ctx, "note.txt", strings.NewReader("what the harbour master said"), "owner")
	if list, err2 := r.Plan.Files(ctx); err != nil || err2 != nil || len(list) != 1 || list[0] != kept {
		t.Errorf("%+v, %v, %v", list, err, err2)
	}
	if _, err := r.Plan.PutFile(ctx, "../note", strings.NewReader("x"), "owner"); problem.KindOf(err) != problem.Usage {
		t.Errorf("%v", err)
	}
	r.Must(r.Plan.RemoveFile(ctx, "note.txt"))
}

// Every act is a step that is taken back and taken again; a moment is named, compared, restored.
func TestTheHistoryOfAPlan(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 4, Seed: 4})
	ctx := t.Context()
	r.Import("")
	tag := r.Tags()[0]
	first, err := r.Plan.Revisions(ctx)
	r.Must(err)
	issued := fmt.Sprint(first[0].ID)
	named, err := r.Plan.NameRevision(ctx, issued, "issued for construction")
	if err != nil || named.Name != "issued for construction" {
		t.Errorf("%+v, %v", named, err)
	}
	was := r.Entries()[tag].Place
	done, err := edit(r, tag, "place", "on the quay")
	r.Must(err)
	_, err = r.Plan.Edit(ctx, api.Edits{Patches: []plan.Patch{{Tag: r.Tags()[1], Remove: true}}}, false, "owner")
	r.Must(err)
	list, err := r.Plan.Revisions(ctx)
	r.Must(err)
	if list[0].May != "undo" || len(r.Entries()) != 3 {
		t.Errorf("%+v", list[0])
	}
	_, err = r.Plan.Undo(ctx, fmt.Sprint(list[0].ID), false, "owner")
	r.Must(err)
	if len(r.Entries()) != 4 {
		t.Error("it did not come back")
	}
	if _, err := r.Plan.Undo(ctx, issued, false, "owner"); problem.KindOf(err) != problem.Conflict {
		t.Errorf("out of turn: %v", err)
	}
	list, err = r.Plan.Revisions(ctx)
	r.Must(err)
	_, err = r.Plan.Redo(ctx, fmt.Sprint(list[0].ID), false, "owner")
	r.Must(err)
	if len(r.Entries()) != 3 {
		t.Error("it was not removed again")
	}
	moments, err := r.Plan.Compare(ctx, issued, fmt.Sprint(done.Revision))
	if err != nil || moments.Comparison.Entries() != 1 || moments.To == nil {
		t.Errorf("%+v, %v", moments, err)
	}
	if now, err := r.Plan.Compare(ctx, issued, ""); err != nil || len(now.Comparison.Removed) != 1 || now.To != nil {
		t.Errorf("%+v, %v", now, err)
	}
	for _, wrong := range [][2]string{{"x", ""}, {fmt.Sprint(done.Revision), issued}} {
		if _, err := r.Plan.Compare(ctx, wrong[0], wrong[1]); err == nil {
			t.Errorf("%v were compared", wrong)
		}
	}
	if _, err := r.Plan.Restore(ctx, issued, true, "owner"); err != nil || len(r.Entries()) != 3 {
		t.Errorf("a preview restored it: %v", err)
	}
	_, err = r.Plan.Restore(ctx, issued, false, "owner")
	r.Must(err)
	if len(r.Entries()) != 4 || r.Entries()[tag].Place != was {
		t.Errorf("%d entries, %s", len(r.Entries()), r.Entries()[tag].Place)
	}
}

// Secrets of the plan are in the vault and nowhere else; policies say how logins are made; what
// somebody sees is recorded.
func TestSecretsOfAPlan(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 3, Only: "C20", Seed: 5})
	ctx := t.Context()
	r.Matched()
	tag := r.Tags()[0]
	const secret = "OnlyLooks7x"
	_, err := edit(r, tag, "viewer-password", secret)
	r.Must(err)
	if kept := r.Entries()[tag].Settings["viewer-password"]; kept == "" || strings.Contains(kept, secret) {
		t.Errorf("the plan holds %q", kept)
	}
	if _, err := edit(r, r.Tags()[1], "viewer-password", r.Entries()[tag].Settings["viewer-password"]); problem.KindOf(err) != problem.Usage {
		t.Errorf("what stands for another's secret was taken: %v", err)
	}
	shown, err := r.Plan.Reveal(ctx, tag, "viewer-password", 0, "ida")
	if err != nil || shown.Password != secret {
		t.Errorf("%v", err)
	}
	if _, err := r.Plan.Reveal(ctx, tag, "no such", 0, "ida"); problem.KindOf(err) != problem.Missing {
		t.Errorf("%v", err)
	}
	if _, err := r.Plan.Reveal(ctx, tag, "", 0, "ida"); problem.KindOf(err) != problem.Conflict {
		t.Errorf("%v", err)
	}
	one, given, short := plan.OneKind, plan.Given, 12
	if _, err := r.Plan.SetPolicy(ctx, api.PolicyChange{For: "kind:camera", Mode: &one, Length: &short}, "owner"); err != nil {
		t.Errorf("%v", err)
	}
	r.Work(r.Jobs.Commission(ctx, "owner", api.RunOptions{Chosen: api.Chosen{All: true}}))
	var passwords []string
	for _, tag := range r.Tags() {
		shown, err := r.Plan.Reveal(ctx, tag, "", 0, "ida")
		r.Must(err)
		passwords = append(passwords, shown.Password)
		if list, err := r.Plan.Credentials(ctx, tag); err != nil || len(list) != 1 {
			t.Errorf("%+v, %v", list, err)
		}
	}
	if passwords[0] != passwords[1] || len(passwords[0]) < short {
		t.Error("they do not share one of that length")
	}
	r.Work(r.Jobs.Commission(ctx, "owner", api.RunOptions{Chosen: api.Chosen{All: true}, Fresh: true}))
	if shown, err := r.Plan.Reveal(ctx, tag, "", 0, "ida"); err != nil || shown.Password == passwords[0] {
		t.Errorf("the shared one was not made anew: %v", err)
	}
	if _, err := r.Plan.SetPolicy(ctx, api.PolicyChange{For: "kind:camera", Mode: &given, Password: "CameraQuay88x"}, "owner"); err != nil {
		t.Errorf("%v", err)
	}
	if _, err := r.Plan.SetPolicy(ctx, api.PolicyChange{For: "kind:camera", Mode: &one, Password: "CameraQuay88x"}, "owner"); problem.KindOf(err) != problem.Usage {
		t.Errorf("%v", err)
	}
	if e := r.Entries()[tag]; len(e.Differs) == 0 {
		t.Error("another policy is no difference")
	}
	if _, err := r.Plan.RemovePolicy(ctx, "kind:camera", "owner"); err != nil {
		t.Errorf("%v", err)
	}
	if _, err := r.Plan.RemovePolicy(ctx, "kind:camera", "owner"); problem.KindOf(err) != problem.Missing {
		t.Errorf("%v", err)
	}
	if v, err := r.Plan.Device(ctx, r.Entries()[tag].Device); err != nil || v.Tag != tag || !v.Here {
		t.Errorf("%+v, %v", v, err)
	}
	if _, err := r.Plan.Device(ctx, address.MAC{2, 9, 9, 9, 9, 9}); problem.KindOf(err) != problem.Missing {
		t.Errorf("%v", err)
	}
	d, err := r.Plan.Detail(ctx, tag)
	if err != nil || d.Device == nil || d.Login == nil || len(d.Steps) == 0 || len(d.History) == 0 {
		t.Errorf("%+v, %v", d, err)
	}
	seen := false
	for _, n := range d.History {
		seen = seen || n.Who == "ida" && strings.Contains(n.What, "shown")
	}
	if !seen {
		t.Error("nobody knows who saw it")
	}
	r.Service.LockVault()
	if _, err := edit(r, tag, "viewer-password", "Another7xyz"); problem.KindOf(err) != problem.Conflict {
		t.Errorf("a locked vault took a secret: %v", err)
	}
}

// Ports are given roles in one act; a device that is given another's login tells whose; licences
// are collected and taken back.
func TestRolesLoginsAndLicences(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 19, Every: true, Seed: 6})
	ctx := t.Context()
	r.Matched()
	var core, gateway string
	for tag, e := range r.Entries() {
		switch e.Profile {
		case "fennmark-fs24":
			core = tag
		case "brindlecap-b4":
			gateway = tag
		}
	}
	data, err := r.Records.Data(ctx)
	r.Must(err)
	data.Roles = append(data.Roles, plan.PortRole{Name: "cameras", Hangs: plan.HangsOne, Untagged: 408})
	_, err = r.Plan.SetData(ctx, data, "owner")
	r.Must(err)
	given := api.RoleGiven{Role: "cameras", Ports: "1-3,9", Tags: []string{core, core}}
	if out, err := r.Plan.GiveRole(ctx, given, false, "owner"); err != nil || out.Comparison.Entries() != 1 {
		t.Errorf("%+v, %v", out, err)
	}
	if rows, err := profile.ParseRows(r.Entries()[core].Settings[profile.PortsSetting]); err != nil || len(rows) < 4 {
		t.Errorf("%v, %v", rows, err)
	}
	for what, wrong := range map[string]api.RoleGiven{"role": {Role: "none", Ports: "1", Tags: given.Tags}, "ports": {Role: "cameras", Ports: "x", Tags: given.Tags},
		"more than there are": {Role: "cameras", Ports: "1-4000", Tags: given.Tags},
		"nobody":              {Role: "cameras", Ports: "1"}, "tag": {Role: "cameras", Ports: "1", Tags: []string{"X"}}, "model": {Role: "cameras", Ports: "1", Tags: []string{gateway}}} {
		if _, err := r.Plan.GiveRole(ctx, wrong, false, "owner"); err == nil {
			t.Errorf("%s: it was given", what)
		}
	}
	known, err := r.Plan.KnownLogins(ctx)
	if err != nil || len(known) == 0 || known[0].State != api.LoginNotGiven {
		t.Errorf("%+v, %v", known, err)
	}
	licences, err := r.Plan.Licences(ctx)
	if err != nil || len(licences) == 0 {
		t.Fatalf("%+v, %v", licences, err)
	}
	if taken, err := r.Plan.TakeLicences(ctx, "nobodys.lic", []byte("host: 0000\n"), true, "owner"); err == nil && taken.Taken != 0 {
		t.Errorf("%+v", taken)
	}
	if list := r.Service.Plans.BrokenProfiles(); len(list) != 0 {
		t.Errorf("%+v", list)
	}
}
