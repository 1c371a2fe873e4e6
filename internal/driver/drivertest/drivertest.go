// Package drivertest is what every driver must pass, in the manner of fstest and
// slogtest: a good box, a bad cable, and boxes that mean harm. A driver's own test calls
// Run with a box that it talks with well.
package drivertest

import (
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/driver/all"
	"redstart/internal/lan"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/faults"
	"redstart/internal/lan/segment"
	"redstart/internal/sim/box"
)

// Password is the secret of every conversation: the login of the good box, and what the
// act password sends.
const Password = "Heron-and-Tern-7"

// User is whose it is.
const User = "keeper"

// Case is a driver with a box that it talks with well.
type Case struct {
	// Profile describes the box: its act read takes the name, its act password sends
	// {password}. One without an act sign-in needs no login.
	Profile string
	// Box is the box; it is called Name.
	Box     box.Model
	Factory box.Settings
	// Serve is its service at the profile's port, for one connection; nil for a driver
	// that needs no connection.
	Serve func(*box.Box, net.Conn)
	// Tries counts logins that the box refused; nil where there is no login.
	Tries func() int64
}

// Name is what the box is called.
const Name = "heron-1"

const (
	patience = time.Minute     // for what must come
	enough   = 3 * time.Second // for a box that will never answer well
	endless  = 64 << 20        // bytes; a driver takes far less of an answer without end
	loss     = 0.2
)

var mac = address.MAC{0x06, 0x11, 0x22, 0x33, 0x44, 0x55}

// Run has a driver pass everything.
func Run(t *testing.T, c Case) {
	p, err := profile.Parse([]byte(c.Profile), all.Words())
	if err != nil {
		t.Fatal(err)
	}
	s := suite{c, p}
	good := func(t *testing.T, f faults.Faults) {
		client := s.client(t, c.Serve, f)
		s.signIn(t, client, Password)
		if facts, err := client.Do(within(t, patience), profile.Read, nil); err != nil || facts["name"] != Name {
			t.Errorf("%v, %v", facts, err)
		}
	}
	t.Run("a good box", func(t *testing.T) { t.Parallel(); good(t, faults.Faults{}) })
	t.Run("a bad cable", func(t *testing.T) { t.Parallel(); good(t, faults.Faults{Loss: loss}) })
	t.Run("not there", func(t *testing.T) {
		t.Parallel()
		client := driver.New(bench.New((&segment.Segment{}).Attach(ours, 64)), s.target())
		defer client.Close()
		s.fails(t, client, driver.ErrNoAnswer, driver.ErrNotSent, context.DeadlineExceeded)
	})
	t.Run("cancelled", s.cancelled)
	if c.Serve == nil {
		t.Run("frames of nonsense", s.nonsense)
		if c.Box.Datagrams != nil {
			t.Run("nobody is in a hurry", s.unhurried)
		}
		return
	}
	if c.Tries != nil {
		t.Run("a wrong login", s.wrongLogin)
	}
	for name, serve := range map[string]func(net.Conn){"nonsense": nonsense, "one byte a second": drip,
		"nothing": silence, "a closed door": func(net.Conn) {}} {
		t.Run("answers with "+name, func(t *testing.T) {
			t.Parallel()
			s.fails(t, s.client(t, func(_ *box.Box, conn net.Conn) {
				defer conn.Close()
				serve(conn)
			}, faults.Faults{}))
		})
	}
	t.Run("nobody is in a hurry", s.unhurried)
	t.Run("answers without end", s.endless)
	t.Run("cut after each write", s.cutOff)
}

type suite struct {
	Case
	p *profile.Profile
}

var ours = address.MAC{0x02, 0x52, 0x53, 0, 0, 1}

func (s suite) target() driver.Target {
	return driver.Target{MAC: mac, Address: s.Factory.Address.Addr(), Bits: s.Factory.Address.Bits(), Profile: s.p}
}

// talk powers a box up whose service is serve, and gives a client of it.
func (s suite) client(t *testing.T, serve func(*box.Box, net.Conn), f faults.Faults) *driver.Client {
	t.Helper()
	model := s.Box
	if s.Serve != nil {
		model.Services = []box.Service{{Port: s.p.Port(), Serve: serve}}
	}
	wire := &segment.Segment{}
	var port lan.Port = faults.On(wire.Attach(mac, 512), f, 1)
	b := box.New(box.Spec{MAC: mac, Serial: "H-1", Factory: s.Factory, Away: time.Second}, model, port)
	ctx, stop := context.WithCancel(context.Background())
	down := make(chan struct{})
	go func() { defer close(down); b.Run(ctx) }()
	ourBench := bench.New(faults.On(wire.Attach(ours, 4096), f, 2))
	t.Cleanup(func() { ourBench.Close(); stop(); <-down })
	for b.Starts() == 0 {
		time.Sleep(time.Millisecond)
	}
	client := driver.New(ourBench, s.target())
	t.Cleanup(client.Close)
	return client
}

