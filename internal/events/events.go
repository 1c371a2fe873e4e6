// Package events hands what changes to everyone who listens.
package events

import (
	"redstart/internal/api"
	"sync"
)

// Of what waits for one slow reader.
const (
	depth = 4096    // events
	most  = 8 << 20 // bytes
)

// Event is one thing that changed.
type Event struct {
	Site string // whose it is; "" for everybody
	Kind string
	Data []byte // JSON
}

// Hub hands events to everyone who listens. A reader that falls too far behind
// is cut off; it comes back and loads everything anew.
type Hub struct {
	mu      sync.Mutex
	readers map[chan Event]*queue
	closed  bool
}

// queue is how long the events are that wait for a reader, and all of them.
type queue struct {
	sizes []int
	bytes int
}

// fits reports whether there is room for one more event of a size, and counts it; waiting is
// how many the reader did not take yet.
func (q *queue) fits(size, waiting int) bool {
	for len(q.sizes) > waiting {
		q.bytes -= q.sizes[0]
		q.sizes = q.sizes[1:]
	}
	if waiting == depth || waiting > 0 && q.bytes+size > most {
		return false
	}
	q.sizes, q.bytes = append(q.sizes, size), q.bytes+size
	return true
}

// New makes a hub without readers.
func New() *Hub { return &Hub{readers: map[chan Event]*queue{}} }

// Publish tells everyone who listens to a site, or everybody for "".
func (h *Hub) Publish(site, kind string, what any) {
	data, err := api.Marshal(what)
	if err != nil {
		return // only our own types come here, and they marshal
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for r, q := range h.readers {
		if !q.fits(len(data), len(r)) {
			delete(h.readers, r)
			close(r)
			continue
		}
		r <- Event{site, kind, data} // there is room, and nobody else sends
	}
}

// Subscribe gives a channel of what changes from now on. It is closed when its reader
// falls too far behind, and when the hub is.
func (h *Hub) Subscribe() chan Event {
	h.mu.Lock()
	defer h.mu.Unlock()
	r := make(chan Event, depth)
	if h.closed {
		close(r)
	} else {
		h.readers[r] = &queue{}
	}
	return r
}

// Leave ends a subscription.
func (h *Hub) Leave(r chan Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if _, in := h.readers[r]; in {
		delete(h.readers, r)
		close(r)
	}
}

// Close ends all subscriptions, also those to come.
func (h *Hub) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	for r := range h.readers {
		delete(h.readers, r)
		close(r)
	}
}
