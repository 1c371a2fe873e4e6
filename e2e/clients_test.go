package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Debian's DHCP clients, as they watch over the address that they were given. Each has a folder of its
// own at $DIR, and sets its address with $SET where it has no means of its own.
var dhcpClients = map[string]string{
	"dhcpcd": `mount -t tmpfs none /run && mount -t tmpfs none /var/lib/dhcpcd &&
		exec dhcpcd --nobackground --noipv4ll --ipv4only --script /bin/true --config /dev/null wire0`,
	"dhclient": `exec dhclient -4 -d -sf "$SET" -lf "$DIR/leases" -pf "$DIR/pid" -cf /dev/null wire0`,
	"udhcpc":   `exec udhcpc -i wire0 -f -a -t 100 -T 1 -s "$SET"`,
	"networkd": `mount -o remount,ro /sys && mount -t tmpfs none /run/systemd && mkdir /run/systemd/network &&
		printf '[Match]\nName=wire0\n[Network]\nDHCP=ipv4\nLinkLocalAddressing=no\n[DHCPv4]\nSendDecline=yes\n' >/run/systemd/network/wire.network &&
		chmod 644 /run/systemd/network/wire.network && exec /usr/lib/systemd/systemd-networkd`,
}

// setAddress is what clients call that set no address themselves.
const setAddress = `#!/bin/sh
case "$1$reason" in
bound|renew) ip addr replace "$ip/$mask" dev wire0 ;;
BOUND|RENEW|REBIND|REBOOT) ip addr replace "$new_ip_address/24" dev wire0 ;;
esac
`

// Hosts that are none of ours keep their address, and need not even defend it (RFC 5227, 2.4), whatever
// is asked, handed out, set and verified beside them. They sit where addresses to ask from are
// looked for first.
func TestRealClientsKeepTheirAddress(t *testing.T) {
	t.Parallel()
	s := makeSpaces(t, "serve", "site", "box", "server", "witness")
	s.ip("-n", s.name("server"), "addr", "add", "10.40.11.1/24", "dev", "wire0")
	dir := t.TempDir()
	s.daemon("server", "dnsmasq", "--no-daemon", "--conf-file=/dev/null", "--port=0", "--interface=wire0", "--bind-dynamic",
		"--dhcp-range=10.40.11.250,10.40.11.253,255.255.255.0,1h", "--dhcp-host="+s.mac("box")+",ignore",
		"--dhcp-leasefile="+filepath.Join(dir, "leases"), "--pid-file")
	s.waitIn("server", "sh", "-c", "grep -q :0043 /proc/net/udp")
	heard := s.daemon("witness", "tshark", "-l", "-n", "-i", "wire0", "-f", "arp", "-Y", "arp.isannouncement == 1", "-T", "fields",
		"-e", "eth.src", "-e", "arp.src.proto_ipv4")
	waitFor(t, func() bool { return strings.Contains(heard.String(), "Capturing on") })
	set := filepath.Join(dir, "set.sh")
	if err := os.WriteFile(set, []byte(setAddress), 0o700); err != nil {
		t.Fatal(err)
	}
	said, at := map[string]*buffer{}, map[string]string{}
	address := func(role string) string {
		return inet.FindString(s.ip("-n", s.name(role), "-4", "addr", "show", "dev", "wire0"))
	}
	announced := func(role string) int { return strings.Count(heard.String(), s.mac(role)) }
	for _, made := range []string{"/run/systemd", "/var/lib/dhcpcd"} {
		if err := os.MkdirAll(made, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for role, start := range dhcpClients {
		s.host(role)
		own := filepath.Join(dir, role)
		if err := os.Mkdir(own, 0o777); err != nil {
			t.Fatal(err)
		}
		said[role] = s.daemon(role, "env", "DIR="+own, "SET="+set, "unshare", "--mount", "sh", "-c", start)
	}
	for role := range dhcpClients {
		waitFor(t, func() bool { at[role] = address(role); return at[role] != "" })
	}
	// Those that watch over their address announce it twice (RFC 5227, 2.3).
	for _, role := range []string{"dhcpcd", "networkd"} {
		waitFor(t, func() bool { return announced(role) >= 2 })
	}
	before := map[string]int{}
	for role := range dhcpClients {
		before[role] = announced(role)
	}

	data, planFile, self := filepath.Join(dir, "data"), filepath.Join(dir, "plan.csv"), os.Args[0]
	spawn(t, "cuts its power", dir, "ip", "netns", "exec", s.name("site"), self, "sim", "--interface", "wire0", "--devices", "3",
		"--restarts", "0.1", "--seed", "13")
	if err := os.MkdirAll(filepath.Join(data, "profiles"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(data, "profiles", "real.yaml"), []byte(realModel), 0o600); err != nil {
		t.Fatal(err)
	}
	service := spawn(t, "Segment: wire0", data, "ip", "netns", "exec", s.name("serve"), self, "serve", "--interface", "wire0",
		"--listen", "127.0.0.1:0", "--pace", "10000")
	redstart := func(wanted string, args ...string) {
		t.Helper()
		out, err := s.in("serve", append([]string{self, "--data", data}, args...)...)
		if err != nil || !strings.Contains(out, wanted) {
			t.Fatalf("redstart %s: %v\n%s\nservice: %s", strings.Join(args, " "), err, out, service.lines)
		}
	}
	if err := os.WriteFile(planFile, fmt.Appendf(nil, "tag,profile,address,name,mac\nCAM-1,ovalis-c20,10.40.11.247,cam-1,\n"+
		"CAM-2,ovalis-c20,10.40.11.248,cam-2,\nCAM-3,ovalis-c20,10.40.11.249,cam-3,\nBOX-1,real-box,10.40.11.246,box-1,%s\n",
		s.mac("box")), 0o600); err != nil {
		t.Fatal(err)
	}
	redstart("", "site", "set", "--name", "Quay", "--subnet", "10.40.11.0/24", "--gateway", "10.40.11.1")
	redstart("4 entries added", "plan", "import", planFile)
	box := s.daemon("box", "env", "SET="+set, "unshare", "--mount", "sh", "-c", dhcpClients["udhcpc"])
	for range 5 {
		redstart(s.mac("box"), "find")
	}
	redstart("matched", "match", "--accept", "--yes")
	redstart("have their address", "commission", "hand-out", "BOX-1", "--other-server", "10.40.11.1", "--wait", "60s")
	redstart("3 of 3 configured", "commission", "CAM-1", "CAM-2", "CAM-3")
	redstart("3 verified", "verify", "CAM-1", "CAM-2", "CAM-3")
	if got := address("box"); !strings.Contains(got, "10.40.11.246") {
		t.Errorf("the box has %q: %s", got, box)
	}
	// A defence would have come at once; one more question is heard after all of them.
	redstart("", "find")
	for role := range dhcpClients {
		if now := address(role); now != at[role] {
			t.Errorf("%s had %s, and has %q now; it says:\n%s", role, at[role], now, said[role])
		}
		if n := announced(role) - before[role]; n > 0 {
			t.Errorf("%s defended its address %d times; it says:\n%s", role, n, said[role])
		}
	}
}
