package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/lan"
	"redstart/internal/sim/skerry"
)

// A segment that goes away cuts a run off; it fails none of its devices, and goes
// on by itself when it is back.
func TestARunGoesOnWhenTheSegmentIsBack(t *testing.T) {
	t.Parallel()
	r := &rig{}
	var back atomic.Bool
	var port lan.Port
	r.reopen = func() (lan.Port, error) {
		if !back.Load() {
			return nil, errors.New("still away")
		}
		return r.site.Attach(), nil
	}
	startAs(t, r, skerry.Options{Devices: 8, Seed: 31, Pace: 0.5})
	// Another port, so that the test can take it away.
	r.stop()
	port = r.site.Attach()
	r.serve(port)
	r.upToMatch()
	moves := 0
	seen := ""
	ended := follow(t, r.c, func(ctx context.Context) (api.Work, error) {
		return r.c.Commission(ctx, api.RunOptions{Chosen: chosen(nil)})
	}, func(e client.Event) {
		if e.Kind == "run" {
			if moves++; moves == 20 {
				port.Close()
			}
		}
	})
	seen = ended.State
	if seen != state.Interrupted || !strings.Contains(ended.Text, "the segment is gone") {
		t.Fatalf("the run ended as %s: %s", ended.State, ended.Text)
	}
	waitFor(t, func() bool {
		run, _, err := r.c.LatestRun(patience(t))
		return err == nil && run.State == state.Interrupted && strings.Contains(run.Cause, "the segment is gone")
	})
	for tag, e := range r.entries() {
		if e.State == state.Attention {
			t.Errorf("%s failed with the segment: %s", tag, e.Reason)
		}
	}
	back.Store(true)
	waitFor(t, func() bool {
		run, _, err := r.c.LatestRun(patience(t))
		return err == nil && run.State == state.Done
	})
	r.verify()
	r.allVerified()
}

// Files are taken in whole and given out again, however large.
func TestFilesOfTheSite(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	redstart := r.with(t)
	dir := t.TempDir()
	big := bytes.Repeat([]byte("0123456789abcdef"), 6<<16) // 6 MiB
	path := filepath.Join(dir, "licence.bin")
	if err := os.WriteFile(path, big, 0o600); err != nil {
		t.Fatal(err)
	}
	redstart(0, []string{fmt.Sprintf("Stored: %d bytes, SHA-256 ", len(big))}, "plan", "file", "add", path)
	redstart(0, []string{"licence.bin", fmt.Sprint(len(big))}, "plan", "file", "list", "-o", "csv")
	again := filepath.Join(dir, "again.bin")
	redstart(0, []string{"Written"}, "plan", "file", "save", "licence.bin", again)
	if got, err := os.ReadFile(again); err != nil || !bytes.Equal(got, big) {
		t.Errorf("%d bytes came back, %v", len(got), err)
	}
	redstart(2, []string{"it is no file, but a folder"}, "plan", "file", "add", dir)
	pipe := filepath.Join(dir, "pipe")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	redstart(2, []string{"a pipe or device"}, "plan", "file", "add", pipe)
	redstart(2, []string{"a pipe or device"}, "plan", "import", pipe)
	// What breaks off on the way is not stored.
	token, err := r.s.Accounts.LocalToken(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	request, err := http.NewRequest("PUT", r.url+"/api/sites/skerry-point/files/half.bin",
		io.MultiReader(bytes.NewReader(big), brokenReader{}))
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+token)
	if answer, err := http.DefaultClient.Do(request); err == nil {
		answer.Body.Close()
		t.Errorf("half a file: %s", answer.Status)
	}
	files, err := r.c.Files(patience(t))
	if err != nil || len(files) != 1 {
		t.Errorf("%+v, %v", files, err)
	}
	redstart(0, []string{"Forgotten"}, "plan", "file", "remove", "licence.bin")
	redstart(1, []string{"there is no such file"}, "plan", "file", "save", "licence.bin", again)
}

type brokenReader struct{}

func (brokenReader) Read([]byte) (int, error) { return 0, errors.New("the cable was pulled") }

