package e2e

import (
	"archive/zip"
	"bytes"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"

	"redstart/internal/check"
	"redstart/internal/core/result"
	"redstart/internal/sim/skerry"
)

// keyFile writes a key of age, and gives its file and its public half.
func keyFile(t testing.TB) (path, public string) {
	t.Helper()
	key, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	path = filepath.Join(t.TempDir(), "key.txt")
	if err := os.WriteFile(path, []byte(key.String()+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	return path, key.Recipient().String()
}

// colleague is a service with records of its own at the same site.
func (r *rig) colleague(t testing.TB) *rig {
	t.Helper()
	other := &rig{t: t, dir: t.TempDir(), log: &buffer{}, site: r.site}
	t.Cleanup(func() { other.hidden(r.secrets()) })
	other.serve(r.site.Attach())
	return other
}

// A colleague goes on with a site that came in a file: what stands in the way is said before
// anything is taken in, all comes or nothing, and every device is verified from there.
func TestAColleagueGoesOnWithASite(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 4, Seed: 85, Pace: 0.3})
	redstart := r.with(t)
	redstart(0, nil, "vault", "policy", "set", "kind:camera", "--passwords", "kind")
	r.upToVerify()
	tag := r.entryOf(r.site.Boxes[0]).Tag
	redstart(0, nil, "plan", "set", tag, "note=by the stairs")
	redstart(0, nil, "plan", "file", "add", r.write("licence.lic", "a licence"))
	identity, public := keyFile(t)
	sealed := filepath.Join(t.TempDir(), "site.age")
	redstart(2, []string{"either to public keys or with a passphrase"}, "site", "export", sealed)
	if list, err := filepath.Glob(filepath.Dir(sealed) + "/*"); err != nil || len(list) > 0 {
		t.Errorf("something half made is left: %v %v", list, err)
	}
	redstart(0, []string{"Written"}, "site", "export", sealed, "--recipient", public)
	redstart(0, []string{"site handed over with what opens its devices", public}, "plan", "show", tag)
	r.stop()

	other := r.colleague(t)
	theirs := other.with(t)
	theirs(0, []string{"there is a site with the key skerry-point already", "4 entries", "Nothing was taken in"}, "site", "import", sealed, "--identity", identity, "--preview")
	theirs(1, []string{"there is a site with the key skerry-point already"}, "site", "import", sealed, "--identity", identity)
	wrong, _ := keyFile(t)
	theirs(2, []string{"does not open the file"}, "site", "import", sealed, "--identity", wrong)
	content, err := os.ReadFile(sealed)
	if err != nil {
		t.Fatal(err)
	}
	cut := filepath.Join(t.TempDir(), "cut.age")
	if err := os.WriteFile(cut, content[:len(content)-30], 0o600); err != nil {
		t.Fatal(err)
	}
	theirs(2, []string{"damaged or cut off"}, "site", "import", cut, "--identity", identity, "--as", "skerry-two")
	theirs(1, []string{"is no key of a site"}, "site", "import", sealed, "--identity", identity, "--as", "No Key")
	if list, err := filepath.Glob(other.dir + "/leaving-*"); err != nil || len(list) > 0 || strings.Contains(theirs(0, nil, "site", "list"), "skerry-two") {
		t.Errorf("something half made is left: %v %v", list, err)
	}
	theirs(0, []string{"Taken in", "4 entries"}, "site", "import", sealed, "--identity", identity, "--as", "skerry-two")
	theirs(0, []string{"by the stairs", "verified"}, "--site", "skerry-two", "plan", "show", tag)
	theirs(0, []string{"licence.lic"}, "--site", "skerry-two", "plan", "file", "list")
	theirs(0, []string{"4 verified"}, "--site", "skerry-two", "verify", "--restart", "never")
	theirs(0, nil, "--site", "skerry-two", "vault", "reveal", tag)
	theirs(0, nil, "--site", "skerry-two", "plan", "undo")
	theirs(0, []string{"note by the stairs taken away"}, "--site", "skerry-two", "plan", "show", tag)
	// Twice beside itself, of its own service: nothing of the one is the other's.
	theirs(0, []string{"matched in", "logins of its own"}, "site", "import", sealed, "--identity", identity, "--as", "skerry-three")
	theirs(0, []string{"4 verified"}, "--site", "skerry-three", "verify", "--restart", "never")
}