func within(t *testing.T, d time.Duration) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), d)
	t.Cleanup(cancel)
	return ctx
}

func (s suite) signIn(t *testing.T, client *driver.Client, password string) {
	t.Helper()
	if len(s.p.Acts[profile.SignIn]) == 0 {
		return
	}
	if err := client.SignIn(within(t, patience), profile.Login{User: User, Password: password}); err != nil {
		t.Fatal(err)
	}
}

// fails has a client fail in time, with an error of one of these kinds (of any, if none is
// given) that holds no secret.
func (s suite) fails(t *testing.T, client *driver.Client, kinds ...error) {
	t.Helper()
	ctx := within(t, enough)
	ended := make(chan error, 1)
	go func() {
		var err error
		if len(s.p.Acts[profile.SignIn]) > 0 {
			err = client.SignIn(ctx, profile.Login{User: User, Password: Password})
		}
		if err == nil {
			_, err = client.Do(ctx, profile.Password, s.variables())
		}
		ended <- err
	}()
	select {
	case err := <-ended:
		s.looksLike(t, err, kinds...)
	case <-time.After(patience):
		t.Error("it waits for ever")
	}
}

func (s suite) looksLike(t *testing.T, err error, kinds ...error) {
	t.Helper()
	if err == nil {
		t.Error("it says that all is well")
		return
	}
	if strings.Contains(err.Error(), Password) {
		t.Errorf("the secret is in the error: %v", err)
	}
	for _, kind := range kinds {
		if errors.Is(err, kind) {
			return
		}
	}
	if len(kinds) > 0 {
		t.Errorf("the error is of another kind: %v", err)
	}
}

func (s suite) variables() map[string]string {
	return map[string]string{"user": User, "password": Password, "name": Password, "address": "10.9.8.7", "bits": "24",
		"mask": "255.255.255.0", "gateway": "10.9.8.1"}
}

// cancelled cancels in the middle of a move, at a box that never answers.
func (s suite) cancelled(t *testing.T) {
	t.Parallel()
	heard := make(chan struct{}, 16)
	model := s
	model.Box.Frame, model.Box.Datagrams = nil, nil // it hears, and says nothing
	client := model.client(t, func(_ *box.Box, c net.Conn) {
		defer c.Close()
		b := make([]byte, 1)
		if _, err := c.Read(b); err == nil {
			heard <- struct{}{}
		}
		silence(c)
	}, faults.Faults{})
	ctx, cancel := context.WithCancel(within(t, patience))
	ended := make(chan error, 1)
	go func() {
		_, err := client.Do(ctx, profile.Password, s.variables())
		ended <- err
	}()
	if s.Serve != nil {
		select {
		case <-heard:
		case <-time.After(enough): // one that lets the box speak first
		}
	}
	cancel()
	select {
	case err := <-ended:
		s.looksLike(t, err)
	case <-time.After(patience):
		t.Error("it goes on after it was cancelled")
	}
}

// unhurried asks a box that says nothing, with all the time there is: the driver gives it
// up by itself, for a run gives it no limit.
func (s suite) unhurried(t *testing.T) {
	t.Parallel()
	s.Box.Datagrams = nil
	client := s.client(t, func(_ *box.Box, c net.Conn) { defer c.Close(); silence(c) }, faults.Faults{})
	ended := make(chan error, 1)
	go func() {
		_, err := client.Do(context.Background(), profile.Password, s.variables())
		ended <- err
	}()
	select {
	case err := <-ended:
		s.looksLike(t, err, driver.ErrNoAnswer)
	case <-time.After(patience):
		t.Error("it waits for ever")
	}
}

func (s suite) wrongLogin(t *testing.T) {
	t.Parallel()
	client := s.client(t, s.Serve, faults.Faults{})
	before := s.Tries()
	err := client.SignIn(within(t, patience), profile.Login{User: User, Password: "not-this-one"})
	if !errors.Is(err, driver.ErrLogin) || strings.Contains(err.Error(), "not-this-one") {
		t.Errorf("%v", err)
	}
	if n := s.Tries() - before; n != 1 {
		t.Errorf("it was tried %d times", n)
	}
}

