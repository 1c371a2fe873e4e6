package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"redstart/internal/sim/skerry"
)

// disk is a small file system for a data folder. It exists in a mount namespace of
// the service alone, and ends with it.
type disk struct {
	t   *testing.T
	dir string
	p   *process // whose namespace it is
}

// mounted is the command that runs another one with a file system of its own.
func mounted(options, dir string, command ...string) []string {
	return append([]string{"unshare", "--mount", "--propagation", "private", "sh", "-c",
		`mount -t tmpfs -o mode=700,` + options + ` redstart "$0" && exec "$@"`, dir}, command...)
}

// in runs a command where the disk can be seen, and gives what it says and its exit code.
func (d *disk) in(command ...string) (string, int) {
	d.t.Helper()
	cmd := exec.Command("nsenter", append([]string{"--mount", "--target", fmt.Sprint(d.p.cmd.Process.Pid)},
		command...)...)
	cmd.Env = alone("REDSTART_DATA=" + d.dir)
	out, _ := cmd.CombinedOutput() // its exit code is part of the answer
	return string(out), cmd.ProcessState.ExitCode()
}

func (d *disk) redstart(code int, wanted []string, args ...string) string {
	d.t.Helper()
	out, got := d.in(append([]string{os.Args[0]}, args...)...)
	if got != code {
		d.t.Fatalf("redstart %s: exit code %d, want %d\n%s\n%s", strings.Join(args, " "), got, code, out, d.p.lines)
	}
	has(d.t, "redstart "+strings.Join(args, " "), out, wanted...)
	return out
}

// needMounts skips where no file system can be mounted.
func needMounts(t *testing.T, dir string) {
	t.Helper()
	c := mounted("size=64k", dir, "true")
	if out, err := exec.Command(c[0], c[1:]...).CombinedOutput(); err != nil {
		t.Skipf("skipped: no file system can be mounted here: %v %s", err, out)
	}
}

// On a full disk nothing is said to be done that was not stored, what was stored
// stays, and the work goes on once there is room.
func TestAFullDisk(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	needMounts(t, dir)
	site := skerry.Start(skerry.Options{Devices: 8, Whole: true, Seed: 51, Pace: quick})
	t.Cleanup(site.Close)
	plan := filepath.Join(t.TempDir(), "plan.csv")
	if err := os.WriteFile(plan, site.WholePlan(), 0o600); err != nil {
		t.Fatal(err)
	}
	d := &disk{t: t, dir: dir}
	d.p = spawn(t, "Segment:", dir, mounted("size=8m", dir, os.Args[0], "serve", "--listen", "127.0.0.1:0", "--vxlan",
		offer(t, site))...)
	d.redstart(0, nil, "site", "set", "--name", "Quay", "--subnet", "10.40.8.0/22", "--gateway", "10.40.8.1", "--ntp",
		"10.40.8.5", "--zone", "Europe/Oslo")

	d.fill()
	full := []string{"the disk is full. Free some space"}
	d.redstart(1, full, "plan", "import", plan)
	d.redstart(1, full, "plan", "file", "add", plan)
	if out := d.redstart(1, full, "find"); strings.Contains(out, "Next: redstart match") {
		t.Errorf("find goes on as if all were well:\n%s", out)
	}
	if out := d.redstart(0, nil, "plan", "list"); !strings.Contains(out, "The plan is empty") {
		t.Errorf("half a plan was taken:\n%s", out)
	}
	d.empty()
	d.redstart(0, []string{"entries"}, "plan", "import", plan)
	d.redstart(0, []string{"Next: redstart match"}, "find")
	d.redstart(0, []string{"Stored"}, "plan", "file", "add", plan)

	// A run is cut off, and goes on by itself; nothing passes for looked at meanwhile.
	first, second := "BERTH1-CAM-01", "BERTH2-CAM-01"
	d.redstart(0, nil, "match", "set", first, site.Boxes[2].MAC.String())
	d.redstart(0, nil, "match", "set", second, site.Boxes[3].MAC.String())
	d.redstart(0, nil, "commission", first)
	d.redstart(0, []string{"1 verified"}, "verify", first)
	d.fill()
	d.redstart(1, full, "verify", first)
	d.redstart(1, full, "commission", second)
	made := filepath.Join(t.TempDir(), "package.zip")
	d.redstart(1, full, "handover", "package", made)
	if _, err := os.Stat(made); err == nil {
		t.Error("something half made is left")
	}
	d.empty()
	d.redstart(0, []string{"1 verified"}, "verify", first)
	d.redstart(0, nil, "commission", second)
}

func (d *disk) fill() {
	d.t.Helper()
	if out, code := d.in("sh", "-c", `cat /dev/zero > "$REDSTART_DATA/filler"`); code == 0 ||
		!strings.Contains(out, "No space left") {
		d.t.Fatalf("the disk was not filled: %s", out)
	}
}

func (d *disk) empty() {
	d.t.Helper()
	if out, code := d.in("rm", filepath.Join(d.dir, "filler")); code != 0 {
		d.t.Fatal(out)
	}
}

// What keeps a service from starting is said at once, each in its own words.
func TestADataFolderThatCannotBeUsed(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	needMounts(t, dir)
	serve := []string{os.Args[0], "serve", "--listen", "127.0.0.1:0", "--vxlan", "127.0.0.1:9"}
	refused := func(what string, wanted []string, command ...string) {
		t.Helper()
		cmd := exec.Command(command[0], command[1:]...)
		cmd.Env = alone("REDSTART_DATA=" + dir)
		out, _ := cmd.CombinedOutput()
		if code := cmd.ProcessState.ExitCode(); code != 1 {
			t.Errorf("%s: exit code %d", what, code)
		}
		has(t, what, string(out), wanted...)
	}
	refused("a disk that can only be read", []string{"the disk can only be read",
		"or choose another folder with --data"}, mounted("ro", dir, serve...)...)
	refused("no room at all", []string{"the disk is full. Free some space"}, mounted("size=4k", dir, serve...)...)
	file := filepath.Join(dir, "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	refused("a file", []string{"a part of its path is a file"}, append(serve, "--data", filepath.Join(file, "data"))...)
	refused("a file itself", []string{file}, append(serve, "--data", file)...)

	site := skerry.Start(skerry.Options{Devices: 1, Seed: 52, Pace: quick})
	t.Cleanup(site.Close)
	p := spawn(t, "Segment:", dir, os.Args[0], "serve", "--listen", "127.0.0.1:0", "--vxlan", offer(t, site))
	refused("a second service", []string{"another Redstart service", dir}, serve...)
	p.kill()
	key := filepath.Join(dir, "vault.key")
	if err := os.Remove(key); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(key, 0o700); err != nil {
		t.Fatal(err)
	}
	// A key that cannot be read keeps nothing closed but the secrets.
	spawn(t, "Segment:", dir, os.Args[0], "serve", "--listen", "127.0.0.1:0", "--vxlan", offer(t, site))
	out, errs, _ := run("--data", dir, "vault", "status")
	has(t, "vault status", out+errs, "locked", key, "it is no regular file")
}
