// Package pages shows the boxes' own pages in the browser that shows the console. What a
// box serves there is hostile: each gets an origin of its own, and nothing of the console
// or of another box is within its reach.
package pages

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
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

// Guest is whoever opens a page.
type Guest struct {
	May     func(context.Context) bool // whether it is still theirs to see
	Changed func() <-chan struct{}     // closed when that may be otherwise
	Until   time.Time                  // when it ends by itself; the zero time: never
}

// context gives one that ends by itself when the guest's time is over.
func (g Guest) context(of context.Context) (context.Context, context.CancelFunc) {
	if g.Until.IsZero() {
		return context.WithCancel(of)
	}
	return context.WithDeadline(of, g.Until)
}

// Pages are the pages that are open.
type Pages struct {
	log     *slog.Logger
	tls     *tls.Config // for pages that other computers see
	below   string      // the name below which each of them gets one
	serving sync.WaitGroup

	mu   sync.Mutex
	open map[Box]*page
}

// New has none open. Those that other computers see are shown over TLS, each at a name of
// its own below the one given; without one they see none.
func New(log *slog.Logger, below string, secured *tls.Config) *Pages {
	return &Pages{log: log, below: below, tls: secured, open: map[Box]*page{}}
}

// Open opens the page of a box for a guest who reached the console at an address, and
// gives a link that lets a browser in once.
func (s *Pages) Open(t Target, who Guest, consoleHost string) (string, error) {
	s.mu.Lock()
	old := s.open[t.Box]
	s.mu.Unlock()
	local := onLoopback(consoleHost)
	if old != nil && old.at == t.Address && old.local == local {
		return old.door(who), nil
	}
	g := newPage(t, s.log)
	l, err := s.host(g, consoleHost)
	if err != nil {
		return "", err
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
	return g.door(who), nil
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
		box: t.Box, at: t.Address, avoid: t.Avoid, log: log, opening: make(chan struct{}, 1),
		once: map[string]Guest{}, guests: map[string]Guest{},
		origin: originOf(t.Scheme, t.Address, t.Port),
		prefix: "box-" + strings.ReplaceAll(t.Box.MAC.String(), ":", "") + "-",
	}
	g.server = &http.Server{
		Handler: g, ReadHeaderTimeout: 10 * time.Second,
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn),
	}
	return g
}

func onLoopback(consoleHost string) bool {
	host, _, err := net.SplitHostPort(consoleHost)
	if err != nil {
		host = consoleHost
	}
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// host gives a page a host that it shares with nothing: cookies know no ports (RFC 6265,
// 8.5), so what shares a host reads and pushes out the other's. On loopback that is an
// address of its own (127.0.0.0/8, RFC 6890), elsewhere a name of its own.
func (s *Pages) host(g *page, consoleHost string) (net.Listener, error) {
	if g.local = onLoopback(consoleHost); g.local {
		var b [3]byte
		for range 8 { // another page or program may have it
			_, _ = rand.Read(b[:]) // never fails
			l, err := net.Listen("tcp", fmt.Sprintf("127.%d.%d.%d:0", 64+b[0]%128, b[1], 1+b[2]%254))
			if err == nil {
				g.base = "http://" + l.Addr().String()
				return l, nil
			}
		}
		return nil, problem.New(problem.Machine, "no address of this computer's own is free for the page of a box",
			"the page needs one of 127.64.0.0 to 127.191.255.254; this system gives none")
	}
	if s.below == "" || s.tls == nil {
		return nil, problem.New(problem.Conflict, "pages of boxes are off for other computers than the service's own: "+
			"there a page would share a host with the console, and could take its session",
			"open it in a browser on the service's own computer, or start the service with --pages-below NAME")
	}
	host, _, err := net.SplitHostPort(consoleHost)
	if err != nil {
		host = consoleHost
	}
	l, err := net.Listen("tcp", net.JoinHostPort(host, "0"))
	if err != nil {
		return nil, problem.New(problem.Machine, "no port is free for the page", "close other programs").Because(err)
	}
	_, port, _ := net.SplitHostPort(l.Addr().String()) // it is listened at
	g.base = "https://box-" + strings.ToLower(rand.Text()[:12]) + "." + s.below + ":" + port
	return tls.NewListener(l, s.tls), nil
}
