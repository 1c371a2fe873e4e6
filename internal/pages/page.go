package pages

import (
	"context"
	"crypto/rand"
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
// bench. Each has a host of its own, and so an origin and a scope of cookies of its own:
// nothing of one box, or of the console, is within reach of another box's scripts. Only
// cookies that this very box set are sent to it.
type page struct {
	box    Box
	at     netip.Addr
	avoid  func(netip.Addr) bool
	log    *slog.Logger
	base   string // of its own origin
	local  bool   // on loopback
	prefix string // of its cookies' names
	server *http.Server
	idle   *time.Timer

	mu     sync.Mutex
	origin *url.URL         // of the box's own web server; it may send the browser to another one of its
	once   map[string]Guest // who a door opens for, one time, by what opens it
	guests map[string]Guest // who was let in, by what the door's cookie holds
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

// mostDoors is how many links may wait to be used, and how many guests may be in.
const mostDoors = 16

// door gives an address that opens the page once for a guest. Its secret is behind the #,
// which browsers send to nobody.
func (g *page) door(who Guest) string {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.once) >= mostDoors {
		clear(g.once) // nobody uses that many: they were left
	}
	secret := rand.Text()
	g.once[secret], g.used = who, time.Now()
	return g.base + "/#open=" + secret
}

// guest gives whom a request comes from: one who was let in, and still may see the page.
// A cookie that came twice was set by somebody else as well.
func (g *page) guest(r *http.Request) (who Guest, in bool) {
	cookies := r.CookiesNamed(g.cookieOfDoor())
	if len(cookies) != 1 {
		return who, false
	}
	g.mu.Lock()
	who, in = g.guests[cookies[0].Value]
	g.mu.Unlock()
	if in && !who.May(r.Context()) {
		g.mu.Lock()
		delete(g.guests, cookies[0].Value)
		g.mu.Unlock()
		return who, false
	}
	return who, in
}

// foreign reports whether a page of another site sent a request (W3C Fetch Metadata; where
// the browser does not tell, by its Origin).
func (g *page) foreign(r *http.Request) bool {
	switch r.Header.Get("Sec-Fetch-Site") {
	case "same-origin", "none":
		return false
	case "":
		from := r.Header.Get("Origin")
		return from != "" && from != g.base
	}
	return true
}

// forPage reports whether a request is for the page itself, not for something in it.
func forPage(r *http.Request) bool {
	if dest := r.Header.Get("Sec-Fetch-Dest"); dest != "" {
		return dest == "document" && r.Header.Get("Sec-Fetch-Mode") == "navigate"
	}
	return strings.Contains(r.Header.Get("Accept"), "text/html")
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
	apart(w.Header())
	if _, host, _ := strings.Cut(g.base, "://"); !strings.EqualFold(r.Host, host) {
		// Another name for this address is a way around the browser's borders.
		http.Error(w, "this page has another name", http.StatusMisdirectedRequest)
		return
	}
	who, in := g.guest(r)
	switch {
	case g.foreign(r) && !(r.Method == http.MethodGet && r.URL.Path == "/" && r.URL.RawQuery == "" && forPage(r)):
		http.Error(w, "another site's page sent this request", http.StatusForbidden)
	case r.URL.Path == doorPath && r.Method == http.MethodPost:
		g.open(w, r)
	case !in || g.foreign(r):
		nonce := rand.Text()
		w.Header().Set("Content-Security-Policy", "default-src 'none'; script-src 'nonce-"+nonce+
			"'; connect-src 'self'; frame-ancestors 'none'")
		w.Header().Set("Cache-Control", "no-store")
		w.WriteHeader(http.StatusUnauthorized)
		_ = entrancePage.Execute(w, map[string]string{"Nonce": nonce, "Door": doorPath}) // the reader went away
	case r.Header.Get("Service-Worker") != "":
		http.Error(w, "a box may not stay in the browser", http.StatusForbidden)
	default:
		g.idle.Reset(idleFor)
		g.mu.Lock()
		g.used = time.Now()
		g.mu.Unlock()
		ctx, cancel := who.context(r.Context())
		defer cancel()
		go leave(ctx, cancel, who)
		g.proxy().ServeHTTP(w, r.WithContext(ctx))
	}
}

// leave ends a request as soon as it is no longer the guest's.
func leave(ctx context.Context, cancel context.CancelFunc, who Guest) {
	for {
		changed := who.Changed()
		if !who.May(ctx) { // it may have changed before we listened
			cancel()
			return
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return
		}
	}
}

// apart keeps a page and what opened it out of each other's reach (WHATWG HTML, 7.1.3;
// Fetch, 3.7).
func apart(h http.Header) {
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Del("Cross-Origin-Embedder-Policy")
}

// open lets a browser in that shows the secret, once, from this very page.
func (g *page) open(w http.ResponseWriter, r *http.Request) {
	secret := r.Header.Get("X-Redstart-Open")
	g.mu.Lock()
	who, ok := g.once[secret]
	delete(g.once, secret)
	g.mu.Unlock()
	if !ok || !who.May(r.Context()) {
		http.Error(w, "this link was used already; open the page from the console again", http.StatusForbidden)
		return
	}
	key := rand.Text()
	g.mu.Lock()
	if len(g.guests) >= mostDoors {
		clear(g.guests) // they come in again from the console
	}
	g.guests[key] = who
	g.mu.Unlock()
	http.SetCookie(w, &http.Cookie{Name: g.cookieOfDoor(), Value: key, Path: "/", HttpOnly: true,
		SameSite: http.SameSiteStrictMode, Secure: r.TLS != nil})
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
	apart(r.Header)
	// What is only in the page never leads the page elsewhere.
	if at := r.Header.Get("Location"); at != "" && r.Request != nil && forPage(r.Request) {
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
