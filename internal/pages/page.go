package pages

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	_ "embed"
	"fmt"
	"html/template"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"time"

	"redstart/internal/lan/bench"
)

const (
	idleFor  = 20 * time.Minute // without a request a page closes
	doorPath = "/.redstart/open"
)

// page lets a browser reach the web server of one box, by its MAC, over the
// bench. Each has a listener of its own, and so an origin of its own: nothing of
// one box, or of the console, is within reach of another box's scripts. Cookies
// know no ports, so on loopback pages are at another address than the console
// (127.0.0.2), and everywhere only cookies that this very box set are sent to it,
// and none of the browser's others.
type page struct {
	box    Box
	at     netip.Addr
	avoid  func(netip.Addr) bool
	log    *slog.Logger
	base   string // of its own origin
	prefix string // of its cookies' names
	server *http.Server
	idle   *time.Timer

	mu     sync.Mutex
	origin *url.URL // of the box's own web server; it may send the browser to another one of its
	once   string   // opens the door, one time
	key    string   // what the door's cookie holds
	used   time.Time
	conv   *bench.Conversation
	closed bool

	opening chan struct{} // holds a token while the conversation is being opened
}

func (g *page) close() {
	g.idle.Stop()
	_ = g.server.Close() // its listener closes with it
	g.mu.Lock()
	defer g.mu.Unlock()
	g.closed = true
	if g.conv != nil {
		g.conv.Close()
		g.conv = nil
	}
}

func (g *page) lastUsed() time.Time {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.used
}

// door gives an address that opens the page once. Its secret is behind the #,
// which browsers send to nobody.
func (g *page) door() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.once, g.used = rand.Text(), time.Now()
	return g.base + "/#open=" + g.once
}

// entrance takes the secret out of the address and shows it at the door.
//
//go:embed entrance.html
var entrance string

var entrancePage = template.Must(template.New("entrance").Parse(entrance))

// cookieOfDoor is the name of the cookie that lets a browser in.
func (g *page) cookieOfDoor() string { return g.prefix + "door" }

// ServeHTTP implements http.Handler.
func (g *page) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == doorPath && r.Method == http.MethodPost {
		g.open(w, r)
		return
	}
	c, err := r.Cookie(g.cookieOfDoor())
	if err != nil || subtle.ConstantTimeCompare([]byte(c.Value), []byte(g.key)) != 1 {
		nonce := rand.Text()
		w.Header().Set("Content-Security-Policy", "default-src 'none'; script-src 'nonce-"+nonce+
			"'; connect-src 'self'; frame-ancestors 'none'")
		w.Header().Set("Cache-Control", "no-store")
		w.WriteHeader(http.StatusUnauthorized)
		_ = entrancePage.Execute(w, map[string]string{"Nonce": nonce, "Door": doorPath}) // the reader went away
		return
	}
	if r.Header.Get("Service-Worker") != "" {
		http.Error(w, "a box may not stay in the browser", http.StatusForbidden)
		return
	}
	g.idle.Reset(idleFor)
	g.mu.Lock()
	g.used = time.Now()
	g.mu.Unlock()
	g.proxy().ServeHTTP(w, r)
}

// open lets a browser in that shows the secret, once, from this very page.
func (g *page) open(w http.ResponseWriter, r *http.Request) {
	shown := r.Header.Get("X-Redstart-Open")
	g.mu.Lock()
	ok := g.once != "" && subtle.ConstantTimeCompare([]byte(shown), []byte(g.once)) == 1
	if ok {
		g.once = ""
	}
	g.mu.Unlock()
	if !ok {
		http.Error(w, "this link was used already; open the page from the console again", http.StatusForbidden)
		return
	}
	http.SetCookie(w, &http.Cookie{Name: g.cookieOfDoor(), Value: g.key, Path: "/", HttpOnly: true,
		SameSite: http.SameSiteLaxMode, Secure: r.TLS != nil})
	w.WriteHeader(http.StatusNoContent)
}

// dial opens a connection to the box, in a conversation that all requests share.
func (g *page) dial(ctx context.Context, _, to string) (net.Conn, error) {
	at, err := netip.ParseAddrPort(to)
	if err != nil {
		return nil, err
	}
	conv, err := g.conversation(ctx)
	if err != nil {
		return nil, err
	}
	return conv.Dial(ctx, at.Port())
}

