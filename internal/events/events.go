// Package events hands what changes to everyone who listens, and what they missed to those who
// were away for a moment.
package events

import (
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"sync"

	"redstart/internal/api"
)

// Of what waits for one slow reader, and of what is kept for those who come back.
const (
	depth = 4096    // events
	most  = 8 << 20 // bytes
)

// Event is one thing that changed.
type Event struct {
	ID   string // names it, for who comes back
	Site string // whose it is; "" for everybody
	Kind string
	Data []byte // JSON
}

// Hub hands events to everyone who listens. A reader that falls too far behind
// is cut off; it comes back and loads everything anew.
type Hub struct {
	epoch string // tells this hub from an earlier one

	mu      sync.Mutex
	readers map[chan Event]*reader
	last    int64   // number of the latest event
	kept    []Event // the latest ones, oldest first
	bytes   int     // of those
	closed  bool
}

// reader is whose events somebody reads, and how long those are that wait for it.
type reader struct {
	site  string // "" for all
	sizes []int
	bytes int
}

func (r *reader) reads(e Event) bool { return e.Site == "" || r.site == "" || e.Site == r.site }

// fits reports whether there is room for one more event of a size, and counts it; waiting is
// how many the reader did not take yet.
func (r *reader) fits(size, waiting int) bool {
	for len(r.sizes) > waiting {
		r.bytes -= r.sizes[0]
		r.sizes = r.sizes[1:]
	}
	if waiting == depth || waiting > 0 && r.bytes+size > most {
		return false
	}
	r.sizes, r.bytes = append(r.sizes, size), r.bytes+size
	return true
}

// New makes a hub without readers.
func New() *Hub {
	return &Hub{epoch: strconv.FormatUint(rand.Uint64(), 36), readers: map[chan Event]*reader{}}
}

// Publish tells everyone who listens to a site, or everybody for "".
func (h *Hub) Publish(site, kind string, what any) {
	data, err := api.Marshal(what)
	if err != nil {
		return // only our own types come here, and they marshal
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.last++
	e := Event{h.id(h.last), site, kind, data}
	h.keep(e)
	for c, r := range h.readers {
		if r.reads(e) {
			h.hand(c, r, e)
		}
	}
}

// hand hands an event to a reader, or cuts it off. The lock is held.
func (h *Hub) hand(c chan Event, r *reader, e Event) {
	if !r.fits(len(e.Data), len(c)) {
		delete(h.readers, c)
		close(c)
		return
	}
	c <- e // there is room, and nobody else sends
}

func (h *Hub) id(n int64) string { return fmt.Sprintf("%s-%d", h.epoch, n) }

// keep keeps an event for those who come back. The lock is held.
func (h *Hub) keep(e Event) {
	h.kept, h.bytes = append(h.kept, e), h.bytes+len(e.Data)
	for len(h.kept) > depth/4 || h.bytes > most/4 && len(h.kept) > 0 {
		h.bytes -= len(h.kept[0].Data)
		h.kept[0] = Event{} // what it held is let go of before the list is made anew
		h.kept = h.kept[1:]
	}
}

// Now names the latest event.
func (h *Hub) Now() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.id(h.last)
}

// Subscribe gives a channel of what changes from now on at a site, or everywhere for "". after
// names the last event that the reader had: if all since are still known they come first, and
// resumed is true. The channel is closed when its reader falls too far behind, and when the hub is.
func (h *Hub) Subscribe(site, after string) (c chan Event, resumed bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	c = make(chan Event, depth)
	if h.closed {
		close(c)
		return c, false
	}
	r := &reader{site: site}
	h.readers[c] = r
	epoch, number, _ := strings.Cut(after, "-")
	n, err := strconv.ParseInt(number, 10, 64)
	if err != nil || epoch != h.epoch || n > h.last || n < h.last-int64(len(h.kept)) {
		return c, false
	}
	for _, e := range h.kept[len(h.kept)-int(h.last-n):] {
		if r.reads(e) {
			h.hand(c, r, e)
		}
	}
	return c, true
}

// Listened reports whether anybody listens to a site.
func (h *Hub) Listened(site string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, r := range h.readers {
		if r.reads(Event{Site: site}) {
			return true
		}
	}
	return false
}

// Leave ends a subscription.
func (h *Hub) Leave(c chan Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if _, in := h.readers[c]; in {
		delete(h.readers, c)
		close(c)
	}
}

// Close ends all subscriptions, also those to come.
func (h *Hub) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	for c := range h.readers {
		delete(h.readers, c)
		close(c)
	}
}
