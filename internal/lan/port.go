// Package lan is how Redstart touches a network: whole Ethernet frames through
// a port. Everything else is written over a port and does not know what is
// behind it.
package lan

import (
	"errors"

	"redstart/internal/core/address"
)

// ErrClosed is what Receive and Send return after Close.
var ErrClosed = errors.New("the port is closed")

// MTU is the largest payload of a frame that we send, in bytes.
const MTU = 1500

// Port sends and receives whole Ethernet frames, without check sequence, on
// one segment. Send and Receive may be called from different goroutines.
type Port interface {
	// MAC is the port's own address, used as the source of what we send.
	MAC() address.MAC
	// Send puts a frame on the segment. It does not keep the slice.
	Send(frame []byte) error
	// Receive waits for a frame, which must not be changed: other ports may
	// have received the same one. It returns
	// ErrClosed once the port is closed; any other error is worth another try.
	Receive() ([]byte, error)
	// Close ends the port and wakes Receive.
	Close() error
}

// Linked is a port that knows whether it has a link: a cable with somebody at its other end.
type Linked interface {
	Port
	Link() bool
}