// conversation gives the one with the box, and opens it when there is none. One
// request opens it; nothing else waits for the segment meanwhile.
func (g *page) conversation(ctx context.Context) (*bench.Conversation, error) {
	select {
	case g.opening <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	defer func() { <-g.opening }()
	g.mu.Lock()
	conv, closed := g.conv, g.closed
	g.mu.Unlock()
	if closed {
		return nil, net.ErrClosed
	}
	if conv != nil {
		return conv, nil
	}
	conv, err := g.box.Bench.Open(ctx, bench.Peer{MAC: g.box.MAC, Address: g.at, Avoid: g.avoid})
	if err != nil {
		return nil, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.closed {
		conv.Close()
		return nil, net.ErrClosed
	}
	g.conv = conv
	return conv, nil
}

func originOf(scheme string, at netip.Addr, port uint16) *url.URL {
	host := at.String()
	if port != portOf(scheme, "") {
		host = fmt.Sprintf("%s:%d", host, port)
	}
	return &url.URL{Scheme: scheme, Host: host}
}

// follow notes where the box sends the browser, if that is to itself: many send
// it from http to https.
func (g *page) follow(to *url.URL) bool {
	port := portOf(to.Scheme, to.Port())
	if to.Hostname() != g.at.String() || to.Scheme != "http" && to.Scheme != "https" || port == 0 {
		return false
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.origin = originOf(to.Scheme, g.at, port)
	return true
}

// proxy carries requests to the box and answers back.
func (g *page) proxy() *httputil.ReverseProxy {
	g.mu.Lock()
	own := g.origin
	g.mu.Unlock()
	return &httputil.ReverseProxy{
		Transport: &http.Transport{DialContext: g.dial, DisableKeepAlives: true,
			ResponseHeaderTimeout: 30 * time.Second,
			// its certificate is its own; the MAC says who it is
			TLSClientConfig: &tls.Config{InsecureSkipVerify: true}},
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(own)
			r.Out.Host = own.Host
			// what comes compressed then is unpacked on the way, and its links are seen
			r.Out.Header.Del("Accept-Encoding")
			r.Out.Header.Del("Cookie")
			for _, c := range r.In.Cookies() {
				if name, ok := strings.CutPrefix(c.Name, g.prefix); ok && c.Name != g.cookieOfDoor() {
					r.Out.AddCookie(&http.Cookie{Name: name, Value: c.Value})
				}
			}
			for _, h := range []string{"Origin", "Referer"} {
				if v := r.In.Header.Get(h); v != "" {
					r.Out.Header.Set(h, strings.Replace(v, g.base, own.String(), 1))
				}
			}
		},
		ModifyResponse: func(r *http.Response) error {
			g.answer(r)
			newLinks(own, g.base).apply(r)
			return nil
		},
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			g.log.Warn("a box did not answer its page", "mac", g.box.MAC.String(), "error", err)
			http.Error(w, "The box does not answer its page. It may be restarting; try again, or find it anew.",
				http.StatusBadGateway)
		},
		ErrorLog: slog.NewLogLogger(g.log.Handler(), slog.LevelDebug),
	}
}

// answer makes a box's answer fit its new origin, and takes away what would
// outlive the page or reach beyond it.
func (g *page) answer(r *http.Response) {
	for _, h := range []string{"Strict-Transport-Security", "Clear-Site-Data", "Service-Worker-Allowed", "Alt-Svc",
		"Public-Key-Pins",
		"Access-Control-Allow-Origin", "Access-Control-Allow-Credentials", "Report-To", "Nel"} {
		r.Header.Del(h)
	}
	cookies := r.Cookies()
	r.Header.Del("Set-Cookie")
	for _, c := range cookies {
		c.Name, c.Domain, c.Secure = g.prefix+c.Name, "", strings.HasPrefix(g.base, "https:")
		if c.SameSite == http.SameSiteNoneMode || c.SameSite == http.SameSiteDefaultMode {
			c.SameSite = http.SameSiteLaxMode
		}
		if c.Name != g.cookieOfDoor() {
			r.Header.Add("Set-Cookie", c.String())
		}
	}
	if at := r.Header.Get("Location"); at != "" {
		if to, err := url.Parse(at); err == nil && g.follow(to) {
			there := g.base + to.RequestURI()
			if to.Fragment != "" {
				there += "#" + to.EscapedFragment()
			}
			r.Header.Set("Location", there)
		}
	}
	r.Header.Set("X-Frame-Options", "SAMEORIGIN") // many boxes make their pages of frames
	r.Header.Set("Referrer-Policy", "same-origin")
}
