package snmp_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/driver/drivertest"
	"redstart/internal/driver/snmp"
	"redstart/internal/sim/box"
	wire "redstart/internal/wire/snmp"
)

const heron = `redstart: profile/1
id: heron
maker: Heron
model: H
kind: lamp
recognise: [{fact: model, is: h, sure: 90}]
factory: {address: 192.168.99.3/24}
user: keeper
restart: {takes: 1s, at-most: 5s}
talk:
  snmp: {TALK}
order:
  - {act: name}
  - {act: address}
acts:
  identify: [{snmp: get, take: {model: location}}]
  password: [{snmp: set, set: [{object: contact, value: "{password}"}]}]
  name: [{snmp: set, set: [{object: name, value: "{name}"}]}]
  address: [{snmp: set, set: [{object: 1.3.6.1.4.1.99999.7.1.0, as: address, value: "{address}"}]}]
  read: [{snmp: get, take: {name: name, address: 1.3.6.1.4.1.99999.7.1.0}}]
`

func doc(talk string) string { return strings.Replace(heron, "TALK", talk, 1) }

// answers is an agent in the simulated box: it tells its name and takes anything.
func answers(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
	m, err := wire.Parse(payload)
	if err != nil {
		return
	}
	if m.Kind == wire.KindGet {
		for i := range m.Values {
			m.Values[i].Text = b.Running().Name
		}
	}
	m.Kind = wire.KindResponse
	if answer, err := m.Append(); err == nil {
		reply(answer, netip.AddrPort{})
	}
}

// The SNMP driver passes what every driver must.
func TestWhatEveryDriverMust(t *testing.T) {
	t.Parallel()
	drivertest.Run(t, drivertest.Case{
		Profile: doc("version: 2c"),
		Box:     box.Model{Maker: "Heron", Name: "H", Datagrams: []box.Datagram{{Port: wire.Port, Answer: answers}}},
		Factory: box.Settings{Name: drivertest.Name, Address: netip.MustParsePrefix("192.168.99.3/24")},
	})
}

// What a profile says of SNMP is checked when it is read.
func TestWordsAreChecked(t *testing.T) {
	for talk, says := range map[string]string{
		"version: 4": "version is 1, 2c or 3", "version: 3": "needs auth", "version: 3, auth: rot13": "auth is one of",
		"version: 2c, auth: sha": "belong to version 3", "version: 3, auth: sha, read: x": "read and write",
		"version: 3, auth: sha, privacy: xor": "privacy is one of",
	} {
		if _, err := profile.Parse([]byte(doc(talk)), []profile.Driver{snmp.Driver{}}); err == nil ||
			!strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", talk, err)
		}
	}
	for move, says := range map[string]string{
		`{snmp: get}`: "with take", `{snmp: set, take: {model: name}}`: "with set",
		`{snmp: get, take: {model: nothing}}`:                              "or an identifier like",
		`{snmp: set, set: [{object: name, as: blob, value: x}]}`:           "as is one of",
		`{snmp: get, take: {model: 1.3.6.1.4.1.99999.7.1.0}, nonsense: 1}`: "nonsense",
	} {
		text := strings.Replace(doc(""), "{snmp: get, take: {model: location}}", move, 1)
		if _, err := profile.Parse([]byte(text), []profile.Driver{snmp.Driver{}}); err == nil ||
			!strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", move, err)
		}
	}
}

// agent starts Debian's agent on loopback, and gives its port.
func agent(t *testing.T) uint16 {
	t.Helper()
	path, err := exec.LookPath("snmpd")
	if err != nil {
		if path, err = exec.LookPath("/usr/sbin/snmpd"); err != nil {
			t.Fatal("make test installs snmpd: ", err)
		}
	}
	probe, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := probe.LocalAddr().(*net.UDPAddr).AddrPort()
	probe.Close()
	dir := t.TempDir()
	conf := filepath.Join(dir, "snmpd.conf")
	err = os.WriteFile(conf, []byte("rwcommunity tern-write 127.0.0.1\nrocommunity public 127.0.0.1\n"+
		"createUser keeper SHA-256 "+drivertest.Password+" AES "+drivertest.Password+"\nrwuser keeper priv\n"), 0o600)
	if err != nil {
		t.Fatal(err)
	}
	daemon := exec.Command(path, "-f", "-Lo", "-C", "-c", conf, "-p", filepath.Join(dir, "pid"), fmt.Sprintf("udp:%s", at))
	daemon.Env = append(os.Environ(), "SNMP_PERSISTENT_DIR="+dir)
	if err := daemon.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = daemon.Process.Kill(); _ = daemon.Wait() }) // it ends with the test
	return at.Port()
}

