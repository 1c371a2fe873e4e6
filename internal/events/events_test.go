package events

import (
	"strings"
	"testing"
)

// A reader that stalls is cut off after so many bytes, however few the events; one that reads
// gets them all.
func TestAStalledReaderIsCutOff(t *testing.T) {
	h := New()
	stalled, _ := h.Subscribe("", "")
	reads, _ := h.Subscribe("", "")
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
	few, _ := h.Subscribe("", "")
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

// Who comes back is told what it missed, of its own site, and in order; who was away for too long,
// or comes from another service, is told that it must load everything.
func TestWhoComesBackMissesNothing(t *testing.T) {
	h := New()
	h.Publish("quay", "entry", 1)
	here := h.Now()
	h.Publish("pier", "entry", 2)
	h.Publish("quay", "entry", 3)
	h.Publish("", "work", 4)
	back, resumed := h.Subscribe("quay", here)
	if !resumed {
		t.Fatal("what was missed is not known")
	}
	for _, want := range []string{"3", "4"} {
		if e := <-back; string(e.Data) != want {
			t.Errorf("got %s, want %s", e.Data, want)
		}
	}
	h.Publish("quay", "entry", 5)
	if e := <-back; string(e.Data) != "5" || e.ID != h.Now() {
		t.Errorf("got %s, %s", e.ID, e.Data)
	}
	if !h.Listened("quay") || h.Listened("pier") {
		t.Error("who listens to what is not known")
	}
	for _, after := range []string{"", "nonsense", New().Now(), h.Now() + "9", here + "-1"} {
		if _, resumed := h.Subscribe("quay", after); resumed {
			t.Errorf("resumed after %q", after)
		}
	}
	if _, resumed := h.Subscribe("quay", h.Now()); !resumed {
		t.Error("nothing was missed, and it must load everything")
	}
	for range depth {
		h.Publish("quay", "entry", 6)
	}
	if _, resumed := h.Subscribe("quay", here); resumed {
		t.Error("resumed after what is not kept any more")
	}
	h.Close()
}
