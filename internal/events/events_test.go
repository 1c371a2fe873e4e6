package events

import (
	"strings"
	"testing"
)

// A reader that stalls is cut off after so many bytes, however few the events; one that reads
// gets them all.
func TestAStalledReaderIsCutOff(t *testing.T) {
	h := New()
	stalled, reads := h.Subscribe(), h.Subscribe()
	long := strings.Repeat("x", 512<<10)
	for range 100 {
		h.Publish("", "device", long)
		if e := <-reads; len(e.Data) < len(long) {
			t.Fatalf("%d bytes", len(e.Data))
		}
	}
	waiting := 0
	for e := range stalled { // it is closed
		waiting += len(e.Data)
	}
	if waiting == 0 || waiting > most {
		t.Errorf("%d bytes waited for it", waiting)
	}
	h.Leave(reads)
	few := h.Subscribe()
	for range depth + 1 {
		h.Publish("", "device", 1)
	}
	n := 0
	for range few {
		n++
	}
	if n != depth {
		t.Errorf("%d events waited", n)
	}
	h.Close()
}
