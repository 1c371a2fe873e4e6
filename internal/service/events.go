package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
)

const (
	hubDepth  = 4096 // events waiting for one slow reader
	heartbeat = 15 * time.Second
)

// event is one thing that changed.
type event struct {
	site string // whose it is; "" for everybody
	kind string
	data []byte
}

// hub hands events to everyone who listens. A reader that falls too far behind
// is cut off; it comes back and loads everything anew.
type hub struct {
	mu      sync.Mutex
	readers map[chan event]struct{}
	closed  bool
}

func newHub() *hub { return &hub{readers: map[chan event]struct{}{}} }

// publish tells everyone who listens to a site, or everybody for "".
func (h *hub) publish(site, kind string, what any) {
	data, err := json.Marshal(what)
	if err != nil {
		return // only our own types come here, and they marshal
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for r := range h.readers {
		select {
		case r <- event{site, kind, data}:
		default:
			delete(h.readers, r)
			close(r)
		}
	}
}

func (h *hub) subscribe() chan event {
	h.mu.Lock()
	defer h.mu.Unlock()
	r := make(chan event, hubDepth)
	if h.closed {
		close(r)
	} else {
		h.readers[r] = struct{}{}
	}
	return r
}

func (h *hub) leave(r chan event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if _, in := h.readers[r]; in {
		delete(h.readers, r)
		close(r)
	}
}

func (h *hub) close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	for r := range h.readers {
		delete(h.readers, r)
		close(r)
	}
}

// streamEvents sends everything that changes as server-sent events (WHATWG
// HTML, 9.2). The first event is "hello": whoever loads the state after it
// misses nothing.
func (s *Service) streamEvents(c *echo.Context) error {
	site := c.QueryParam("site")
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	flush := http.NewResponseController(w)
	r := s.hub.subscribe()
	defer s.hub.leave(r)
	fmt.Fprint(w, "event: hello\ndata: {}\n\n")
	if err := flush.Flush(); err != nil {
		return err
	}
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	for {
		select {
		case e, open := <-r:
			if !open {
				return nil
			}
			if e.site != "" && site != "" && e.site != site {
				continue
			}
			if _, err := fmt.Fprintf(w, "event: %s\ndata: %s\n\n", e.kind, e.data); err != nil {
				return nil // the reader went away
			}
			if len(r) > 0 {
				continue // send what has gathered in one go
			}
		case <-beat.C:
			fmt.Fprint(w, ": still here\n\n")
		case <-c.Request().Context().Done():
			return nil
		case <-s.life.Done():
			return nil
		}
		if err := flush.Flush(); err != nil {
			return nil
		}
	}
}
