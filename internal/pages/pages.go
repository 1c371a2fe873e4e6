// Package pages shows the boxes' own pages in the browser that shows the console. What a
// box serves there is hostile: each gets an origin of its own, and nothing of the console
// or of another box is within its reach.
package pages

import (
	"crypto/rand"
	"crypto/tls"
	"errors"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/lan/bench"
)

// mostOpen is how many pages may be open; the one that was not used for the longest
// gives way.
const mostOpen = 8

// Box is a box on the segment of a bench.
type Box struct {
	Bench *bench.Bench
	MAC   address.MAC
}

// Target is where a box has its page.
type Target struct {
	Box     Box
	Scheme  string // http or https
	Address netip.Addr
	Port    uint16
	Avoid   func(netip.Addr) bool // addresses not to ask from
}

// Pages are the pages that are open.
type Pages struct {
	log     *slog.Logger
	serving sync.WaitGroup

	mu   sync.Mutex
	open map[Box]*page
}

// New has none open.
func New(log *slog.Logger) *Pages { return &Pages{log: log, open: map[Box]*page{}} }

// Open opens the page of a box at the address where the console was reached, and gives a
// link that lets a browser in once. With tlsPair it is served over TLS.
func (s *Pages) Open(t Target, consoleHost string, tlsPair *tls.Config) (string, error) {
	s.mu.Lock()
	old := s.open[t.Box]
	s.mu.Unlock()
	if old != nil && old.at == t.Address {
		return old.door(), nil
	}
	l, err := listener(consoleHost)
	if err != nil {
		return "", err
	}
	g := newPage(t, s.log)
	g.base = "http://" + l.Addr().String()
	if tlsPair != nil {
		l, g.base = tls.NewListener(l, tlsPair), "https://"+l.Addr().String()
	}
	g.idle = time.AfterFunc(idleFor, func() { s.Close(t.Box) })
	if old := s.put(g); old != nil {
		defer old.close()
	}
	s.serving.Go(func() {
		if err := g.server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			s.log.Error("the page of a box ended", "mac", t.Box.MAC.String(), "error", err)
		}
	})
	s.log.Info("page of a box opened", "mac", t.Box.MAC.String(), "at", g.base)
	return g.door(), nil
}

// put adds a page and gives the one that it takes the place of, if any.
func (s *Pages) put(g *page) *page {
	s.mu.Lock()
	defer s.mu.Unlock()
	old := s.open[g.box]
	if old == nil && len(s.open) >= mostOpen {
		old = slices.MinFunc(slices.Collect(maps.Values(s.open)), func(a, b *page) int {
			return a.lastUsed().Compare(b.lastUsed())
		})
	}
	if old != nil {
		delete(s.open, old.box)
	}
	s.open[g.box] = g
	return old
}

// Close closes the page of a box, if it is open.
func (s *Pages) Close(b Box) {
	s.mu.Lock()
	g := s.open[b]
	delete(s.open, b)
	s.mu.Unlock()
	if g != nil {
		g.close()
	}
}

// CloseAll closes every page and waits until none is served any more.
func (s *Pages) CloseAll() {
	s.mu.Lock()
	list := slices.Collect(maps.Keys(s.open))
	s.mu.Unlock()
	for _, b := range list {
		s.Close(b)
	}
	s.serving.Wait()
}

// newPage makes the page of a box, not yet served.
func newPage(t Target, log *slog.Logger) *page {
	g := &page{
		box: t.Box, at: t.Address, avoid: t.Avoid, log: log, key: rand.Text(), opening: make(chan struct{}, 1),
		origin: originOf(t.Scheme, t.Address, t.Port),
		prefix: "box-" + strings.ReplaceAll(t.Box.MAC.String(), ":", "") + "-",
	}
	g.server = &http.Server{
		Handler: g, ReadHeaderTimeout: 10 * time.Second,
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn),
	}
	return g
}

// listener listens where the browser can reach it: on loopback at an address of its
// own, else where the console is.
func listener(consoleHost string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(consoleHost)
	if err != nil {
		host = consoleHost
	}
	if ip := net.ParseIP(host); host == "localhost" || ip != nil && ip.IsLoopback() {
		if l, err := net.Listen("tcp", "127.0.0.2:0"); err == nil {
			return l, nil
		}
		host = "127.0.0.1" // a system with one loopback address only
	}
	l, err := net.Listen("tcp", net.JoinHostPort(host, "0"))
	if err != nil {
		return nil, problem.New(problem.Machine, "no port is free for the page", "close other programs").Because(err)
	}
	return l, nil
}
