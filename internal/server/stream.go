package server

import (
	"fmt"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"
)

const heartbeat = 15 * time.Second

// streamEvents sends everything that changes as server-sent events (WHATWG
// HTML, 9.2). The first event is "hello": whoever loads the state after it
// misses nothing.
func (s *Server) streamEvents(c *echo.Context) error {
	site := c.QueryParam("site")
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	flush := http.NewResponseController(w)
	r := s.Events().Subscribe()
	defer s.Events().Leave(r)
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
			if e.Site != "" && site != "" && e.Site != site {
				continue
			}
			if _, err := fmt.Fprintf(w, "event: %s\ndata: %s\n\n", e.Kind, e.Data); err != nil {
				return nil // the reader went away
			}
			if len(r) > 0 {
				continue // send what has gathered in one go
			}
		case <-beat.C:
			fmt.Fprint(w, ": still here\n\n")
		case <-c.Request().Context().Done():
			return nil
		case <-s.Ended():
			return nil
		}
		if err := flush.Flush(); err != nil {
			return nil
		}
	}
}
