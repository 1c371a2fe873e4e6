package e2e

import (
	"archive/zip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"redstart/internal/core/result"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/r16"
	"redstart/internal/sim/skerry"
)

// Host ids are collected for the supplier, who names files as he likes; what comes back is
// matched by the host id in it, sent, and its acceptance read back. A host id that changed
// since says what was done in between, and a licence for the old one is nobody's.
func TestLicencesByHostID(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "R16", Seed: 71, Pace: 0.05})
	r.upTo(t, r.labelled(t, func(row map[string]string, b *box.Box) {
		row["cameras"] = ""
		row["tag"] = "REC-" + b.Label[len(b.Label)-6:]
	}))
	first, second := r.entryOf(r.site.Boxes[0]).Tag, r.entryOf(r.site.Boxes[1]).Tag
	redstart := r.with(t)
	redstart(0, []string{"no host id yet"}, "plan", "licence", "list")
	redstart(1, []string{"no licence is to be asked for"}, "plan", "licence", "collect", "x.csv")
	r.commission()
	collected, archive := filepath.Join(r.dir, "collected.csv"), filepath.Join(r.dir, "back.zip")
	redstart(0, []string{"to be asked for", r16.HostID(r.site.Boxes[0].Running().Name, r.site.Boxes[0].MAC.String())},
		"plan", "licence", "list")
	redstart(0, nil, "plan", "licence", "collect", filepath.Join(r.dir, "collected.xlsx"))
	redstart(0, nil, "plan", "licence", "collect", collected)
	redstart(0, []string{"asked for"}, "plan", "licence", "list")
	redstart(0, []string{"2 licences written"}, "sim", "supplier", collected, archive)

	// The second one is given another name meanwhile: its host id is another.
	if err := r.set(second, "name", "rec-new"); err != nil {
		t.Fatal(err)
	}
	r.commission(second)
	redstart(0, []string{"host id changed", "done in between: ", "name"}, "plan", "licence", "list")
	redstart(1, []string{"1 licence would be taken", "had before"}, "plan", "licence", "take", "--preview", archive)
	folder := unzip(t, archive, filepath.Join(r.dir, "back"))
	r.write("back/notes.txt", "Thank you for your order.")
	redstart(1, []string{"1 licence taken", "no host id of a device is in it", "2 files left over"}, "plan", "licence", "take", folder)
	redstart(0, []string{"to be sent"}, "plan", "licence", "list")
	r.commission(first)
	r.verify(first)
	if own := r.site.Boxes[0].Running().Own.(r16.Own); own.Licensed == "" {
		t.Error("it has no licence")
	}
	d, err := r.c.Entry(patience(t), first)
	if err != nil || d.Entry.State != state.Verified {
		t.Errorf("%s: %s, %v %v: %v", d.Entry.State, d.Entry.Reason, d.Entry.Unseen, d.Entry.Differs, err)
	}
	for _, c := range d.Checks {
		if c.Name == "licence" && c.Verdict != result.Passed {
			t.Errorf("%+v", c)
		}
	}
	out := redstart(0, []string{"accepted", "host id changed"}, "plan", "licence", "list")
	if strings.Count(out, "accepted") != 1 {
		t.Error(out)
	}
	// The second is asked for again, and this time all is well.
	redstart(0, nil, "plan", "licence", "collect", collected)
	redstart(0, []string{"1 licence written"}, "sim", "supplier", collected, archive)
	redstart(0, []string{"1 licence taken"}, "plan", "licence", "take", archive)
	r.commission(second)
	r.verify(second)
	redstart(0, []string{"accepted"}, "plan", "licence", "list")
	if e := r.entries()[second]; e.State != state.Verified {
		t.Errorf("%s: %s", e.State, e.Reason)
	}
	// Another name once more: the licence that is planned is for a host id that is no more.
	if err := r.set(second, "name", "rec-last"); err != nil {
		t.Fatal(err)
	}
	r.commission(second)
	if e := r.entries()[second]; e.State != state.Attention || !strings.Contains(e.Reason, "for another host") {
		t.Errorf("with a licence of another host id: %s: %s", e.State, e.Reason)
	}
	r.verify(second)
	redstart(0, []string{"host id changed"}, "plan", "licence", "list")
	redstart(0, nil, "plan", "licence", "collect", collected)
	redstart(0, []string{"asked for", "the one that is planned is for another"}, "plan", "licence", "list")
	redstart(2, []string{"damaged archive"}, "plan", "licence", "take", r.write("bad.zip", "PK\x03\x04"))
	redstart(2, []string{"no CSV"}, "sim", "supplier", r.write("empty.csv", ""), archive)
}

func unzip(t *testing.T, archive, into string) string {
	t.Helper()
	z, err := zip.OpenReader(archive)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	if err := os.CopyFS(into, z); err != nil {
		t.Fatal(err)
	}
	return into
}
