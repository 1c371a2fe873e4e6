// Package driver holds conversations with devices as their profiles describe them:
// it carries out acts, move by move. How a move is carried out is a driver's to know:
// each way of talking is one folder beside this file, and one line in package all.
package driver

import (
	"context"
	"errors"
	"io"
	"net"
	"net/netip"

	"redstart/internal/core/address"
	"redstart/internal/core/profile"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/line"
)

// What can become of a move, whatever its driver. An error of another kind says why
// the device did not do as it was told.
var (
	// ErrLogin says that the device refused the login, or asked for one.
	ErrLogin = errors.New("the login was refused")
	// ErrValue says that the device refused what it was told; nothing was changed.
	ErrValue = errors.New("the device refused")
	// ErrNotSent says that nothing went out: the device knows nothing of it.
	ErrNotSent = errors.New("nothing was sent")
	// ErrStranger says that the device's end is not the one that was known, so no login
	// was sent.
	ErrStranger = errors.New("it shows another identity than before")
	// ErrNoAnswer says that something went out and no whole answer came back: the
	// device may or may not have done what was asked.
	ErrNoAnswer = errors.New("no answer")
)

// Driver is one way of talking to devices. What only some can is named in package profile:
// OverLine, AsksNobody, HasPage, HasCaution.
type Driver interface {
	profile.Driver
	// Open begins a session; nothing is sent before its first move.
	Open(Peer) Session
}

// Peer is the device that a session is with, and the ways to it.
type Peer struct {
	MAC     address.MAC
	Address netip.Addr // invalid: it has none
	Section profile.Section
	Login   profile.Login         // the zero Login: none yet
	Avoid   func(netip.Addr) bool // addresses that are not ours to borrow; nil for none
	Bench   *bench.Bench
	// Trust is told what the device's end shows to be known again by (SHA-256 in
	// hexadecimal), before the login is sent; an error ends the session.
	Trust func(sum string) error
	// Line opens the serial line at whose other end the device's console is; nil when
	// there is none.
	Line func(line.Mode) (io.ReadWriteCloser, error)
	// OtherServers are DHCP servers that may go on while the device is given its address.
	OtherServers []netip.Addr
	// File opens a file of the site that the plan names, by the key of its setting; nil when
	// there are none.
	File func(key string) (File, error)
	// Trace is given what a move sent and what came back, as far as it can be read; nil:
	// nobody looks on. Secrets in it are the caller's to hide.
	Trace func(sent, got string)
	// Dial opens a TCP connection to a port of this very device.
	Dial func(ctx context.Context, port uint16) (net.Conn, error)
	// Datagrams opens a UDP conversation with a port of this very device.
	Datagrams func(ctx context.Context, port uint16) (net.Conn, error)
}

// File is a file of the site on its way to a device.
type File struct {
	Name    string
	Size    int64 // in bytes
	Content io.ReadCloser
}

// Session is one conversation over one driver. It is used by one goroutine at a time.
type Session interface {
	// Do carries out one move, with variables filled in, and gives the facts that it
	// took. Its errors hold no secret that is not among the variables, and are of the
	// kinds above.
	Do(ctx context.Context, m profile.Words, vars map[string]string) (map[string]string, error)
	// Ready looks once whether the device's end is there to talk to.
	Ready(ctx context.Context) error
	// Close ends it; a move after that begins anew.
	Close()
}

// Server is what the server of a device is known again by.
type Server struct {
	Kind string // certificate, host key
	Sum  string // SHA-256 in hexadecimal
}

// Named is how it is shown to people.
func (s Server) Named() string { return s.Kind + " " + s.Sum[:min(16, len(s.Sum))] }
