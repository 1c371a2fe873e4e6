package shell_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/driver/all"
	"redstart/internal/driver/shell"
	"redstart/internal/sim/console"
)

// document is a profile whose shell moves are tested.
const document = `redstart: profile/1
id: north-q1
maker: Northlight
model: Q1
kind: lamp
recognise: [{fact: model, is: q1, sure: 90}]
factory: {address: none}
user: root
restart: {takes: 1s, at-most: 5s}
talk:
  shell: {%s}
order:
  - {act: name}
  - {act: address}
acts:
  identify: [{shell: ""}]
  sign-in: [{shell: ""}]
%s
`

// script parses the moves of the act read, with a section.
func script(t *testing.T, section, moves string) (profile.Section, profile.Script) {
	t.Helper()
	acts := "  name: [{shell: \"name {name}\"}]\n  address: [{shell: \"at {address}\"}]\n  read:\n    - {shell: show, take: {name: 'n=(\\S*)', address: 'a=(\\S*)'}}\n" + moves
	p, err := profile.Parse(fmt.Appendf(nil, document, section, acts), all.Words())
	if err != nil {
		t.Fatal(err)
	}
	return p.Section("shell"), p.Acts[profile.Read][1:]
}

// host is a console that a session reaches, with what became of it.
type host struct {
	serve func(net.Conn)
	sum   string
	trust error
}

func (b *host) open(t *testing.T, section profile.Section, login profile.Login) driver.Session {
	t.Helper()
	s := shell.Driver{}.Open(driver.Peer{
		Address: netip.MustParseAddr("192.168.99.3"), Section: section, Login: login,
		Dial: func(ctx context.Context, _ uint16) (net.Conn, error) {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				return nil, err
			}
			defer l.Close()
			c, err := (&net.Dialer{}).DialContext(ctx, "tcp", l.Addr().String())
			if err != nil {
				return nil, err
			}
			there, err := l.Accept()
			if err != nil {
				return nil, err
			}
			go b.serve(there)
			return c, nil
		},
		Trust: func(sum string) error { b.sum = sum; return b.trust },
	})
	t.Cleanup(s.Close)
	return s
}

var login = profile.Login{User: "root", Password: "s3cret-word"}

// talk is a small command line: it echoes, pages, asks and refuses.
func client(_ string, t *console.Terminal) {
	for {
		line, err := t.Ask("\x1b[1mq1\x1b[0m> ")
		if err != nil {
			return
		}
		switch word, rest, _ := strings.Cut(line, " "); word {
		case "show":
			t.Say("n=lamp\n-- more --")
			if _, err := t.Key(); err != nil {
				return
			}
			t.Say("\r          \ra=10.0.0.7\n")
		case "name":
			if strings.ContainsAny(rest, "#") {
				t.Say("error: not with a #\n")
				continue
			}
			t.Say("ok %s\n", rest)
		case "wizard":
			a, _ := t.Ask("Address [none]: ")
			b, _ := t.Ask("Mask [none]: ")
			c, _ := t.Ask("Take it? ")
			t.Say("took %s %s %s\n", a, b, c)
		case "again":
			for {
				if _, err := t.Ask("And now? "); err != nil {
					return
				}
			}
		case "bye":
			t.Say("gone\n")
			return
		case "flood":
			for {
				t.Say("%s", strings.Repeat("x", 4096))
				if _, err := t.Ask(""); err != nil && !errors.Is(err, io.EOF) {
					return
				}
			}
		}
	}
}

func overSSH(exchanges ...string) *host {
	return &host{serve: console.SSH{Banner: "SSH-2.0-q1", Key: console.NewKey([32]byte{1}), Exchanges: exchanges,
		Shell: client,
		Login: func(user, password string) bool { return user == login.User && password == login.Password }}.Serve}
}

const usual = `over: ssh, prompt: 'q1> $', more: '-- more --$'`

func patient(t *testing.T) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	t.Cleanup(cancel)
	return ctx
}

// What is said over SSH is answered, taken and judged: pages, echo, questions,
// refusals, and an end.
func TestTalkingOverSSH(t *testing.T) {
	t.Parallel()
	b := overSSH()
	section, moves := script(t, usual, `
    - {shell: show, take: {name: '(?m)^n=(\S+)$', address: '(?m)^a=(\S+)$'}}
    - {shell: "name {password}", take: {name: 'ok (.*)'}}
    - {shell: "name #", wrong: '(?m)^error: (.*)$'}
    - {shell: wizard, answers: [{to: 'Address.*: $', say: "10.0.0.8"}, {to: 'Mask.*: $', say: "255.0.0.0"}, {to: 'Take it\? $', say: "y"}], take: {name: 'took (.*)'}}
    - {shell: "name {password}", take: {name: 'nothing like (it)'}}
    - {shell: again, answers: [{to: 'And now\? $', say: "x"}]}
    - {shell: bye, ends: true}
`)
	s := b.open(t, section, login)
	vars := map[string]string{"password": "lamp-7"}
	for i, want := range []string{"lamp 10.0.0.7", "lamp-7 ", "it refused: not with a #", "10.0.0.8 255.0.0.0 y ",
		"its answer has no name", "it asks and asks", ""} {
		facts, err := s.Do(patient(t), moves[i].Words, vars)
		got := ""
		switch {
		case err != nil:
			got = err.Error()
		case facts != nil:
			got = facts["name"] + " " + facts["address"]
		}
		if !strings.Contains(got, want) || want == "" && err != nil {
			t.Errorf("move %d: %q, want %q", i+1, got, want)
		}
		if errors.Is(err, driver.ErrValue) != (i == 2) {
			t.Errorf("move %d: %v", i+1, err)
		}
	}
	if len(b.sum) != 64 {
		t.Errorf("host key %q", b.sum)
	}
	// A line break in a value would be the next command.
	_, err := s.Do(patient(t), moves[1].Words, map[string]string{"password": "a\nname b"})
	if !errors.Is(err, driver.ErrNotSent) || strings.Contains(err.Error(), "name b") {
		t.Errorf("a line break: %v", err)
	}
}