// A backup is made while the service works, and a whole service comes out of it; whoever is
// killed meanwhile leaves nothing half made.
func TestBackupAndRestore(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20", Seed: 86, Pace: 0.3})
	r.upToVerify()
	redstart := r.with(t)
	identity, public := keyFile(t)
	dir := t.TempDir()
	sealed, folder := filepath.Join(dir, "backup.age"), filepath.Join(dir, "data")
	tag := r.entryOf(r.site.Boxes[0]).Tag
	redstart(0, []string{"Written"}, "backup", sealed, "--recipient", public)
	content, err := os.ReadFile(sealed)
	if err != nil {
		t.Fatal(err)
	}
	run := func(code int, want string, args ...string) {
		t.Helper()
		out, errs, got := runIn(nil, "", args...)
		if got != code || !strings.Contains(out+errs, want) {
			t.Errorf("redstart %s: %d, want %d with %q\n%s%s", strings.Join(args, " "), got, code, want, out, errs)
		}
	}
	run(1, "there is a data folder already", "--data", r.dir, "restore", sealed, "--identity", identity)
	cut := filepath.Join(t.TempDir(), "cut.age")
	if err := os.WriteFile(cut, content[:len(content)/2], 0o600); err != nil {
		t.Fatal(err)
	}
	run(2, "damaged or cut off", "--data", folder, "restore", cut, "--identity", identity)
	if list, err := os.ReadDir(dir); err != nil || len(list) != 1 {
		t.Fatalf("something half made is left: %v %v", list, err)
	}
	// Killed at any moment, the folder is whole or not there.
	for i := 0; ; i++ {
		cmd := exec.Command(os.Args[0], "--data", folder, "restore", sealed, "--identity", identity)
		cmd.Env = alone()
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(i*i) * time.Millisecond) // any moment will do
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if _, err := os.Stat(folder); err == nil {
			break
		} else if !errors.Is(err, os.ErrNotExist) {
			t.Fatal(err)
		}
	}
	r.stop()
	other := &rig{t: t, dir: folder, log: &buffer{}, site: r.site}
	other.serve(r.site.Attach())
	theirs := other.with(t)
	theirs(0, []string{"2 verified"}, "verify", "--restart", "never")
	theirs(0, []string{"run 1"}, "plan", "show", tag)
	other.stop()

	// The service is killed while it makes one.
	for i := range 4 {
		p := spawn(t, "http", folder, os.Args[0], "serve", "--listen", "127.0.0.1:0")
		path := filepath.Join(dir, "killed.age")
		ended := make(chan int, 1)
		go func() {
			_, _, code := runIn(map[string]string{}, "", "--data", folder, "backup", path, "--recipient", public)
			ended <- code
		}()
		time.Sleep(time.Duration(i*10) * time.Millisecond) // any moment will do
		p.kill()
		code := <-ended
		content, err := os.ReadFile(path)
		if (code == 0) != (err == nil) || err == nil && !bytes.HasPrefix(content, []byte("age-encryption.org/v1")) {
			t.Errorf("exit code %d, and %d bytes: %v", code, len(content), err)
		}
		_ = os.Remove(path)
		if list, _ := filepath.Glob(path + "*"); len(list) > 0 {
			t.Errorf("%v is left", list)
		}
	}
	last := &rig{t: t, dir: folder, log: &buffer{}, site: r.site}
	last.serve(r.site.Attach())
	if list, err := filepath.Glob(folder + "/leaving-*"); err != nil || len(list) > 0 {
		t.Errorf("%v is left, %v", list, err)
	}
	last.with(t)(0, []string{"2 verified"}, "verify", "--restart", "never")
}

// A stranger who has the package, and the credentials that were handed over with it, sets up a
// service of their own from these alone and verifies every device.
func TestAStrangerRunsTheSiteFromThePackage(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 6, Seed: 89, Pace: 0.3})
	r.upToVerify()
	redstart := r.with(t)
	identity, public := keyFile(t)
	dir := t.TempDir()
	pack, sealed := filepath.Join(dir, "package.zip"), filepath.Join(dir, "credentials.age")
	redstart(0, []string{"Written"}, "handover", "package", pack, "--to", "a stranger")
	redstart(0, []string{"Written"}, "handover", "credentials", sealed, "--recipient", public)
	r.stop()
	archive, err := zip.OpenReader(pack)
	if err != nil {
		t.Fatal(err)
	}
	defer archive.Close()
	file, err := archive.Open("plan.json")
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(file)
	if err != nil {
		t.Fatal(err)
	}
	plan := filepath.Join(dir, "plan.json")
	if err := os.WriteFile(plan, text, 0o600); err != nil {
		t.Fatal(err)
	}
	for secret, what := range r.secrets() {
		if bytes.Contains(text, []byte(secret)) {
			t.Errorf("%s stands in the plan of the package", what)
		}
	}
	other := r.colleague(t)
	theirs := other.with(t)
	theirs(0, []string{"6 entries added"}, "plan", "import", plan)
	theirs(0, []string{"6 devices on the segment"}, "find")
	theirs(0, []string{"6 matched"}, "match", "--accept", "--by", "mac")
	theirs(0, []string{"6 accepted by their devices"}, "vault", "learn", sealed, "--identity", identity)
	var tags []string
	for tag := range other.entries() {
		tags = append(tags, tag)
	}
	// It set none of them: only a restart of its own shows that what it reads is kept, and cameras
	// do not restart when they are asked to.
	theirs(1, []string{"6 not in everything"}, append([]string{"verify"}, tags...)...)
	theirs(1, []string{"2 verified"}, append([]string{"verify", "--restart", "always"}, tags...)...)
	for _, tag := range tags {
		d, err := other.c.Entry(patience(t), tag)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range d.Checks {
			if c.Verdict != result.Passed && (c.Name != check.Kept || d.Entry.Kind != "camera") {
				t.Errorf("%s, %s: %s %s", tag, c.Name, c.Verdict, c.Observed)
			}
		}
	}
}
