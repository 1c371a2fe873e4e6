package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// pumpModel sets a Linux host over its shell, as OpenSSH gives one, and over a web
// service that hands out its token in the header of a refusal.
const pumpModel = `redstart: profile/1
id: quay-pump
maker: Quayside
model: Pump
kind: controller
about: A Linux host that is set over its shell.
recognise:
  - {fact: address, within: 192.168.50.1, sure: 60}
  - {fact: banner, holds: OpenSSH, sure: 50}
ask: [ssh]
factory:
  address: 192.168.50.1/24
  login: {user: root, password: factory-1}
user: root
name: {max: 20, case: lower}
password: {min: 10, max: 20, classes: 3}
restart: {takes: 2s, at-most: 60s, shows: [starts]}
ports: [22, 9091]
talk:
  shell: {over: ssh, prompt: '# $', end: "\n", quote: sh}
  web: {scheme: http, port: 9091}
settings:
  - {key: exchange-port, label: Exchange port, type: number, min: 1024, max: 65535, required: true}
order:
  - {act: password}
  - {act: name}
  - {act: settings}
  - {act: address, then: moves}
  - {act: save}
  - {act: restart, then: restarts}
acts:
  sign-in:
    - shell: ""
  password:
    - shell: "passwd {user}"
      answers:
        - {to: 'New password: $', say: "{password}"}
        - {to: 'Retype new password: $', say: "{password}"}
      wrong: '(?m)^passwd: (.*unchanged.*)$'
  name:
    - shell: "hostname {name}"
  settings:
    - request: POST /transmission/rpc
      expect: [409]
      take: {token: header X-Transmission-Session-Id}
    - request: POST /transmission/rpc
      headers: {X-Transmission-Session-Id: "{token}", Content-Type: application/json}
      text: '{"method": "session-set", "arguments": {"peer-port": {setting.exchange-port}}}'
      take: {result: json /result}
      until: {result: success}
      within: 5s
  address:
    - shell: "ip addr add {address}/{bits} dev wire0 && ip route replace default via {gateway} && ip addr del 192.168.50.1/24 dev wire0"
      ends: true
  save:
    - shell: "printf 'NAME=%s\\nADDRESS=%s\\nGATEWAY=%s\\n' {name} {address}/{bits} {gateway} > /etc/pump.conf"
    # The service writes what it was told when it is asked to end.
    - shell: "kill -TERM $(pidof transmission-daemon); while pidof transmission-daemon > /dev/null; do sleep 0.1; done; transmission-daemon -g /etc/pump.web; until grep -q :2383 /proc/net/tcp; do sleep 0.1; done"
  restart:
    - shell: kill -TERM 1
      ends: true
  read:
    - shell: "echo model=Pump serial=$(cat /etc/pump.serial) starts=$(cat /etc/pump.starts) name=$(hostname)"
      take: {model: 'model=(\S+)', serial: 'serial=(\S+)', starts: 'starts=(\d+)', name: 'name=(\S+)'}
    - shell: ip -4 -o addr show dev wire0
      take: {cidr: 'inet (\S+)'}
    - shell: "echo gateway=$(ip -4 route show default | cut -d ' ' -f 3)"
      take: {gateway: '(?m)^gateway=(\S*)'}
    - request: POST /transmission/rpc
      expect: [409]
      take: {token: header X-Transmission-Session-Id}
    - request: POST /transmission/rpc
      headers: {X-Transmission-Session-Id: "{token}"}
      json: {method: session-get}
      take: {setting.exchange-port: json /arguments/peer-port}
`

// machine is what a host does from power-up to power-up: it takes what was saved into
// force and starts Debian's OpenSSH server.
const machine = `set -u
mount --bind "$1/etc" /etc
while :; do
  setpriv --pdeathsig KILL unshare --pid --fork --kill-child=KILL --mount-proc sh -c '
    . /etc/pump.conf
    hostname "$NAME"
    echo $(($(cat /etc/pump.starts) + 1)) > /etc/pump.starts
    ip addr flush dev wire0
    ip addr add "$ADDRESS" dev wire0
    ip link set wire0 up
    [ -z "$GATEWAY" ] || ip route replace default via "$GATEWAY"
    trap "exit 0" TERM
    transmission-daemon -f -g /etc/pump.web &
    /usr/sbin/sshd -D -e -f /etc/pump.sshd &
    wait'
  ip link set wire0 down
  sleep 1
done
`

