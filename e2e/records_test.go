package e2e

import (
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"redstart/internal/sim/skerry"
)

// unpacked makes a data folder of records of an earlier version.
func unpacked(t *testing.T, version string) string {
	t.Helper()
	from, dir := filepath.Join("testdata", "records", version), t.TempDir()
	packed, err := os.Open(filepath.Join(from, "redstart.db.gz"))
	if err != nil {
		t.Fatal(err)
	}
	defer packed.Close()
	open, err := gzip.NewReader(packed)
	if err != nil {
		t.Fatal(err)
	}
	records, err := io.ReadAll(open)
	if err != nil {
		t.Fatal(err)
	}
	key, err := os.ReadFile(filepath.Join(from, "vault.key"))
	if err != nil {
		t.Fatal(err)
	}
	for name, content := range map[string][]byte{"redstart.db": records, "vault.key": key} {
		if err := os.WriteFile(filepath.Join(dir, name), content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// Records of every earlier version that is kept are taken over with all that is in them. Each is
// of a small site that was commissioned and verified by the program of that time.
func TestOldRecordsAreTakenOver(t *testing.T) {
	t.Parallel()
	migrations, err := filepath.Glob("../internal/store/migrations/*.sql")
	if err != nil {
		t.Fatal(err)
	}
	kept, err := os.ReadDir("testdata/records")
	if err != nil {
		t.Fatal(err)
	}
	before := strconv.Itoa(len(migrations) - 1)
	if kept[len(kept)-1].Name() != before {
		t.Errorf("no records of version %s are kept; docs/adding.md says how", before)
	}
	for _, version := range kept {
		t.Run(version.Name(), func(t *testing.T) {
			r := &rig{t: t, dir: unpacked(t, version.Name()), log: &buffer{}, site: skerry.Start(skerry.Options{Devices: 1, Pace: quick})}
			t.Cleanup(r.site.Close)
			r.serve(r.site.Attach())
			redstart := r.with(t)
			redstart(0, []string{"8 entries: 8 verified"}, "plan", "list")
			redstart(0, []string{"configured", "run 1", "verified"}, "plan", "show", "HALL-CAM-01")
			redstart(0, []string{"Password"}, "vault", "reveal", "HALL-CAM-01")
			redstart(0, []string{"imported from a CSV file"}, "plan", "history")
			redstart(0, []string{"pia", "may change plans"}, "user", "list")
			redstart(0, []string{"HALL-CAM-01", "verified"}, "handover", "register-csv", "-")
			record := filepath.Join(t.TempDir(), "record.jsonl")
			redstart(0, []string{"Written"}, "handover", "record", record)
			redstart(0, []string{"1 run"}, "handover", "check", record)
			redstart(0, nil, "plan", "set", "HALL-CAM-01", "note=of version "+version.Name())
			redstart(0, []string{fmt.Sprint("of version ", version.Name())}, "plan", "show", "HALL-CAM-01")
		})
	}
}
