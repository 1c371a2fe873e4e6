package e2e

import (
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/chromedp/chromedp"
	"golang.org/x/sys/unix"

	"redstart/internal/browser"
	"redstart/internal/sim/skerry"
)

// spaces are network namespaces that this test makes, with no way out: a hub
// with a bridge, and one for each host on it.
type spaces struct {
	t      *testing.T
	prefix string
}

// spacesMade tells the namespaces of tests that run side by side apart.
var spacesMade atomic.Int64

func (s *spaces) name(role string) string { return s.prefix + role }

// ip runs the ip command.
func (s *spaces) ip(args ...string) string {
	s.t.Helper()
	out, err := exec.Command("ip", args...).CombinedOutput()
	if err != nil {
		s.t.Fatalf("ip %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return string(out)
}

// in runs a command inside a namespace.
func (s *spaces) in(role string, command ...string) (string, error) {
	cmd := exec.Command("ip", append([]string{"netns", "exec", s.name(role)}, command...)...)
	cmd.Env = alone()
	out, err := cmd.CombinedOutput()
	return string(out), err
}

func makeSpaces(t *testing.T, roles ...string) *spaces {
	t.Helper()
	s := &spaces{t, fmt.Sprintf("rs%d-%d-", os.Getpid(), spacesMade.Add(1))}
	if os.Geteuid() != 0 {
		t.Skip("skipped: making network namespaces needs root")
	}
	if out, err := exec.Command("ip", "netns", "add", s.name("hub")).CombinedOutput(); err != nil {
		t.Skipf("skipped: network namespaces cannot be made here: %v %s", err, out)
	}
	leftBehind()
	// nothing more can be done about it
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", s.name("hub")).Run() })
	s.silence("hub")
	s.ip("-n", s.name("hub"), "link", "add", "br0", "type", "bridge", "mcast_snooping", "0") // it would announce itself
	s.ip("-n", s.name("hub"), "link", "set", "br0", "up")
	for _, role := range roles {
		s.host(role)
	}
	return s
}

// leftBehind takes away, once, the namespaces of test processes that were killed;
// their daemons went with them.
var leftBehind = sync.OnceFunc(func() {
	made, _ := os.ReadDir("/run/netns")
	for _, m := range made {
		var pid, n int
		if _, err := fmt.Sscanf(m.Name(), "rs%d-%d-", &pid, &n); err != nil {
			continue
		}
		if _, err := os.Stat(fmt.Sprintf("/proc/%d", pid)); os.IsNotExist(err) {
			_ = exec.Command("ip", "netns", "del", m.Name()).Run() // the next run tries again
		}
	}
})

// starter runs what starts processes, all on one thread that stays: the kernel holds
// a process to be orphaned when the thread that started it ends, and threads that
// entered a namespace do end.
var starter = sync.OnceValue(func() chan<- func() {
	todo := make(chan func())
	go func() {
		runtime.LockOSThread()
		for do := range todo {
			do()
		}
	}()
	return todo
})

// startMortal starts a process that gets a signal when the test process dies, however
// it does.
func startMortal(cmd *exec.Cmd, signal syscall.Signal) error {
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: signal}
	started := make(chan error, 1)
	starter() <- func() { started <- cmd.Start() }
	return <-started
}

// host makes a namespace with its own wire to the hub.
func (s *spaces) host(role string, addresses ...string) {
	s.t.Helper()
	s.ip("netns", "add", s.name(role))
	s.t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", s.name(role)).Run() })
	s.silence(role)
	s.ip("-n", s.name("hub"), "link", "add", role, "type", "veth", "peer", "name", "wire0", "netns", s.name(role))
	s.ip("-n", s.name("hub"), "link", "set", role, "master", "br0", "up")
	s.ip("-n", s.name(role), "link", "set", "lo", "up")
	for _, a := range addresses {
		s.ip("-n", s.name(role), "addr", "add", a, "dev", "wire0")
	}
	s.ip("-n", s.name(role), "link", "set", "wire0", "up")
}

// mac gives the MAC of a host's wire.
func (s *spaces) mac(role string) string {
	s.t.Helper()
	out, err := s.in(role, "cat", "/sys/class/net/wire0/address")
	if err != nil {
		s.t.Fatal(err, out)
	}
	return strings.TrimSpace(out)
}

// silence keeps a kernel from speaking unasked, so that only the site's
// devices are found.
func (s *spaces) silence(role string) {
	s.t.Helper()
	for _, which := range []string{"all", "default"} {
		if out, err := s.in(role, "sh", "-c", "echo 1 > /proc/sys/net/ipv6/conf/"+which+"/disable_ipv6"); err != nil {
			s.t.Fatalf("IPv6 cannot be switched off in a namespace: %v %s", err, out)
		}
	}
}

// through makes a host's loopback reachable from this namespace's own: whoever
// connects to the address that it gives speaks from inside the host.
func (s *spaces) through(role, at string) string {
	s.t.Helper()
	inside := func() (net.Conn, error) {
		runtime.LockOSThread() // without an unlock the thread ends with its goroutine, and is used for nothing else
		space, err := os.Open("/run/netns/" + s.name(role))
		if err != nil {
			return nil, err
		}
		defer space.Close()
		if err := unix.Setns(int(space.Fd()), unix.CLONE_NEWNET); err != nil {
			return nil, err
		}
		return net.Dial("tcp", at)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		s.t.Fatal(err)
	}
	var all sync.WaitGroup
	s.t.Cleanup(func() {
		l.Close()
		all.Wait()
	})
	all.Add(1)
	go func() {
		defer all.Done()
		for {
			outer, err := l.Accept()
			if err != nil {
				return
			}
			all.Add(1)
			go func() {
				defer all.Done()
				defer outer.Close()
				inner, err := inside()
				if err != nil {
					return // the browser says that it cannot reach the service
				}
				defer inner.Close()
				all.Add(1)
				go func() {
					defer all.Done()
					_, _ = io.Copy(inner, outer) // either end may end it
					inner.Close()
				}()
				_, _ = io.Copy(outer, inner)
			}()
		}
	}()
	return "http://" + l.Addr().String()
}

var inet = regexp.MustCompile(`\binet \S+`)

// The simulated site on one real interface, the service on another, and the
// kernel of a third namespace as the witness.
func TestOnRealInterfaces(t *testing.T) {
	t.Parallel()
	s := makeSpaces(t, "site", "serve", "kernel")
	dir := t.TempDir()
	planFile := filepath.Join(dir, "plan.csv")
	self := os.Args[0]
	site := spawn(t, "cuts its power", dir, "ip", "netns", "exec", s.name("site"), self, "sim", "--interface", "wire0",
		"--devices", "20", "--restarts", "0.1", "--seed", "13", "--plan", planFile)
	data := filepath.Join(dir, "data")
	service := spawn(t, "Segment: wire0", data, "ip", "netns", "exec", s.name("serve"), self, "serve", "--interface",
		"wire0", "--listen", "127.0.0.1:0")

	untouched := func(when string) {
		t.Helper()
		if got := inet.FindString(s.ip("-n", s.name("serve"), "-4", "addr", "show", "dev", "wire0")); got != "" {
			t.Errorf("%s the service's interface has %s", when, got)
		}
		for _, table := range [][]string{{"-4", "route", "show"}, {"-4", "neigh", "show"}} {
			if got := s.ip(append([]string{"-n", s.name("serve")}, table...)...); strings.TrimSpace(got) != "" {
				t.Errorf("%s the computer's own %s has: %s", when, table[1], got)
			}
		}
	}
	redstart := func(wanted string, args ...string) {
		t.Helper()
		out, err := s.in("serve", append([]string{self, "--data", data}, args...)...)
		if err != nil || !strings.Contains(out, wanted) {
			t.Fatalf("redstart %s: %v\n%s\nservice: %s\nsite: %s", strings.Join(args, " "), err, out, service.lines,
				site.lines)
		}
	}
	untouched("at first")
	d := skerry.Data()
	redstart("10.40.8.0/22", "site", "set", "--name", d.Name, "--subnet", d.Subnets[0].Prefix.String(), "--gateway",
		d.Subnets[0].Gateway.String(), "--keep-free", "10.40.8.2-10.40.8.19")
	redstart("96 entries added", "plan", "import", planFile)
	redstart("20 devices.", "find")
	redstart("20 matched", "match", "--accept", "--yes")
	redstart("20 of 20 configured", "commission")
	untouched("after the run")
	redstart("24 verified, 72 not wired yet. All done.", "verify")
	untouched("in the end")

	s.ip("-n", s.name("kernel"), "addr", "add", "10.40.11.250/22", "dev", "wire0")
	for _, at := range []string{"10.40.8.20", "10.40.8.26", "10.40.8.35", "10.40.9.10", "10.40.9.13"} {
		if out, err := s.in("kernel", "ping", "-c", "1", "-W", "5", at); err != nil {
			t.Errorf("the kernel cannot ping %s: %v\n%s", at, err, out)
		}
	}
	for page, want := range map[string]string{"http://10.40.8.26/about.json": `"model":"C20"`,
		"https://10.40.8.20/": "Fennmark FS8", "http://10.40.9.10/": "Brindlecap B4"} {
		if out, err := s.in("kernel", "curl", "--silent", "--insecure", "--max-time", "10", page); err != nil ||
			!strings.Contains(out, want) {
			t.Errorf("the kernel cannot read %s: %v\n%s", page, err, out)
		}
	}
	if out, err := s.in("kernel", "ping", "-c", "1", "-W", "1", "192.168.77.20"); err == nil {
		t.Errorf("somebody still holds the factory address:\n%s", out)
	}
}

// Two virtual LANs on one real interface, without the kernel's help: a site on each, and
// tshark as the witness of the tags.
func TestVirtualLANsOnARealInterface(t *testing.T) {
	t.Parallel()
	s := makeSpaces(t, "site", "serve")
	dir := t.TempDir()
	self := os.Args[0]
	for vlan, seed := range map[string]string{"108": "61", "109": "62"} {
		spawn(t, "cuts its power", dir, "ip", "netns", "exec", s.name("site"), self, "sim", "--interface",
			"wire0."+vlan, "--devices", "3", "--restarts", "0.1", "--seed", seed, "--plan",
			filepath.Join(dir, vlan+".csv"))
	}
	data := filepath.Join(dir, "data")
	service := spawn(t, "Segment: wire0.109", data, "ip", "netns", "exec", s.name("serve"), self, "serve",
		"--interface", "wire0.108", "--interface", "wire0.109", "--interface", "wire0", "--listen", "127.0.0.1:0")
	witness := spawn(t, "Capturing on", dir, "ip", "netns", "exec", s.name("site"), "sh", "-c",
		"exec tshark -l -n -i wire0 -T fields -e vlan.id -e frame.protocols 2>&1")
	redstart := func(wanted string, args ...string) {
		t.Helper()
		out, err := s.in("serve", append([]string{self, "--data", data}, args...)...)
		if err != nil || !strings.Contains(out, wanted) {
			t.Fatalf("redstart %s: %v\n%s\nservice: %s", strings.Join(args, " "), err, out, service.lines)
		}
	}
	d := skerry.Data()
	for _, vlan := range []string{"108", "109"} {
		site := []string{"--site", "site-" + vlan}
		redstart("", "site", "add", "--name", "Site "+vlan, "--subnet", d.Subnets[0].Prefix.String(), "--gateway",
			d.Subnets[0].Gateway.String(), "--keep-free", "10.40.8.2-10.40.8.19")
		redstart("The site uses wire0."+vlan, append([]string{"find", "plug", "wire0." + vlan}, site...)...)
		redstart("entries added", append([]string{"plan", "import", filepath.Join(dir, vlan+".csv")}, site...)...)
		redstart("3 devices.", append([]string{"find"}, site...)...)
		redstart("3 matched", append([]string{"match", "--accept", "--yes"}, site...)...)
		redstart("3 of 3 configured", append([]string{"commission"}, site...)...)
		redstart("3 verified", append([]string{"verify"}, site...)...)
	}
	redstart("", "site", "add", "--name", "Untagged", "--subnet", "10.40.8.0/22")
	redstart("The site uses wire0.", "find", "plug", "wire0", "--site", "untagged")
	redstart("0 devices", "find", "--site", "untagged")
	waitFor(t, func() bool {
		seen := witness.lines.String()
		return strings.Contains(seen, "108\teth:ethertype:vlan:ethertype:ip:tcp") &&
			strings.Contains(seen, "109\teth:ethertype:vlan:ethertype:ip:tcp")
	})
	for _, line := range strings.Split(witness.lines.String(), "\n") {
		if id, _, is := strings.Cut(line, "\t"); is && id != "" && id != "108" && id != "109" {
			t.Errorf("tshark saw %q", line)
		}
	}
}

// A service that is plugged into nothing is plugged into an interface in the
// console, which shows what is heard on each before anything is sent.
func TestAnInterfaceIsChosenInTheConsole(t *testing.T) {
	t.Parallel()
	s := makeSpaces(t, "serve")
	s.host("other", "10.40.8.77/22")
	data := t.TempDir()
	service := spawn(t, "First start", data, "ip", "netns", "exec", s.name("serve"), os.Args[0], "serve", "--listen",
		"127.0.0.1:0")
	at := regexp.MustCompile(`http://(127\.0\.0\.1:\d+)`).FindStringSubmatch(service.lines.String())
	password := regexp.MustCompile(`password (\S+)`).FindStringSubmatch(service.lines.String())
	if at == nil || password == nil {
		t.Fatal(service.lines)
	}
	if out, err := s.in("serve", os.Args[0], "--data", data, "site", "set", "--name", "Quay", "--subnet",
		"10.40.8.0/22"); err != nil {
		t.Fatal(err, out)
	}
	console := s.through("serve", at[1])
	b := openTab(t, 1280, 800)
	b.do(chromedp.Navigate(console+"/devices"), browser.Seen(chromedp.CSS("#password")),
		chromedp.SendKeys(chromedp.CSS("#password"), password[1]), key("\r"),
		shows("Not plugged in"), browser.Press("find-options"), browser.Seen(browser.Mark("interfaces")))
	b.do(browser.Click(chromedp.Search(`//tr[contains(., "wire0")]//button[contains(., "Use it")]`)),
		browser.Seen(chromedp.Search(`//tr[contains(., "wire0")]//*[text()="in use"]`)),
		shows("On: wire0"), browser.Answer("find-begin"), browser.Ended("Finding"), shows("%s", s.mac("other")))
}
