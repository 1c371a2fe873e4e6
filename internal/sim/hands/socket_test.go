package hands_test

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/sim/hands"
)

func TestHandsOverASocket(t *testing.T) {
	socket := filepath.Join(t.TempDir(), "hands")
	mac := address.MAC{6, 1, 2, 3, 4, 5}
	asked := make(chan string, 4)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() {
		ended <- hands.Offer(ctx, socket, func(m address.MAC, what string) bool {
			asked <- m.String() + " " + what
			return m == mac
		})
	}()
	for { // until it listens
		if c, err := net.Dial("unix", socket); err == nil {
			_, _ = c.Write([]byte("nonsense\n"))
			c.Close()
			break
		}
	}
	if do := hands.Over(socket); !do(mac, "Press it") || do(address.MAC{}, "Press it") {
		t.Error("it was done with the wrong box, or not with the right one")
	}
	if got := <-asked; got != mac.String()+" Press it" {
		t.Error(got)
	}
	stop()
	if err := <-ended; err != nil {
		t.Error(err)
	}
	if hands.Over(socket)(mac, "Press it") {
		t.Error("it was done after the end")
	}
	file := filepath.Join(t.TempDir(), "notes")
	if err := os.WriteFile(file, []byte("mine"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := hands.Offer(t.Context(), file, nil); err == nil {
		t.Error("a file gave way to a socket")
	}
	if text, err := os.ReadFile(file); err != nil || string(text) != "mine" {
		t.Errorf("%q, %v", text, err)
	}
}
