package box

import (
	"net"
	"net/http"
	"time"
)

// Service is a TCP service of a device.
type Service struct {
	Port uint16
	// Serve speaks with one client; it returns when the connection is closed.
	Serve func(*Box, net.Conn)
	// On says at each start whether it is on; nil: always.
	On func(*Box) bool
}

// While gives the same service, on only while something is so.
func (s Service) While(on func(*Box) bool) Service {
	s.On = on
	return s
}

// Greets is a service that says one line and hangs up.
func Greets(port uint16, line string) Service {
	return Service{Port: port, Serve: func(_ *Box, c net.Conn) {
		_, _ = c.Write([]byte(line + "\r\n")) // whoever came may have gone
		c.Close()
	}}
}

// serve starts a TCP service.
func (i *instance) serve(b *Box, s Service) error {
	if s.On != nil && !s.On(b) {
		return nil
	}
	listener, err := i.host.ListenTCP(s.Port)
	if err != nil {
		return err
	}
	i.listeners = append(i.listeners, listener)
	i.ended.Add(1)
	go func() {
		defer i.ended.Done()
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			if !i.hold(c) {
				return
			}
			i.ended.Add(1)
			go func() {
				defer i.ended.Done()
				defer i.letGo(c)
				b.dawdle()
				s.Serve(b, c)
			}()
		}
	}()
	return nil
}

// hold keeps a connection, to be cut when the device goes; false when it is gone.
func (i *instance) hold(c net.Conn) bool {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.held == nil {
		c.Close()
		return false
	}
	i.held[c] = struct{}{}
	return true
}

func (i *instance) letGo(c net.Conn) {
	i.mu.Lock()
	defer i.mu.Unlock()
	delete(i.held, c)
}

// cut ends the services and their connections.
func (i *instance) cut() {
	for _, l := range i.listeners {
		_ = l.Close()
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	for c := range i.held {
		_ = c.Close()
	}
	i.held = nil
}

// RestartShortly restarts once what was said last is on the segment.
func (b *Box) RestartShortly() { time.AfterFunc(answerTime, func() { b.command(restart) }) }

// Event is something that was done to a device from outside.
type Event struct {
	At    time.Time
	What  string // login, refused, or what was written
	Value string
}

// Tried notes a login that was tried.
func (b *Box) Tried(user, password string, good bool) {
	what := "refused"
	if good {
		what = "login"
	}
	b.Witness(what, user+" "+password)
}

// mostDeeds is how many a device remembers.
const mostDeeds = 1000

// Witness notes a deed: every login that is tried, every write that is taken.
func (b *Box) Witness(what, value string) {
	b.mu.Lock()
	if len(b.events) < mostDeeds {
		b.events = append(b.events, Event{time.Now(), what, value})
	}
	last := false
	if what == "write" {
		b.writes++
		last = b.writes == b.faults.GoesDark
	}
	b.mu.Unlock()
	if last {
		b.command(dark)
	}
}

// dawdle takes as long as a slow device does.
func (b *Box) dawdle() {
	if slow := b.Has().Slow; slow > 0 {
		time.Sleep(slow)
	}
}

// slowly makes a web server answer as slowly as the device is.
func (b *Box) slowly(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b.dawdle()
		next.ServeHTTP(w, r)
	})
}

// Deeds gives what was done to the device, in order. It is for tests alone.
func (b *Box) Events() []Event {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]Event(nil), b.events...)
}
