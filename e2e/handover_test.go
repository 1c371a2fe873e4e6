package e2e

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/csv"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/chromedp/chromedp"

	"redstart/internal/browser"
	"redstart/internal/sim/box"
	"redstart/internal/sim/skerry"
)

// Logins and secrets are handed over sealed: the age program opens them, nobody else; who has
// them is recorded; and another service takes them over, without what is superseded.
func TestCredentialsAreHandedOverSealed(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20", Seed: 81, Pace: 0.3})
	r.upToVerify()
	redstart := r.with(t)
	tag := r.entryOf(r.site.Boxes[0]).Tag
	redstart(0, nil, "vault", "rotate", tag, "--yes")
	redstart(0, []string{"1 of 1 configured"}, "commission", tag)
	key, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	keys, sealed := filepath.Join(t.TempDir(), "key.txt"), filepath.Join(t.TempDir(), "credentials.age")
	if err := os.WriteFile(keys, []byte(key.String()+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	redstart(2, []string{"either to public keys or with a passphrase"}, "handover", "credentials", sealed)
	redstart(2, []string{"no public key of age"}, "handover", "credentials", sealed, "--recipient", "age1nonsense")
	if _, err := os.Stat(sealed); err == nil {
		t.Error("something was written that is not sealed to anybody")
	}
	redstart(0, []string{"Written"}, "handover", "credentials", sealed, "--recipient", key.Recipient().String())
	content, err := os.ReadFile(sealed)
	if err != nil {
		t.Fatal(err)
	}
	open, err := exec.CommandContext(patience(t), "age", "-d", "-i", keys, sealed).Output()
	if err != nil {
		t.Fatalf("age does not open it: %v", err)
	}
	rows, err := csv.NewReader(bytes.NewReader(open)).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	states := map[string]int{}
	for _, row := range rows[1:] {
		states[row[0]+" "+row[7]]++
		if bytes.Contains(content, []byte(row[6])) {
			t.Errorf("a password of %s stands in the sealed file", row[0])
		}
	}
	if states[tag+" accepted"] != 1 || states[tag+" superseded"] != 1 {
		t.Errorf("%v", states)
	}
	for _, b := range r.site.Boxes {
		if !bytes.Contains(open, []byte(b.Running().Password)) {
			t.Errorf("what opens %s is not in it", r.entryOf(b).Tag)
		}
	}
	redstart(0, []string{"credentials handed over, sealed to", key.Recipient().String()}, "plan", "show", tag)

	// The colleague's service: the same plan, and nothing else.
	other := startAs(t, &rig{}, skerry.Options{Devices: 2, Only: "C20", Seed: 81, Pace: 0.3})
	other.upToMatch()
	theirs := other.with(t)
	theirs(2, []string{"does not open the file"}, "vault", "learn", sealed, "--identity", func() string {
		wrong, err := age.GenerateX25519Identity()
		if err != nil {
			t.Fatal(err)
		}
		return other.write("wrong.txt", wrong.String())
	}())
	cut := other.write("cut.age", string(content[:len(content)-20]))
	theirs(2, []string{"damaged or cut off"}, "vault", "learn", cut, "--identity", keys)
	for i, b := range other.site.Boxes { // as they are at the site
		password := r.site.Boxes[i].Running().Password
		b.Change(func(s *box.Settings) { s.Password = password })
	}
	theirs(0, []string{"2 logins stored", "2 accepted"}, "vault", "learn", sealed, "--identity", keys)
	other.typed = "long-enough-words\n"
	again := filepath.Join(t.TempDir(), "again.age")
	theirs(0, []string{"Written"}, "handover", "credentials", again, "--passphrase")
	if content, err := os.ReadFile(again); err != nil || !strings.HasPrefix(string(content), "age-encryption.org/v1\n-> scrypt") {
		t.Errorf("%q, %v", content[:min(80, len(content))], err)
	}
	other.typed = "long-enough-words\n"
	theirs(0, []string{"logins stored"}, "vault", "learn", again)
}

// The documents of a site, on the command line and in the console: made at once, refused in one
// sentence with nothing left behind, and the same to the byte until something changes.
func TestDocumentsOfASite(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 3, Seed: 82, Pace: 0.3})
	r.upToVerify()
	redstart := r.with(t)
	dir := t.TempDir()
	tag := r.entryOf(r.site.Boxes[0]).Tag
	for name, args := range map[string][]string{"report.pdf": {"report"}, "register.xlsx": {"register"}, "zones.zip": {"zones"}, "package.zip": {"package"},
		"labels.pdf": {"labels", "--start", "3"}, "labels.zip": {"labels"}, "sheets.pdf": {"sheets", tag}} {
		var made [2][]byte
		for i := range made {
			path := filepath.Join(dir, name)
			more := append([]string{"handover", args[0], path}, args[1:]...)
			redstart(0, []string{"Written"}, more...)
			content, err := os.ReadFile(path)
			if err != nil || len(content) < 200 {
				t.Fatalf("%s: %d bytes, %v", name, len(content), err)
			}
			made[i] = content
		}
		if !bytes.Equal(made[0], made[1]) {
			t.Errorf("%s made twice is not the same", name)
		}
	}
	for want, args := range map[string][]string{
		"does not fit on a sheet":    {"labels", filepath.Join(dir, "bad.pdf"), "--size", "250x40"},
		"no label 99 to start at":    {"labels", filepath.Join(dir, "bad.pdf"), "--start", "99"},
		"is not width and height":    {"labels", filepath.Join(dir, "bad.pdf"), "--size", "large"},
		"there is no such entry":     {"sheets", filepath.Join(dir, "bad.pdf"), "NOBODY"},
		`a register has no column "`: nil,
	} {
		if args == nil {
			redstart(2, []string{want}, "site", "set", "--register", "tag,password")
			continue
		}
		redstart(2, []string{want}, append([]string{"handover"}, args...)...)
	}
	if _, err := os.Stat(filepath.Join(dir, "bad.pdf")); err == nil {
		t.Error("something half made is left")
	}
	redstart(2, []string{`a package has no document "secrets"`, "report, register"}, "site", "set", "--package", "hosts,secrets")
	redstart(0, nil, "site", "set", "--package", "hosts,zones")
	few := filepath.Join(dir, "few.zip")
	redstart(0, []string{"Written"}, "handover", "package", few)
	redstart(0, []string{"So are: hosts, zones.zip, index.html."}, "handover", "check", few)
	redstart(0, nil, "site", "set", "--package", "")
	redstart(0, nil, "site", "set", "--register", "tag,address")
	redstart(0, []string{"tag,address,verified", tag + ","}, "handover", "register-csv", "-")

	b := r.signedIn(t, 1280, "/handover")
	b.do(shows("3 of 3 entries"), browser.Press("look-report"), browser.Seen(chromedp.CSS(`canvas[aria-label^="Page 2 of"]`)),
		chromedp.KeyEvent("\x1b"), browser.Gone(chromedp.CSS(".n-drawer-mask")), browser.Press("look-hosts"), shows("as planned; made"),
		chromedp.KeyEvent("\x1b"), browser.Gone(chromedp.CSS(".n-drawer-mask")),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Who takes it"]`), "Ida Holm, Skerry Ferries"), browser.Press("give"),
		shows("Ida Holm, Skerry Ferries"), browser.Press("look-by-itself"), shows("It is looking for the first time"),
		browser.Press("document-register"), shows("register.xlsx is made"),
		browser.Press("labels-pdf"), shows("labels.pdf is made"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Size"]`), "x8"), browser.Press("labels-pdf"), shows("is not width and height"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Public keys for credentials"]`), "age1nonsense"), browser.Press("credentials"),
		shows("no public key of age"))
}

// What is handed over is kept with whom it went to; what changes from then on is told; and the
// package is verified without the service, also when somebody improved it.
func TestWhatWasHandedOver(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20", Seed: 83, Pace: 0.3})
	r.upToVerify()
	redstart := r.with(t)
	pack, record := filepath.Join(t.TempDir(), "package.zip"), filepath.Join(t.TempDir(), "record.jsonl")
	redstart(1, []string{"nothing was handed over yet"}, "handover", "changes")
	redstart(2, []string{"to whom"}, "handover", "package", pack, "--to", " \t")
	if _, err := os.Stat(pack); err == nil {
		t.Error("something was written that nobody takes")
	}
	redstart(1, []string{"the file cannot be written"}, "handover", "package", filepath.Join(pack, "p.zip"), "--to", "Ida Holm")
	redstart(1, []string{"nothing was handed over yet"}, "handover", "changes")
	redstart(0, []string{"Written"}, "handover", "package", pack, "--to", "Ida Holm, Skerry Ferries\x1b[2J")
	content, err := os.ReadFile(pack)
	if err != nil {
		t.Fatal(err)
	}
	redstart(0, []string{"Ida Holm, Skerry Ferries", fmt.Sprintf("%x", sha256.Sum256(content))}, "handover", "given")
	redstart(0, []string{"Nothing changed since"}, "handover", "changes")

	said := redstart(0, []string{"As it was signed", "1 run", "report.pdf", "index.html"}, "handover", "check", pack)
	_, signer, _ := strings.Cut(said, "Signed with the key ")
	signer, _, _ = strings.Cut(signer, ". Compare")
	redstart(0, []string{"the key that was given"}, "handover", "check", pack, "--key", signer)
	redstart(1, []string{"another key"}, "handover", "check", pack, "--key", "x"+signer)
	redstart(0, []string{"Written"}, "handover", "record", record)
	text, err := os.ReadFile(record)
	if err != nil {
		t.Fatal(err)
	}
	for secret, what := range r.secrets() {
		if bytes.Contains(text, []byte(secret)) {
			t.Errorf("%s stands in the record", what)
		}
	}
	better := r.write("better.jsonl", strings.Replace(string(text), "passed", "Passed", 1))
	redstart(1, []string{"the record was changed before line"}, "handover", "check", better)

	tag := r.entryOf(r.site.Boxes[0]).Tag
	redstart(0, nil, "plan", "set", tag, "name=renamed-later")
	redstart(0, []string{tag, "Device name", "renamed-later"}, "handover", "changes", "1")
	r.hidden(r.secrets())
}

// The packets of a run are kept when asked for, sealed; they come out a file for each device,
// which an ordinary analyser reads without a malformed frame, and nobody but who they are for.
func TestPacketsOfEachDevice(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20", Seed: 84, Pace: 0.3})
	r.upToMatch()
	redstart := r.with(t)
	redstart(0, []string{"2 of 2 configured"}, "commission", "--capture")
	redstart(0, []string{"2 verified"}, "verify", "--capture")
	redstart(0, []string{"run 1", "verify"}, "handover", "packets")
	r.hidden(r.secrets()) // also not in the folder of captures
	key, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	keys, sealed, open := filepath.Join(dir, "key.txt"), filepath.Join(dir, "packets.age"), filepath.Join(dir, "packets.zip")
	if err := os.WriteFile(keys, []byte(key.String()+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	redstart(2, []string{"either to public keys or with a passphrase"}, "handover", "packets", "1", sealed)
	redstart(1, []string{"no packets are kept"}, "handover", "packets", "9", sealed, "--recipient", key.Recipient().String())
	redstart(0, []string{"Written"}, "handover", "packets", "1", sealed, "--recipient", key.Recipient().String())
	if out, err := exec.CommandContext(patience(t), "age", "-d", "-i", keys, "-o", open, sealed).CombinedOutput(); err != nil {
		t.Fatalf("age: %v\n%s", err, out)
	}
	archive, err := zip.OpenReader(open)
	if err != nil || len(archive.File) != 2 {
		t.Fatalf("%v, %v", archive, err)
	}
	defer archive.Close()
	for i, f := range archive.File {
		e := r.entryOf(r.site.Boxes[i])
		if !slices.ContainsFunc(archive.File, func(f *zip.File) bool { return strings.Contains(f.Name, e.Tag+".pcapng") }) {
			t.Errorf("%s has no packets", e.Tag)
		}
		content, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		all, err := io.ReadAll(content)
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(dir, f.Name)
		if err := os.WriteFile(path, all, 0o600); err != nil {
			t.Fatal(err)
		}
		shark := func(filter string, fields ...string) string {
			t.Helper()
			args := append([]string{"-r", path, "-Y", filter, "-T", "fields"}, fields...)
			out, err := exec.CommandContext(patience(t), "tshark", args...).Output()
			if err != nil {
				t.Fatalf("tshark: %v", err)
			}
			return string(out)
		}
		tag := strings.TrimSuffix(f.Name[4:], ".pcapng")
		mac := r.entries()[tag].Device.String()
		if bad := shark("_ws.malformed or not eth.addr == "+mac, "-e", "frame.number"); bad != "" {
			t.Errorf("%s: malformed, or of others: %q", f.Name, bad)
		}
		if shark("http and eth.addr == "+mac, "-e", "http.request.uri") == "" {
			t.Errorf("%s holds no conversation", f.Name)
		}
		if !bytes.Contains(all[:400], []byte(tag)) {
			t.Errorf("%s does not say of whom it is", f.Name)
		}
	}
	tag := r.entryOf(r.site.Boxes[0]).Tag
	redstart(0, []string{"packets handed over, sealed to", key.Recipient().String()}, "plan", "show", tag)
	redstart(0, []string{"Forgotten"}, "handover", "packets", "1", "--forget")
	redstart(1, []string{"no packets are kept"}, "handover", "packets", "1", sealed, "--recipient", key.Recipient().String())
}

// Logins are printed only when asked for by name, of named entries, and it is recorded for whom.
func TestLoginsOnPaper(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20", Seed: 88, Pace: 0.3})
	r.upToMatch()
	redstart := r.with(t)
	dir := t.TempDir()
	sheet, labels := filepath.Join(dir, "logins.pdf"), filepath.Join(dir, "labels.pdf")
	b := r.site.Boxes[0]
	tag := r.entryOf(b).Tag
	redstart(1, []string{"no stored login is known to open it"}, "handover", "logins", sheet, tag, "--to", "Ida Holm")
	redstart(0, []string{"2 of 2 configured"}, "commission")
	redstart(2, []string{"to whom"}, "handover", "logins", sheet, tag)
	redstart(2, []string{"of which entries"}, "handover", "labels", labels, "--login-for", "Ida Holm")
	redstart(2, []string{"does not fit on the label"}, "handover", "labels", labels, tag, "--login-for", "Ida Holm", "--size", "30x20", "--fields", "tag")
	if list, err := os.ReadDir(dir); err != nil || len(list) > 0 {
		t.Errorf("something is left: %v %v", list, err)
	}
	redstart(0, []string{"Written"}, "handover", "logins", sheet, tag, "--to", "Ida Holm")
	redstart(0, []string{"Written"}, "handover", "labels", labels, tag, "--login-for", "Olav Nes")
	for _, path := range []string{sheet, labels} {
		out, err := exec.CommandContext(patience(t), "pdftotext", "-layout", path, "-").Output()
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Contains(out, []byte(b.Running().Password)) || !bytes.Contains(out, []byte(tag)) {
			t.Errorf("%s does not have the login:\n%s", path, out)
		}
		if other := r.site.Boxes[1]; bytes.Contains(out, []byte(other.Running().Password)) {
			t.Errorf("%s has another login too", path)
		}
	}
	redstart(0, []string{"login printed on a sheet for Ida Holm", "login printed on a label for Olav Nes"}, "plan", "show", tag)
	without := filepath.Join(dir, "without.pdf")
	redstart(0, []string{"Written"}, "handover", "labels", without, tag)
	if out, err := exec.CommandContext(patience(t), "pdftotext", without, "-").Output(); err != nil || bytes.Contains(out, []byte(b.Running().Password)) {
		t.Errorf("a label that nobody asked for by name has the login: %v", err)
	}
}