// A service whose key file is lost starts, locked, and says how to go on.
func TestALostKeyFileIsNoEnd(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20", Seed: 32})
	r.upToMatch()
	r.commission()
	r.stop()
	if err := os.Remove(filepath.Join(r.dir, "vault.key")); err != nil {
		t.Fatal(err)
	}
	r.serve(r.site.Attach())
	redstart := r.with(t)
	tag := r.entryOf(r.site.Boxes[0]).Tag
	redstart(0, []string{"locked", "no key file here opens the vault", "begin-anew"}, "vault", "status")
	redstart(1, []string{"no key file here opens the vault"}, "verify")
	redstart(1, []string{"no key file here opens the vault"}, "vault", "reveal", tag)
	redstart(0, []string{"The vault is open with a new key", "2 secrets stay sealed"}, "vault", "begin-anew")
	redstart(1, []string{"there is no need to begin anew"}, "vault", "begin-anew")
	redstart(1, []string{"no such credential"}, "vault", "reveal", tag)
	if _, err := r.c.Verify(patience(t),
		api.VerifyOptions{Chosen: chosen(nil)}); problem.KindOf(err) == problem.Machine {
		t.Errorf("verification after that: %v", err)
	}
}

// A profile that is broken is left out and told, and taken up when it is mended,
// without a restart.
func TestProfilesAreReadAnew(t *testing.T) {
	t.Parallel()
	broken := strings.Replace(beacon, "kind: beacon", "kindd: beacon", 1)
	r := start(t, skerry.Options{Devices: 1}, broken)
	list, err := r.c.BrokenProfiles(patience(t))
	if err != nil || len(list) != 1 || list[0].File != "own-0.yaml" || !strings.Contains(list[0].Reason, "kindd") {
		t.Fatalf("%+v, %v", list, err)
	}
	_, errs, _ := run("--data", r.dir, "profile", "list")
	has(t, "profile list", errs, "Left out: own-0.yaml")
	r.write("profiles/own-0.yaml", beacon)
	waitFor(t, func() bool {
		all, err := r.c.Profiles(patience(t))
		for _, p := range all {
			if p.ID == "lumen-k7" {
				return true
			}
		}
		return err != nil
	})
}

// What no run can set is counted, marked by a person, and then verified as far as
// anybody can look.
func TestSetByHand(t *testing.T) {
	t.Parallel()
	doc, err := os.ReadFile("../profiles/tolvern-v2.yaml")
	if err != nil {
		t.Fatal(err)
	}
	known, _, _ := strings.Cut(string(doc), "\ntalk:") // what is known of it, and nothing of how it is set
	r := start(t, skerry.Options{Devices: 1, Whole: true, Seed: 33}, known+"\ntalk:\n  web: {scheme: https}\n")
	ctx := patience(t)
	voice := r.other("HALL-VOX-01")
	r.plan("tag,profile,mac,address,name\nHALL-VOX-01,tolvern-v2," + voice.MAC.String() +
		",10.40.9.51,hall-vox-01\n")
	r.find()
	redstart := r.with(t)
	redstart(0, nil, "match", "--accept", "HALL-VOX-01")
	redstart(1, []string{"its profile does not say how to set it"}, "commission", "HALL-VOX-01")
	redstart(0, []string{"1 matched and to be set by hand", "commission by-hand"}, "plan", "list")
	redstart(0, []string{"Marked as set by hand: HALL-VOX-01"}, "commission", "by-hand", "HALL-VOX-01")
	e := r.entries()["HALL-VOX-01"]
	if e.State != state.Configured || e.HandBy == "" || e.HandAt.IsZero() {
		t.Errorf("%+v", e)
	}
	redstart(1, []string{"not looked at", "needs attention: not everything is verified"}, "verify", "HALL-VOX-01")
	e = r.entries()["HALL-VOX-01"]
	if e.State == state.Verified || len(e.Unseen) == 0 {
		t.Errorf("%s, not looked at %q: %s", e.State, e.Unseen, e.Reason)
	}
	if _, err := r.c.SetByHand(ctx, api.Chosen{All: true}); problem.KindOf(err) != problem.Conflict {
		t.Errorf("all of nothing: %v", err)
	}
}