// A wrong password is told once, and a stranger gets none.
func TestSigningInOverSSH(t *testing.T) {
	t.Parallel()
	b := overSSH()
	tried := 0
	serve := console.SSH{Banner: "SSH-2.0-q1", Key: console.NewKey([32]byte{1}), Shell: client,
		Login: func(string, string) bool {
			tried++
			return false
		}}
	b.serve = serve.Serve
	section, moves := script(t, usual, `    - {shell: ""}`)
	if _, err := b.open(t, section, login).Do(patient(t), moves[0].Words, nil); !errors.Is(err, driver.ErrLogin) ||
		tried != 1 {
		t.Errorf("%v after %d tries", err, tried)
	}
	b.trust = errors.New("another than before")
	if _, err := b.open(t, section, login).Do(patient(t), moves[0].Words, nil); !errors.Is(err, driver.ErrNotSent) ||
		tried != 1 {
		t.Errorf("to a stranger: %v after %d tries", err, tried)
	}
	// An old key exchange is taken only where the profile allows it.
	old := overSSH("diffie-hellman-group1-sha1")
	if _, err := old.open(t, section, login).Do(patient(t), moves[0].Words, nil); !errors.Is(err, driver.ErrNotSent) ||
		!strings.Contains(err.Error(), "no longer held for safe") {
		t.Errorf("an old key exchange: %v", err)
	}
	section, moves = script(t, usual+", old: true", `    - {shell: ""}`)
	if _, err := old.open(t, section, login).Do(patient(t), moves[0].Words, nil); err != nil {
		t.Errorf("an old key exchange that is allowed: %v", err)
	}
}

// Over Telnet options are refused or granted, and the login is a dialogue.
func TestTalkingOverTelnet(t *testing.T) {
	t.Parallel()
	var got []byte
	b := &host{serve: func(c net.Conn) {
		defer c.Close()
		// WILL ECHO, WILL SUPPRESS-GO-AHEAD, DO TERMINAL-TYPE, a subnegotiation, then text with a doubled 255.
		_, _ = c.Write([]byte{255, 251, 1, 255, 251, 3, 255, 253, 24, 255, 250, 24, 1, 255, 240})
		answers := make([]byte, 9)
		if _, err := io.ReadFull(c, answers); err != nil {
			return
		}
		got = answers
		term := console.New(c, true)
		for {
			user, err := term.Ask("login: ")
			if err != nil {
				return
			}
			password, err := term.Secret("Password: ")
			switch {
			case err != nil:
				return
			case user == login.User && password == login.Password:
				client(user, term)
				return
			}
			term.Say("Login incorrect\n")
		}
	}}
	section, moves := script(t,
		`over: telnet, prompt: 'q1> $', more: '-- more --$', login: {user: 'login: $', password: 'assword: $', refused: incorrect}`,
		`    - {shell: show, take: {name: 'n=(\S+)'}}`)
	facts, err := b.open(t, section, login).Do(patient(t), moves[0].Words, nil)
	if err != nil || facts["name"] != "lamp" {
		t.Errorf("%v, %v", facts, err)
	}
	// DO ECHO, DO SUPPRESS-GO-AHEAD, WONT TERMINAL-TYPE.
	if want := string([]byte{255, 253, 1, 255, 253, 3, 255, 252, 24}); string(got) != want {
		t.Errorf("answered % d", got)
	}
	if _, err := b.open(t, section, profile.Login{User: "root", Password: "wrong-word"}).Do(patient(t), moves[0].Words,
		nil); !errors.Is(err, driver.ErrLogin) {
		t.Errorf("a wrong password: %v", err)
	}
}

// What cannot be so is refused when the profile is checked.
func TestShellMovesAreChecked(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ section, move, want string }{
		{"over: smoke, prompt: x", `{shell: x}`, "over must be ssh, telnet or serial"},
		{"over: ssh", `{shell: x}`, "prompt is missing"},
		{"over: ssh, prompt: '['", `{shell: x}`, "no regular expression"},
		{"over: serial, prompt: x, line: {parity: some}", `{shell: x}`, "parity is none, even or odd"},
		{"over: telnet, prompt: x", `{shell: x}`, "password is missing"},
		{"over: ssh, prompt: x", `{shell: x, take: {name: 'a'}}`, "needs one group"},
		{"over: ssh, prompt: x", `{shell: x, answers: [{say: y}]}`, "to is missing"},
		{"over: ssh, prompt: x", `{shell: "{nobody}"}`, "{nobody} has no value here"},
		{"over: ssh, prompt: x", `{shell: x, until: {name: y}}`, "does not take name"},
	} {
		_, err := profile.Parse(fmt.Appendf(nil, document, c.section,
			"  name: [{shell: x}]\n  address: [{shell: x}]\n  read: ["+c.move+"]"), all.Words())
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s, %s: %v, want %q", c.section, c.move, err, c.want)
		}
	}
}
