package nic_test

import (
	"os"
	"testing"
	"time"

	"redstart/internal/lan"
	"redstart/internal/lan/nic"
)

// Closing a port wakes whoever receives from it, for good. Nothing is sent.
func TestClosingEndsReceiving(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("skipped: packet sockets need root")
	}
	list, err := nic.List()
	if err != nil {
		t.Fatal(err)
	}
	opened := 0
	for _, i := range list {
		if i.Name == "" || i.MAC.IsZero() {
			t.Errorf("%+v", i)
		}
		p, err := nic.Open(i.Name, false)
		if err != nil {
			if i.Up {
				t.Errorf("%s cannot be opened: %v", i.Name, err)
			}
			continue
		}
		opened++
		ended := make(chan error, 1)
		go func() {
			for {
				if _, err := p.Receive(); err != nil {
					ended <- err
					return
				}
			}
		}()
		if err := p.Close(); err != nil {
			t.Error(err)
		}
		select {
		case err := <-ended:
			if err != lan.ErrClosed {
				t.Errorf("receiving ended with %v", err)
			}
		case <-time.After(30 * time.Second):
			t.Fatal("receiving never ended")
		}
		if err := p.Send(make([]byte, 60)); err != lan.ErrClosed {
			t.Errorf("sending over a closed port: %v", err)
		}
	}
	if opened == 0 {
		t.Skip("skipped: there is no interface to open")
	}
}
