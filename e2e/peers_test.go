package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// realModel is a profile for the box on which Debian's own servers run.
const realModel = `redstart: profile/1
id: real-box
maker: Nobody
model: Box
kind: clock
about: A Linux host.
recognise:
  - {fact: name, begins: real-, sure: 80}
  - {fact: banner, holds: OpenSSH, sure: 50}
ask: [ssh, snmp]
factory:
  address: none
user: nobody
restart: {takes: 1s, at-most: 2s}
ports: [22]
`

// waitIn runs a command in a host until it succeeds.
func (s *spaces) waitIn(role string, command ...string) {
	s.t.Helper()
	var out string
	waitFor(s.t, func() bool {
		var err error
		out, err = s.in(role, command...)
		return err == nil
	})
	_ = out
}

// daemon starts a program in a host that ends with the test, and gives what it says.
func (s *spaces) daemon(role string, command ...string) *buffer {
	s.t.Helper()
	cmd := exec.Command("ip", append([]string{"netns", "exec", s.name(role)}, command...)...)
	said := &buffer{}
	cmd.Stdout, cmd.Stderr = said, said
	if err := startMortal(cmd, syscall.SIGTERM); err != nil {
		s.t.Fatal(err)
	}
	s.t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM) // it cleans up behind itself
		_ = cmd.Wait()
		if s.t.Failed() {
			s.t.Logf("%s said: %s", command[0], said)
		}
	})
	return said
}