// endless answers with more than anybody would keep.
func (s suite) endless(t *testing.T) {
	t.Parallel()
	var sent atomic.Int64
	s.fails(t, s.client(t, func(_ *box.Box, c net.Conn) {
		defer c.Close()
		// who expects something else finds nonsense
		_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 10737418240\r\n\r\n")
		chunk := []byte(strings.Repeat("x", 1<<15))
		for {
			n, err := c.Write(chunk)
			if sent.Add(int64(n)); err != nil {
				return
			}
		}
	}, faults.Faults{}))
	if n := sent.Load(); n > endless {
		t.Errorf("%d MiB were taken", n>>20)
	}
}

// cutOff cuts the connection after the first write of the box, after the second, and
// so on: each ends in time and tells no secret, and an answer that came whole counts.
func (s suite) cutOff(t *testing.T) {
	t.Parallel()
	for n := int64(1); n <= 6; n++ {
		client := s.client(t, func(b *box.Box, c net.Conn) { s.Serve(b, &cut{Conn: c, left: n}) }, faults.Faults{})
		ctx := within(t, enough)
		var err error
		if len(s.p.Acts[profile.SignIn]) > 0 {
			err = client.SignIn(ctx, profile.Login{User: User, Password: Password})
		}
		if err == nil {
			_, err = client.Do(ctx, profile.Password, s.variables())
		}
		if err != nil {
			s.looksLike(t, err)
		}
		if ctx.Err() != nil && err == nil {
			t.Errorf("after %d writes it took its whole time", n)
		}
	}
}

// cut is a connection that ends after some writes.
type cut struct {
	net.Conn
	left int64
}

func (c *cut) Write(b []byte) (int, error) {
	n, err := c.Conn.Write(b)
	if atomic.AddInt64(&c.left, -1) == 0 {
		c.Conn.Close()
	}
	return n, err
}

func nonsense(c net.Conn) {
	random := rand.New(rand.NewPCG(7, 7))
	b := make([]byte, 4096)
	for i := range b {
		b[i] = byte(random.UintN(256))
	}
	_, _ = c.Write(b) // whoever asked may have gone
}

func drip(c net.Conn) {
	for _, b := range []byte("HTTP/1.1 200 OK\r\n") {
		if _, err := c.Write([]byte{b}); err != nil {
			return
		}
		time.Sleep(time.Second)
	}
}

func silence(c net.Conn) { _, _ = io.Copy(io.Discard, c) }

// nonsense answers every frame with many that are nearly right.
func (s suite) nonsense(t *testing.T) {
	t.Parallel()
	wire := &segment.Segment{}
	ourBench := bench.New(wire.Attach(ours, 4096))
	port := wire.Attach(mac, 4096)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		random := rand.New(rand.NewPCG(9, 9))
		for {
			frame, err := port.Receive()
			if err != nil {
				return
			}
			for range 50 {
				answer := append([]byte(nil), frame...)
				copy(answer, ours[:])
				copy(answer[6:], mac[:])
				for range 1 + random.IntN(8) {
					answer[12+random.IntN(len(answer)-12)] = byte(random.UintN(256))
				}
				if port.Send(answer) != nil {
					return
				}
			}
		}
	}()
	defer func() { ourBench.Close(); port.Close(); <-ended }()
	client := driver.New(ourBench, s.target())
	defer client.Close()
	// Some of it is right by chance: what counts is that it ends, and what an error says.
	if _, err := client.Do(within(t, enough), profile.Password, s.variables()); err != nil {
		s.looksLike(t, err)
	}
}

// HTTP serves one connection with a handler, for a Case's Serve.
func HTTP(h http.Handler) func(*box.Box, net.Conn) {
	return func(_ *box.Box, c net.Conn) {
		l := &once{conn: make(chan net.Conn, 1), closed: make(chan struct{})}
		done := make(chan struct{})
		l.conn <- &told{c, done}
		go func() {
			<-done
			close(l.closed)
		}()
		_ = (&http.Server{Handler: h, ReadHeaderTimeout: patience}).Serve(l) // it ends with the connection
	}
}

// once is a listener for one connection.
type once struct {
	conn   chan net.Conn
	closed chan struct{}
}

func (l *once) Accept() (net.Conn, error) {
	select {
	case c := <-l.conn:
		return c, nil
	case <-l.closed:
		return nil, net.ErrClosed
	}
}

func (l *once) Close() error   { return nil }
func (l *once) Addr() net.Addr { return &net.TCPAddr{} }

// told is a connection that says when it is closed.
type told struct {
	net.Conn
	done chan struct{}
}

func (c *told) Close() error {
	select {
	case <-c.done:
	default:
		close(c.done)
	}
	return c.Conn.Close()
}
