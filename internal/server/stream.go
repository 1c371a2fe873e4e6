package server

import (
	"fmt"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"redstart/internal/api"
)

const heartbeat = 15 * time.Second

// holds reports whether a request is still that of the same person with the same rights.
func (s *Server) holds(c *echo.Context, who api.Person) bool {
	now, err := s.whose(c)
	return err == nil && now == who
}

// streamEvents sends everything that changes as server-sent events (WHATWG
// HTML, 9.2). The first event is "hello": whoever loads the state after it
// misses nothing. Who was here before names the last event that it had, and is told in hello
// whether all since come now.
func (s *Server) streamEvents(c *echo.Context) error {
	site := c.QueryParam("site")
	if site != "" {
		at, err := s.At(c.Request().Context(), site)
		if err != nil {
			return err
		}
		if err := at.Attend(c.Request().Context()); err != nil {
			return err
		}
	}
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	flush := http.NewResponseController(w)
	last := c.Request().Header.Get("Last-Event-ID")
	if last == "" {
		last = c.QueryParam("after")
	}
	began := s.Events.Now()
	r, resumed := s.Events.Subscribe(site, last)
	defer s.Events.Leave(r)
	if resumed {
		began = last // what was missed comes yet
	}
	fmt.Fprintf(w, "id: %s\nevent: hello\ndata: {\"resumed\":%t}\n\n", began, resumed)
	if err := flush.Flush(); err != nil {
		return err
	}
	who := person(c)
	changed := s.Accounts.Changed()
	if !s.holds(c, who) { // it may have changed before we listened
		return nil
	}
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	var over <-chan time.Time
	if !who.Until.IsZero() {
		end := time.NewTimer(time.Until(who.Until))
		defer end.Stop()
		over = end.C
	}
	for {
		select {
		case e, open := <-r:
			if !open {
				return nil
			}
			if _, err := fmt.Fprintf(w, "id: %s\nevent: %s\ndata: %s\n\n", e.ID, e.Kind, e.Data); err != nil {
				return nil // the reader went away
			}
			if len(r) > 0 {
				continue // send what has gathered in one go
			}
		case <-changed:
			changed = s.Accounts.Changed()
			if !s.holds(c, who) {
				return nil
			}
			continue
		case <-beat.C:
			fmt.Fprint(w, ": still here\n\n")
		case <-c.Request().Context().Done():
			return nil
		case <-s.Ended():
			return nil
		case <-over:
			return nil
		}
		if err := flush.Flush(); err != nil {
			return nil
		}
	}
}
