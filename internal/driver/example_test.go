package driver_test

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"testing"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
)

// example is a whole driver, for boxes that give a line back as they got it (RFC 862).
// docs/adding.md walks through it.
type example struct{}

func (example) Name() string   { return "echo" }           // its key under talk
func (example) Keys() []string { return []string{"echo"} } // the key of its moves
func (example) Shows() string  { return "" }               // nothing to know it again by

// exampleSection is what a profile says of it under talk.
type exampleSection struct {
	At uint16 `yaml:"port"`
}

func (s exampleSection) Port() uint16 { return s.At }

func (example) Section(part profile.Part) (profile.Section, error) {
	s := exampleSection{At: 7}
	err := part.Into(&s) // an unknown key is an error with its place
	return s, err
}

// exampleMove is one line that is sent.
type exampleMove struct {
	Line string `yaml:"echo"`
}

func (m exampleMove) Sends() []string  { return profile.Variables(m.Line) }
func (exampleMove) Takes() []string    { return []string{"name"} }
func (exampleMove) NeedsAddress() bool { return true }

func (example) Move(part profile.Part, _ profile.Section) (profile.Words, error) {
	var m exampleMove
	if err := part.Into(&m); err != nil {
		return nil, err
	}
	if m.Line == "" {
		return nil, fmt.Errorf("echo is empty: give the line that is sent")
	}
	return m, nil
}

// exampleSession is one conversation with one box.
type exampleSession struct{ driver.Peer }

func (example) Open(peer driver.Peer) driver.Session { return exampleSession{peer} }

func (s exampleSession) Ready(ctx context.Context) error {
	c, err := s.Dial(ctx, s.Section.Port())
	if err != nil {
		return err
	}
	return c.Close()
}

func (exampleSession) Close() {}

func (s exampleSession) Do(ctx context.Context, words profile.Words, vars map[string]string) (map[string]string,
	error) {
	line, err := profile.Fill(words.(exampleMove).Line, vars, nil)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	c, err := s.Dial(ctx, s.Section.Port())
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNoAnswer, err)
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { c.Close() })() // a cancelled move ends at once
	if _, err := fmt.Fprintln(c, line); err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNoAnswer, err)
	}
	var name string
	if _, err := fmt.Fscanln(c, &name); err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNoAnswer, err)
	}
	return map[string]string{"name": name}, nil
}

// The driver of the docs works as they say.
func TestTheExampleDriver(t *testing.T) {
	t.Parallel()
	p, err := profile.Parse([]byte(`redstart: profile/1
id: heron
maker: Heron
model: H
kind: lamp
recognise: [{fact: model, is: h, sure: 90}]
factory: {address: 192.168.5.5/24}
restart: {takes: 1s, at-most: 5s}
talk: {echo: {port: 4007}}
order: [{act: name}, {act: address}]
acts:
  identify: [{echo: who}]
  name: [{echo: "{name}"}]
  address: [{echo: x}]
  read: [{echo: heron-1}]
`), []profile.Driver{example{}})
	if err != nil || p.Port() != 4007 {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			var line string
			if _, err := fmt.Fscanln(c, &line); err == nil {
				fmt.Fprintln(c, line)
			}
			c.Close()
		}
	}()
	session := example{}.Open(driver.Peer{Address: netip.MustParseAddr("127.0.0.1"), Section: p.Section("echo"),
		Dial: func(ctx context.Context, _ uint16) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", l.Addr().String())
		}})
	facts, err := session.Do(t.Context(), p.Acts[profile.Name][0].Words, map[string]string{"name": "heron-2"})
	if err != nil || facts["name"] != "heron-2" {
		t.Errorf("%v, %v", facts, err)
	}
}
