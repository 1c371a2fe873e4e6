package handing_test

import (
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"

	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/handover"
	"redstart/internal/sim/box"
	"redstart/internal/sim/skerry"
	"redstart/internal/site/sitetest"
)

const passphrase = "a long enough passphrase"

func init() { handover.PassphraseWork = 10 } // what it costs is for handover's own test

// set is a small site that is set and verified.
func set(t *testing.T) *sitetest.Rig {
	t.Helper()
	r := sitetest.Open(t, skerry.Options{Devices: 3, Only: "C20", Seed: 71})
	r.Matched()
	r.Work(r.Jobs.Commission(t.Context(), "owner", api.RunOptions{Chosen: api.Chosen{All: true}}))
	r.Work(r.Jobs.Verify(t.Context(), "owner", api.VerifyOptions{Chosen: api.Chosen{All: true}}))
	return r
}

// opened opens what was sealed with the passphrase.
func opened(t *testing.T, sealed io.Reader) []byte {
	t.Helper()
	who, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		t.Fatal(err)
	}
	plain, err := age.Decrypt(sealed, who)
	if err != nil {
		t.Fatal(err)
	}
	content, err := io.ReadAll(plain)
	if err != nil {
		t.Fatal(err)
	}
	return content
}

// Every document is made at once and in the background, is looked at before anybody gets it, and is
// the same either way; what was handed over is kept with the values of then.
func TestDocumentsAreMadeAndHandedOver(t *testing.T) {
	t.Parallel()
	r := set(t)
	ctx := t.Context()
	tags := r.Tags()
	for _, d := range r.Service.Handing.Documents() {
		at, err := r.Handing.Document(ctx, api.ToMake{Document: d.Name})
		r.Must(err)
		a := r.Work(r.Handing.Make(api.ToMake{Document: d.Name}, "owner"))
		made, err := r.Handing.Made(ctx, a.ID, "")
		r.Must(err)
		content, err := io.ReadAll(made.Content)
		r.Must(err, made.Content.Close())
		if !bytes.Equal(content, at.Content) || len(content) == 0 {
			t.Errorf("%s: %d bytes in the background, %d at once", d.Name, len(content), len(at.Content))
		}
		if p, err := r.Handing.Preview(ctx, a.ID, ""); err != nil || p.Kind == "" {
			t.Errorf("%s: %+v, %v", d.Name, p, err)
		}
	}
	for _, in := range []api.ToMake{{Document: api.LabelsDocument}, {Document: api.LabelsDocument, Labels: &api.LabelOptions{Format: "svg"}},
		{Document: api.SheetsDocument, Tags: tags[:1]}} {
		r.Work(r.Handing.Make(in, "owner"))
	}
	for _, wrong := range []api.ToMake{{Document: "the moon"}, {Document: api.SheetsDocument}, {Document: api.LabelsDocument, Labels: &api.LabelOptions{Size: "x"}}} {
		if _, err := r.Handing.Make(wrong, "owner"); err == nil {
			t.Errorf("%+v is made", wrong)
		}
	}
	if _, err := r.Handing.HandOver(api.ForTaker{ToMake: api.ToMake{Document: "report"}}, "owner"); problem.KindOf(err) != problem.Usage {
		t.Errorf("to nobody: %v", err)
	}
	r.Work(r.Handing.HandOver(api.ForTaker{ToMake: api.ToMake{Document: "report"}, To: "Ida Holm, Skerry Ferries"}, "owner"))
	list, err := r.Handing.Handovers(ctx)
	if err != nil || len(list) != 1 || list[0].To != "Ida Holm, Skerry Ferries" || list[0].SHA256 == "" {
		t.Fatalf("%+v, %v", list, err)
	}
	if since, err := r.Handing.Since(ctx, 0); err != nil || len(since.Differences) != 0 {
		t.Errorf("%+v, %v", since, err)
	}
	_, err = r.Plan.Edit(ctx, api.Edits{Patches: sitetest.Set(tags[0], "place", "elsewhere")}, false, "owner")
	r.Must(err)
	if since, err := r.Handing.Since(ctx, list[0].ID); err != nil || len(since.Differences) == 0 || since.Differences[0].Is != "elsewhere" {
		t.Errorf("%+v, %v", since, err)
	}
	if _, err := r.Handing.Made(ctx, 9999, ""); problem.KindOf(err) != problem.Missing {
		t.Errorf("%v", err)
	}
}