// The other side is real software of Debian's, each in a namespace of its own
// with no way out: hosts that share an address, one in a strange subnet, one
// with IPv6 only; responders for mDNS, LLDP, SNMP and SSH; DHCP clients and a
// DHCP server.
func TestAmongRealHosts(t *testing.T) {
	t.Parallel()
	s := makeSpaces(t, "serve")
	// LLDP crosses the hub, as on an unmanaged switch
	s.ip("-n", s.name("hub"), "link", "set", "br0", "type", "bridge", "group_fwd_mask", "0x4000")
	for role, address := range map[string]string{"twin1": "10.40.8.77/22", "twin2": "10.40.8.77/22",
		"strange": "172.29.3.3/29", "box": "10.40.8.80/22"} {
		s.host(role, address)
	}
	for _, role := range []string{"six", "client", "stranger", "server"} {
		s.host(role)
	}
	for _, which := range []string{"all", "default", "wire0"} {
		if out, err := s.in("six", "sh", "-c", "echo 0 > /proc/sys/net/ipv6/conf/"+which+"/disable_ipv6"); err != nil {
			t.Fatal(err, out)
		}
	}
	dir := t.TempDir()
	write := func(name, text string, mode os.FileMode) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), mode); err != nil {
			t.Fatal(err)
		}
		return path
	}
	daemon := func(role string, command ...string) {
		t.Helper()
		s.daemon(role, command...)
	}
	for _, made := range []string{"/run/avahi-daemon", "/run/sshd", "/run/lldpd"} {
		if err := os.MkdirAll(made, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	daemon("box", "avahi-daemon", "--no-drop-root", "--no-chroot", "--no-rlimits", "-f",
		write("avahi.conf",
			"[server]\nhost-name=real-clock\nuse-ipv4=yes\nuse-ipv6=no\nallow-interfaces=wire0\nenable-dbus=no\n[publish]\npublish-workstation=yes\n", 0o600))
	daemon("box", "snmpd", "-f", "-Lo", "-C", "-c", write("snmpd.conf",
		"agentAddress udp:161\nrocommunity public\nsysName real-clock\nsysDescr A real box\n", 0o600), "-p",
		filepath.Join(dir, "snmpd.pid"))
	key := filepath.Join(dir, "key")
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key).CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}
	daemon("box", "/usr/sbin/sshd", "-D", "-f", write("sshd.conf", "Port 22\nHostKey "+key+"\nPidFile none\n", 0o600))
	s.waitIn("box", "sh", "-c",
		"grep -q :14E9 /proc/net/udp && grep -q :00A1 /proc/net/udp && grep -q :0016 /proc/net/tcp")

	data := filepath.Join(dir, "data")
	if err := os.MkdirAll(filepath.Join(data, "profiles"), 0o700); err != nil {
		t.Fatal(err)
	}
	write("data/profiles/real.yaml", realModel, 0o600)
	self := os.Args[0]
	service := spawn(t, "Segment: wire0", data, "ip", "netns", "exec", s.name("serve"), self, "serve", "--interface",
		"wire0", "--listen", "127.0.0.1:0")
	redstart := func(good bool, wanted []string, args ...string) string {
		t.Helper()
		out, err := s.in("serve", append([]string{self, "--data", data}, args...)...)
		if (err == nil) != good {
			t.Fatalf("redstart %s: %v\n%s\n%s", strings.Join(args, " "), err, out, service.lines)
		}
		has(t, "redstart "+strings.Join(args, " "), out, wanted...)
		return out
	}
	redstart(true, nil, "site", "set", "--name", "Quay", "--subnet", "10.40.8.0/22", "--gateway", "10.40.8.1")
	redstart(true, []string{"wire0", "wired", "yes"}, "find", "--list", "--listen", "0.5")
	redstart(false, []string{"there is no network interface wire9"}, "find", "plug", "wire9")
	redstart(true, []string{"The site uses wire0"}, "find", "plug", "wire0")
	redstart(true, []string{s.mac("twin1"), s.mac("twin2"), s.mac("strange"), "172.29.3.3", s.mac("six"), "fe80::",
		"2 devices share the address 10.40.8.77", "real-box"}, "find", "--capture", "--range", "172.29.3.0/29")
	watching := spawn(t, "Watching", data, "ip", "netns", "exec", s.name("serve"), self, "--data", data, "find",
		"--watch")
	// It says when it likes, and to nobody but the wire; we have it say so every second.
	// Some starts of it in a namespace send nothing; the next one does.
	for heard, start := false, 0; !heard && start < 8; start++ {
		control := filepath.Join(os.TempDir(), s.name(fmt.Sprintf("lldpd%d.sock", start)))
		lldpd := exec.Command("ip", "netns", "exec", s.name("box"), "lldpd", "-d", "-u", control, "-I", "wire0", "-S",
			"A real box")
		if err := startMortal(lldpd, syscall.SIGTERM); err != nil {
			t.Fatal(err)
		}
		for try := 0; !heard && try < 20; try++ {
			time.Sleep(500 * time.Millisecond)
			// it may not listen yet
			_, _ = s.in("box", "lldpcli", "-u", control, "configure", "lldp", "tx-interval", "1")
			out, err := s.in("serve", self, "--data", data, "find", "show", s.mac("box"))
			heard = err == nil && strings.Contains(out, "lldp")
		}
		_ = lldpd.Process.Signal(syscall.SIGTERM) // it cleans up behind itself
		_ = lldpd.Wait()
	}
	redstart(true, []string{"mdns", "real-clock", "snmp", "A real box", "lldp", "ssh", "OpenSSH", "_workstation._tcp"},
		"find", "show", s.mac("box"), "--output", "table")
	packets := filepath.Join(dir, "packets.pcapng")
	redstart(true, nil, "find", "packets", packets)
	analyse(t, packets, s.mac("serve"), map[string]string{"mdns": "mDNS", "snmp": "SNMP", "ssh": "SSH",
		"icmpv6": "ICMPv6", "arp": "ARP", "dhcp": "DHCP", "bacapp": "BACnet", "pn_dcp": "DCP"})

	// The client's box is planned; the stranger's is not.
	redstart(true, nil, "plan", "import",
		write("plan.csv", fmt.Sprintf("tag,profile,address,name,mac\nCLOCK-1,real-box,10.40.9.123,clock-1,%s\n",
			s.mac("client")), 0o600))
	script := write("lease.sh", "#!/bin/sh\n[ \"$1\" = bound ] && ip addr replace \"$ip/$mask\" dev wire0 &&\n"+
		"echo \"$ip $subnet $router\" > \"$OUT\"\nexit 0\n", 0o700)
	ask := func(role, tries string) string {
		out := filepath.Join(dir, role+".lease")
		// no lease is an answer as well
		_, _ = s.in(role, "env", "OUT="+out, "udhcpc", "-i", "wire0", "-f", "-q", "-n", "-t", tries, "-T", "1", "-A",
			"1", "-s", script)
		got, _ := os.ReadFile(out)
		return strings.TrimSpace(string(got))
	}
	ask("client", "2")                            // it shows itself; nobody answers yet
	_ = watching.cmd.Process.Signal(os.Interrupt) // it may have ended already
	<-watching.done
	has(t, "find --watch", watching.lines.String(), "+ came  "+s.mac("client"), "waits for DHCP")
	redstart(true, []string{"CLOCK-1"}, "match", "--accept")
	redstart(true, []string{"waits for DHCP"}, "find", "--known")
	handing := make(chan string, 1)
	go func() {
		// what it says is looked at below
		out, _ := s.in("serve", self, "--data", data, "commission", "hand-out", "--wait", "60s")
		handing <- out
	}()
	if got := ask("stranger", "8"); got != "" {
		t.Errorf("a stranger got %s", got)
	}
	if got := ask("client", "20"); got != "10.40.9.123 255.255.252.0 10.40.8.1" {
		t.Errorf("the client got %q", got)
	}
	if out := <-handing; !strings.Contains(out, "1 of 1 have their address") {
		t.Errorf("handing out: %s", out)
	}

	// A foreign DHCP server is noticed, and ours refuses.
	s.ip("-n", s.name("server"), "addr", "add", "10.99.0.1/24", "dev", "wire0")
	daemon("server", "dnsmasq", "--no-daemon", "--conf-file=/dev/null", "--port=0", "--interface=wire0",
		"--bind-dynamic", "--dhcp-range=10.99.0.10,10.99.0.20,1h", "--dhcp-leasefile="+filepath.Join(dir, "leases"),
		"--pid-file")
	s.waitIn("server", "sh", "-c", "grep -q :0043 /proc/net/udp")
	redstart(false, []string{"another DHCP server answers: 10.99.0.1, MAC " + s.mac("server")}, "commission",
		"hand-out", "CLOCK-1")
	redstart(true, nil, "find")
	if out := redstart(true, nil, "find", "show", s.mac("server")); !strings.Contains(out, "gives") ||
		!strings.Contains(out, "dhcp") {
		t.Errorf("the foreign server: %s", out)
	}
	for _, table := range []string{"route", "neigh"} {
		if got := s.ip("-n", s.name("serve"), "-4", table, "show"); strings.TrimSpace(got) != "" {
			t.Errorf("the computer's own %s has: %s", table, got)
		}
	}
}