// pump makes a host with a factory address, the same for all, whose accounts and
// settings are its own.
func (s *spaces) pump(role, serial string) {
	s.t.Helper()
	s.host(role)
	dir := s.t.TempDir()
	must := func(command ...string) {
		s.t.Helper()
		if out, err := exec.Command(command[0], command[1:]...).CombinedOutput(); err != nil {
			s.t.Fatalf("%s: %v %s", command, err, out)
		}
	}
	must("cp", "-a", "/etc", dir)
	must("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, "etc/pump.key"))
	for name, text := range map[string]string{
		"etc/pump.conf":   "NAME=pump\nADDRESS=192.168.50.1/24\nGATEWAY=\n",
		"etc/pump.serial": serial + "\n", "etc/pump.starts": "0\n",
		"etc/pump.sshd":              "Port 22\nHostKey /etc/pump.key\nPidFile none\nPermitRootLogin yes\nPasswordAuthentication yes\nUsePAM no\nPrintMotd no\nPrintLastLog no\n",
		"etc/pump.web/settings.json": `{"rpc-bind-address": "0.0.0.0", "rpc-whitelist-enabled": false, "dht-enabled": false, "lpd-enabled": false, "pex-enabled": false, "utp-enabled": false, "port-forwarding-enabled": false}`,
		"machine.sh":                 machine,
	} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			s.t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			s.t.Fatal(err)
		}
	}
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		s.t.Fatal(err)
	}
	must("unshare", "--mount", "sh", "-c", "mount --bind "+dir+"/etc /etc && echo root:factory-1 | chpasswd")
	said, err := os.Create(filepath.Join(dir, "said")) // no pipe: what it leaves behind would hold that open
	if err != nil {
		s.t.Fatal(err)
	}
	defer said.Close()
	cmd := exec.Command("ip", "netns", "exec", s.name(role), "unshare", "--mount", "--uts", "sh",
		filepath.Join(dir, "machine.sh"), dir)
	cmd.Stdout, cmd.Stderr = said, said
	if err := startMortal(cmd, syscall.SIGKILL); err != nil {
		s.t.Fatal(err)
	}
	s.t.Cleanup(func() {
		_ = cmd.Process.Kill() // what it started goes with its namespace
		_ = cmd.Wait()
		if s.t.Failed() {
			text, _ := os.ReadFile(said.Name()) // it is there, or has nothing to tell
			s.t.Logf("%s said: %s", role, text)
		}
	})
	s.waitIn(role, "sh", "-c", "grep -q :0016 /proc/net/tcp")
}

// Two hosts with Debian's OpenSSH server and a web service of Debian's, which nobody here
// wrote, have one factory address: side by side they are given a password, a name, a
// setting by the web service, an address in whose taking the session dies, and a gateway,
// and are verified after they came back.
func TestRealHostsAreSetOverTheirShell(t *testing.T) {
	t.Parallel()
	s := makeSpaces(t, "serve")
	if out, err := exec.Command("unshare", "--mount", "--uts", "--pid", "--fork", "--mount-proc", "mount", "--bind",
		"/etc", "/etc").CombinedOutput(); err != nil {
		t.Skipf("skipped: a host with accounts and processes of its own cannot be made here: %v %s", err, out)
	}
	s.pump("pump1", "QP-1")
	s.pump("pump2", "QP-2")
	data := filepath.Join(t.TempDir(), "data")
	if err := os.MkdirAll(filepath.Join(data, "profiles"), 0o700); err != nil {
		t.Fatal(err)
	}
	write := func(name, text string) string {
		path := filepath.Join(data, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	i, j := strings.Index(pumpModel, `    - shell: "passwd {user}"`), strings.Index(pumpModel, "  name:\n    - shell:")
	write("profiles/pump.yaml", pumpModel[:i]+`    - shell: "printf '%s:%.9s\\n' {user} {password} | chpasswd"`+"\n"+pumpModel[j:])
	self := os.Args[0]
	service := spawn(t, "Segment: wire0", data, "ip", "netns", "exec", s.name("serve"), self, "serve", "--interface",
		"wire0", "--listen", "127.0.0.1:0")
	redstart := func(wanted []string, args ...string) string {
		t.Helper()
		out, err := s.in("serve", append([]string{self, "--data", data}, args...)...)
		if err != nil {
			t.Fatalf("redstart %s: %v\n%s\n%s", strings.Join(args, " "), err, out, service.lines)
		}
		has(t, "redstart "+strings.Join(args, " "), out, wanted...)
		return out
	}
	redstart(nil, "site", "set", "--name", "Quay", "--subnet", "10.40.8.0/22", "--gateway", "10.40.8.1")
	redstart(nil, "plan", "import",
		write("plan.csv",
			fmt.Sprintf("tag,profile,address,name,mac,serial,exchange-port\nPUMP-1,quay-pump,10.40.9.31,pump-1,%s,QP-1,40001\nPUMP-2,quay-pump,10.40.9.32,pump-2,%s,QP-2,40002\n", s.mac("pump1"), s.mac("pump2"))))
	redstart([]string{"2 devices share the address 192.168.50.1", "quay-pump"}, "find")
	redstart([]string{"PUMP-1", "PUMP-2"}, "match", "--accept")
	// A host that takes the half of a password is no lost one: the session that set it is still open.
	if out, err := s.in("serve", self, "--data", data, "commission", "PUMP-1"); err == nil ||
		!strings.Contains(out, "it was given back the one from before, which opens it") {
		t.Errorf("%v: %s", err, out)
	}
	write("profiles/pump.yaml", pumpModel)
	redstart([]string{"2 of 2 configured"}, "commission")
	for i, role := range []string{"pump1", "pump2"} {
		tag := fmt.Sprintf("PUMP-%d", i+1)
		redstart([]string{"verified", "host key", "start counter went", "refused", "exchange-port"}, "verify", tag)
		out, err := s.in(role, "ip", "-4", "-o", "addr", "show", "dev", "wire0")
		if err != nil || !strings.Contains(out, fmt.Sprintf("10.40.9.3%d/22", i+1)) ||
			strings.Contains(out, "192.168.50.1") {
			t.Errorf("%s has %s, %v", role, out, err)
		}
	}
}