// Logins leave the vault on paper or sealed, for somebody, and that is recorded first.
func TestLoginsAreHandedOver(t *testing.T) {
	t.Parallel()
	r := set(t)
	ctx := t.Context()
	tag := r.Tags()[0]
	out, err := r.Handing.HandCredentials(ctx, api.SealTo{Passphrase: passphrase}, "owner")
	r.Must(err)
	shown, err := r.Plan.Reveal(ctx, tag, "", 0, "owner")
	r.Must(err)
	if plain := opened(t, bytes.NewReader(out.Content)); !bytes.Contains(plain, []byte(shown.Password)) || bytes.Contains(out.Content, []byte(shown.Password)) {
		t.Error("the password is not in it, or is not sealed")
	}
	if _, err := r.Handing.HandCredentials(ctx, api.SealTo{}, "owner"); err == nil {
		t.Error("sealed for nobody")
	}
	sheet, err := r.Handing.LoginSheet(ctx, api.LoginsFor{Tags: []string{tag}, To: "Ida Holm"}, "owner")
	if err != nil || !bytes.HasPrefix(sheet.Content, []byte("%PDF")) {
		t.Errorf("%v", err)
	}
	labels, err := r.Handing.LoginLabels(ctx, api.LoginLabels{LabelOptions: api.LabelOptions{Tags: tag}, To: "Ida Holm"}, "owner")
	if err != nil || len(labels.Content) == 0 {
		t.Errorf("%v", err)
	}
	if _, err := r.Handing.LoginSheet(ctx, api.LoginsFor{Tags: []string{tag}}, "owner"); problem.KindOf(err) != problem.Usage {
		t.Errorf("%v", err)
	}
	d, err := r.Plan.Detail(ctx, tag)
	r.Must(err)
	var said []string
	for _, n := range d.History {
		said = append(said, n.What)
	}
	if all := strings.Join(said, "; "); !strings.Contains(all, "credentials handed over, sealed with a passphrase") {
		t.Errorf("%s", all)
	}
}

// A site moves to another service with what opens its devices; a backup holds all that is kept.
func TestASiteMoves(t *testing.T) {
	t.Parallel()
	r := set(t)
	ctx := t.Context()
	sealed, err := r.Handing.SealSite(ctx, api.SealTo{Passphrase: passphrase}, "owner")
	r.Must(err)
	archive := opened(t, sealed.Content)
	r.Must(sealed.Content.Close())
	there := sitetest.Open(t, skerry.Options{Devices: 1, Only: "C20", Seed: 72})
	take := func(as string, preview bool) (api.Coming, error) {
		return there.Service.Handing.TakeSite(ctx, bytes.NewReader(archive), as, preview, "owner")
	}
	if says, err := take("", true); err != nil || len(says.Conflicts) == 0 || says.Entries != 3 || says.Logins != 3 {
		t.Errorf("%+v, %v", says, err)
	}
	if _, err := take("", false); problem.KindOf(err) != problem.Conflict {
		t.Errorf("under a key that is taken: %v", err)
	}
	if _, err := take("moved", false); err != nil {
		t.Fatal(err)
	}
	moved, err := there.Service.At(ctx, "moved")
	there.Must(err)
	for _, tag := range r.Tags() {
		here, err := r.Plan.Reveal(ctx, tag, "", 0, "owner")
		r.Must(err)
		if now, err := moved.Plan.Reveal(ctx, tag, "", 0, "owner"); err != nil || now.Password != here.Password {
			t.Errorf("%s: its login did not come: %v", tag, err)
		}
	}
	if _, err := there.Service.Handing.TakeSite(ctx, strings.NewReader("no archive"), "x", false, "owner"); err == nil {
		t.Error("it took in what is no site")
	}
	backup, err := r.Service.Handing.Backup(ctx, api.SealTo{Passphrase: passphrase}, "owner")
	r.Must(err)
	whole := opened(t, backup.Content)
	r.Must(backup.Content.Close())
	if !bytes.Contains(whole, []byte("SQLite format 3")) {
		t.Error("the records are not in it")
	}
}

// A lookout finds what is not as it was handed over, and tells a hook; nothing else is changed.
func TestALookoutFindsWhatChanged(t *testing.T) {
	t.Parallel()
	r := set(t)
	ctx := t.Context()
	if _, err := r.Handing.LookNow(ctx, true); problem.KindOf(err) != problem.Conflict {
		t.Errorf("nobody asked it to: %v", err)
	}
	for _, wrong := range []api.Lookout{{At: "noon"}, {At: "02:30", Days: []string{"someday"}}, {At: "02:30", Pace: -1}, {At: "02:30", Tags: []string{"NOBODY"}},
		{At: "02:30", Hook: "ftp://x"}} {
		if _, err := r.Handing.SetLookout(ctx, wrong); err == nil {
			t.Errorf("%+v was taken", wrong)
		}
	}
	v, err := r.Handing.SetLookout(ctx, api.Lookout{At: "02:30", Days: []string{"Mon", "thu"}, Pace: 5000})
	if err != nil || !v.On || v.Next.IsZero() {
		t.Fatalf("%+v, %v", v, err)
	}
	v, err = r.Handing.LookNow(ctx, true)
	if err != nil || len(v.Changed) != 0 || v.LookedAt.IsZero() {
		t.Errorf("%+v, %v", v, err)
	}
	r.Terminal.Boxes[0].Change(func(s *box.Settings) { s.Name = "somebody-was-here" })
	v, err = r.Handing.LookNow(ctx, true)
	if err != nil || len(v.Changed) == 0 {
		t.Errorf("%+v, %v", v, err)
	}
	r.Must(r.Handing.EndLookout(ctx))
	if v, err := r.Handing.Lookout(ctx); err != nil || v.On {
		t.Errorf("%+v, %v", v, err)
	}
	var left int
	for _, e := range r.Entries() {
		if e.State == state.Attention {
			left++
		}
	}
	if left != 1 {
		t.Errorf("%d entries need attention", left)
	}
}

// What was on its way when a service was killed is taken away by the next one.
func TestNothingIsLeftOnItsWay(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	left := filepath.Join(dir, "leaving-1234")
	if err := os.MkdirAll(left, 0o700); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	s := sitetest.In(ctx, t, dir)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(left); !os.IsNotExist(err) {
		t.Errorf("%v", err)
	}
}
