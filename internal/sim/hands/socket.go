package hands

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"os"
	"time"

	"redstart/internal/core/address"
)

// Over a Unix socket a person in another process does things with the boxes of a simulated
// site: one request and one answer, each a line of JSON (RFC 8259), for each connection.

type request struct {
	MAC address.MAC `json:"mac"`
	Do  string      `json:"do"`
}

type answer struct {
	Done bool `json:"done"`
}

const (
	socketTime = 5 * time.Second
	maxRequest = 4096 // bytes
)

// Offer lets persons in other processes of the same user do things, until the context ends.
func Offer(ctx context.Context, socket string, do func(address.MAC, string) bool) error {
	// A socket that was left behind gives way; whatever else is there stays.
	if is, err := os.Lstat(socket); err == nil && is.Mode().Type() == os.ModeSocket {
		if err := os.Remove(socket); err != nil {
			return err
		}
	}
	l, err := (&net.ListenConfig{}).Listen(ctx, "unix", socket)
	if err != nil {
		return err
	}
	if err := os.Chmod(socket, 0o600); err != nil {
		return errors.Join(err, l.Close())
	}
	stop := context.AfterFunc(ctx, func() { _ = l.Close() })
	defer stop()
	for {
		c, err := l.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		serve(c, do)
	}
}

func serve(c net.Conn, do func(address.MAC, string) bool) {
	defer c.Close()
	var r request
	if c.SetDeadline(time.Now().Add(socketTime)) != nil ||
		json.NewDecoder(io.LimitReader(c, maxRequest)).Decode(&r) != nil {
		return
	}
	_ = json.NewEncoder(c).Encode(answer{do(r.MAC, r.Do)}) // whoever asked may have gone
}

// Over does things with the boxes of a simulated site in another process.
func Over(socket string) func(address.MAC, string) bool {
	return func(mac address.MAC, instruction string) bool {
		c, err := net.DialTimeout("unix", socket, socketTime)
		if err != nil {
			return false
		}
		defer c.Close()
		var a answer
		return c.SetDeadline(time.Now().Add(socketTime)) == nil &&
			json.NewEncoder(c).Encode(request{mac, instruction}) == nil &&
			json.NewDecoder(io.LimitReader(c, maxRequest)).Decode(&a) == nil && a.Done
	}
}