// talk parses a profile and gives its moves over a conversation with an agent on loopback.
func talk(t *testing.T, port uint16, section string, login profile.Login) func(profile.Act,
	map[string]string) (map[string]string, error) {
	t.Helper()
	p, err := profile.Parse([]byte(doc(section)), []profile.Driver{snmp.Driver{}})
	if err != nil {
		t.Fatal(err)
	}
	s := snmp.Driver{}.Open(driver.Peer{Section: p.Section("snmp"), Login: login,
		Datagrams: func(ctx context.Context, _ uint16) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "udp", fmt.Sprintf("127.0.0.1:%d", port))
		}})
	t.Cleanup(s.Close)
	return func(act profile.Act, vars map[string]string) (map[string]string, error) {
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		defer cancel()
		return s.Do(ctx, p.Acts[act][0].Words, vars)
	}
}

// An agent that others wrote takes what is set and tells it again, in every version; what it
// refuses is said in plain words, and a wrong login is tried once.
func TestDebiansAgent(t *testing.T) {
	t.Parallel()
	port := agent(t)
	login := profile.Login{User: "keeper", Password: drivertest.Password}
	for _, c := range []struct {
		section string
		login   profile.Login
	}{
		{`version: "1", write: tern-write`, profile.Login{}}, {"version: 2c, write: tern-write", profile.Login{}},
		{`version: "3", auth: sha256, privacy: aes`, login},
	} {
		do := talk(t, port, c.section, c.login)
		var err error
		name := "tern-" + strings.NewReplacer(`"`, "", " ", "", ",", "", ":", "").Replace(c.section)
		for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); { // it may just be starting
			if _, err = do(profile.Name, map[string]string{"name": name}); !errors.Is(err, driver.ErrNoAnswer) {
				break
			}
		}
		if err != nil {
			t.Fatalf("%s: %v", c.section, err)
		}
		read := strings.Replace(doc(c.section), "{snmp: get, take: {model: location}}", "{snmp: get, take: {model: name}}", 1)
		p, err := profile.Parse([]byte(read), []profile.Driver{snmp.Driver{}})
		if err != nil {
			t.Fatal(err)
		}
		s := snmp.Driver{}.Open(driver.Peer{Section: p.Section("snmp"), Login: c.login,
			Datagrams: func(ctx context.Context, _ uint16) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, "udp", fmt.Sprintf("127.0.0.1:%d", port))
			}})
		facts, err := s.Do(t.Context(), p.Acts[profile.Identify][0].Words, nil)
		s.Close()
		if err != nil || facts["model"] != name {
			t.Errorf("%s: %v, %v", c.section, facts, err)
		}
		if _, err := do(profile.Address, map[string]string{"address": "10.9.8.7"}); !errors.Is(err, driver.ErrValue) {
			t.Errorf("%s, an object that it has not: %v", c.section, err)
		}
		if _, err := do(profile.Address, map[string]string{"address": "ten"}); !errors.Is(err, driver.ErrNotSent) {
			t.Errorf("%s: %v", c.section, err)
		}
	}
	wrong := talk(t, port, `version: "3", auth: sha256, privacy: aes`, profile.Login{User: "keeper", Password: "not-this-one"})
	if _, err := wrong(profile.Name, map[string]string{"name": "x"}); !errors.Is(err, driver.ErrLogin) {
		t.Errorf("a wrong password: %v", err)
	}
}
