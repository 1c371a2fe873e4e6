package e2e

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/chromedp/chromedp"

	"redstart/internal/browser"
	"redstart/internal/core/address"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/segment"
	"redstart/internal/pages"
	"redstart/internal/sim/box"
)

// guest may see pages until it ends.
type guest struct {
	gone    atomic.Bool
	changed chan struct{}
}

func (g *guest) page() pages.Guest {
	return pages.Guest{May: func(context.Context) bool { return !g.gone.Load() },
		Changed: func() <-chan struct{} { return g.changed }}
}

// hostile puts boxes with web servers of their own on a segment, and gives where their
// pages are.
func hostile(t *testing.T, handlers ...http.Handler) (*pages.Pages, []pages.Target) {
	t.Helper()
	wire, at := &segment.Segment{}, netip.MustParsePrefix("192.168.77.10/24")
	ctx, stop := context.WithCancel(context.Background())
	var down sync.WaitGroup
	var list []pages.Target
	ours := bench.New(wire.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 4096))
	for i, h := range handlers {
		mac := address.MAC{6, 0x11, 0x22, 0x33, 0x44, byte(i)}
		b := box.New(box.Spec{MAC: mac, Serial: fmt.Sprint("H-", i), Factory: box.Settings{Address: at}},
			box.Model{Port: 80, Handler: func(*box.Box) http.Handler { return h }}, wire.Attach(mac, 512))
		down.Go(func() { b.Run(ctx) })
		waitFor(t, func() bool { return b.Starts() > 0 })
		list = append(list, pages.Target{Box: pages.Box{Bench: ours, MAC: mac}, Scheme: "http", Address: at.Addr(),
			Port: 80, Avoid: func(netip.Addr) bool { return false }})
	}
	certified := httptest.NewTLSServer(nil) // for a certificate of somebody's
	certified.Close()
	p := pages.New(slog.New(slog.DiscardHandler), "boxes.site.example",
		&tls.Config{MinVersion: tls.VersionTLS12, Certificates: certified.TLS.Certificates})
	t.Cleanup(func() { p.CloseAll(); ours.Close(); stop(); down.Wait() })
	return p, list
}

// attack is the page of a box that means harm: to the page of another box, to the tab that
// opened it, and to its own way home.
const attack = `<!doctype html><h1>A quiet page</h1><script>
const other = %q
const soon = (work) => work.then((r) => 'came: ' + r.type).catch((e) => 'failed')
const image = (at) => new Promise((done) => { const i = new Image(); i.onload = i.onerror = done; i.src = at })
const leave = () => { try { window.opener.location = '/lured' ; return 'led away' } catch { return 'none' } }
;(async () => {
  document.cookie = 'redstart=chosen; path=/'
  const said = { cookies: document.cookie, opener: leave() }
  said.pull = await soon(fetch(other + '/pull', { credentials: 'include', mode: 'no-cors' }))
  said.post = await soon(fetch(other + '/post', { method: 'POST', credentials: 'include', mode: 'no-cors', body: 'x' }))
  await image(other + '/picture')
  await image('/moved')
  await new Promise((done) => {
    const frame = document.createElement('iframe')
    frame.onload = done
    frame.src = other + '/reboot?now=1'
    document.body.append(frame)
  })
  await fetch('/stream') // it has begun, and does not end
  await fetch('/said', { method: 'POST', body: JSON.stringify(said) })
})()
</script>`

// Two boxes that share an address and mean harm, in the browser that has both their pages
// and the console open: neither reaches the other, the console, or its own page's way.
func TestBoxesDoNotReachBeyondTheirPages(t *testing.T) {
	t.Parallel()
	said, ended, lured := make(chan map[string]string, 1), make(chan struct{}), make(chan string, 1)
	var other string
	var asked sync.Map
	first := http.NewServeMux()
	first.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		w.Header().Set("Cross-Origin-Opener-Policy", "unsafe-none")
		fmt.Fprintf(w, attack, other)
	})
	first.HandleFunc("GET /moved", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "https://192.168.77.10:8443/", http.StatusFound)
	})
	first.HandleFunc("POST /said", func(_ http.ResponseWriter, r *http.Request) {
		got := map[string]string{}
		_ = json.NewDecoder(r.Body).Decode(&got) // what is missing is seen
		said <- got
	})
	first.HandleFunc("GET /stream", func(w http.ResponseWriter, r *http.Request) {
		_ = http.NewResponseController(w).Flush()
		<-r.Context().Done()
		close(ended)
	})
	second := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/" && r.URL.Path != "/favicon.ico" {
			asked.Store(r.Method+" "+r.URL.Path, true)
		}
		http.SetCookie(w, &http.Cookie{Name: "session", Value: "of-the-second", Path: "/"})
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, "<h1>The second</h1>")
	})
	p, at := hostile(t, first, second)
	who := &guest{changed: make(chan struct{})}
	var links []string
	for _, target := range at {
		link, err := p.Open(target, who.page(), "127.0.0.1:8427")
		if err != nil {
			t.Fatal(err)
		}
		links = append(links, link)
	}
	hosts := map[string]bool{"127.0.0.1": true}
	for _, link := range links {
		u, err := url.Parse(link)
		if err != nil || hosts[u.Hostname()] || !net.ParseIP(u.Hostname()).IsLoopback() {
			t.Fatalf("%s shares a host, or is on none of this computer's: %v", link, err)
		}
		hosts[u.Hostname()] = true
	}
	other, _, _ = strings.Cut(links[1], "/#")
	console := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/lured" {
			lured <- r.URL.Path
		}
		http.SetCookie(w, &http.Cookie{Name: "redstart", Value: "of-the-console", Path: "/"})
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<a id="second" target="_blank" rel="opener" href="%s">second</a>
			<a id="first" target="_blank" rel="opener" href="%s">first</a>`, links[1], links[0])
	}))
	defer console.Close()
	b := openTab(t, 800, 600)
	b.do(chromedp.Navigate(links[1]), browser.Seen(chromedp.Search(`//h1[contains(., "The second")]`)),
		chromedp.Navigate(console.URL), browser.Click(chromedp.CSS("#first")))
	var got map[string]string
	select {
	case got = <-said:
	case <-patience(t).Done():
		t.Fatal("the page of the first box never told: what is in it led it elsewhere")
	}
	if c := got["cookies"]; strings.Contains(c, "second") || strings.Contains(c, "console") {
		t.Errorf("it reads cookies of others: %s", c)
	}
	if got["opener"] != "none" {
		t.Errorf("the tab that opened it: %s", got["opener"])
	}
	select {
	case <-lured:
		t.Error("the console's tab was led elsewhere")
	default:
	}
	asked.Range(func(what, _ any) bool {
		t.Errorf("the second box was asked by way of the first: %v", what)
		return true
	})
	// The guest goes: what is open ends at once.
	who.gone.Store(true)
	close(who.changed)
	select {
	case <-ended:
	case <-patience(t).Done():
		t.Error("a page outlives whom it was opened for")
	}
	if _, err := p.Open(at[0], who.page(), "192.0.2.1:8427"); err == nil ||
		!strings.Contains(err.Error(), "share a host with the console") && !strings.Contains(err.Error(), "no port is free") {
		t.Errorf("for another computer: %v", err)
	}
}

// What a browser tells of where a request comes from, and under which name.
func TestAPageIsAskedByItselfOnly(t *testing.T) {
	t.Parallel()
	p, at := hostile(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "the box") }))
	who := &guest{changed: make(chan struct{})}
	link, err := p.Open(at[0], who.page(), "localhost:8427")
	if err != nil {
		t.Fatal(err)
	}
	base, once, _ := strings.Cut(link, "/#open=")
	send := func(method, path string, header ...string) (int, string, *http.Response) {
		t.Helper()
		r, err := http.NewRequestWithContext(patience(t), method, base+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		for i := 0; i < len(header); i += 2 {
			r.Header.Add(header[i], header[i+1])
		}
		r.Host = r.Header.Get("Host")
		answer, err := http.DefaultTransport.RoundTrip(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		body, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		return answer.StatusCode, string(body), answer
	}
	status, _, answer := send("POST", "/.redstart/open", "X-Redstart-Open", once)
	if status != http.StatusNoContent || len(answer.Cookies()) != 1 ||
		answer.Cookies()[0].SameSite != http.SameSiteStrictMode {
		t.Fatalf("%d %v", status, answer.Header)
	}
	door := answer.Cookies()[0].Name + "=" + answer.Cookies()[0].Value
	for _, c := range []struct {
		why    string
		status int
		path   string
		header []string
	}{
		{"itself", 200, "/a?b=1", []string{"Sec-Fetch-Site", "same-origin"}},
		{"typed by a person", 200, "/a", []string{"Sec-Fetch-Site", "none"}},
		{"a browser that does not tell", 200, "/a", nil},
		{"another site's script", 403, "/a", []string{"Sec-Fetch-Site", "cross-site"}},
		{"another port of the host", 403, "/a", []string{"Sec-Fetch-Site", "same-site"}},
		{"another origin, untold", 403, "/a", []string{"Origin", "http://127.0.0.1:1"}},
		{"a link to something in it", 403, "/?reboot=1", []string{"Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode",
			"navigate", "Sec-Fetch-Dest", "document"}},
		{"a link to it", 401, "/", []string{"Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode", "navigate",
			"Sec-Fetch-Dest", "document"}},
		{"a frame of another", 403, "/", []string{"Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode", "navigate",
			"Sec-Fetch-Dest", "iframe"}},
		{"another name for it", 421, "/a", []string{"Host", "rebound.example"}},
		{"a cookie twice", 401, "/a", []string{"Cookie", strings.Split(door, "=")[0] + "=chosen"}},
	} {
		status, body, answer := send("GET", c.path, append([]string{"Cookie", door}, c.header...)...)
		if status != c.status || (status == 200) != (body == "the box") {
			t.Errorf("%s: %d %s", c.why, status, body)
		}
		if answer.Header.Get("Cross-Origin-Opener-Policy") != "same-origin" ||
			answer.Header.Get("Cross-Origin-Resource-Policy") != "same-origin" {
			t.Errorf("%s: %v", c.why, answer.Header)
		}
	}
	who.gone.Store(true)
	if status, _, _ := send("GET", "/a", "Cookie", door); status != http.StatusUnauthorized {
		t.Errorf("whoever lost the right: %d", status)
	}
}

// For another computer each page has a name of its own below the one that was given, over TLS,
// and answers to no other: not to the address, and not to the name of another page.
func TestPagesOfOtherComputersHaveNames(t *testing.T) {
	t.Parallel()
	says := func(text string) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, text) })
	}
	p, at := hostile(t, says("the first"), says("the second"))
	who := &guest{changed: make(chan struct{})}
	names, asks := [2]string{}, [2]func(host, path, cookie string) (int, string, http.Header){}
	for i := range at {
		link, err := p.Open(at[i], who.page(), "0.0.0.0:8427")
		if err != nil {
			t.Fatal(err)
		}
		address, once, _ := strings.Cut(link, "/#open=")
		u, err := url.Parse(address)
		if err != nil || u.Scheme != "https" || !strings.HasSuffix(u.Hostname(), ".boxes.site.example") {
			t.Fatalf("%s: %v", address, err)
		}
		names[i] = u.Host
		browses := &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
			DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, network, "127.0.0.1:"+u.Port())
			}}
		defer browses.CloseIdleConnections()
		asks[i] = func(host, path, cookie string) (int, string, http.Header) {
			t.Helper()
			method := http.MethodGet
			if path == "/.redstart/open" {
				method = http.MethodPost
			}
			r, err := http.NewRequestWithContext(patience(t), method, address+path, nil)
			if err != nil {
				t.Fatal(err)
			}
			r.Host = host
			r.Header.Set("X-Redstart-Open", once)
			r.Header.Set("Cookie", cookie)
			answer, err := browses.RoundTrip(r)
			if err != nil {
				t.Fatal(err)
			}
			defer answer.Body.Close()
			body, err := io.ReadAll(answer.Body)
			if err != nil {
				t.Fatal(err)
			}
			return answer.StatusCode, string(body), answer.Header
		}
	}
	if strings.Split(names[0], ":")[0] == strings.Split(names[1], ":")[0] {
		t.Errorf("both pages are %s", names[0])
	}
	status, _, header := asks[0](names[0], "/.redstart/open", "")
	door, kind, _ := strings.Cut(header.Get("Set-Cookie"), ";")
	if status != http.StatusNoContent || !strings.Contains(kind, "Secure") || strings.Contains(kind, "Domain") {
		t.Fatalf("%d %v", status, header)
	}
	if status, text, _ := asks[0](names[0], "/", door); status != http.StatusOK || text != "the first" {
		t.Errorf("%d %s", status, text)
	}
	for _, other := range []string{names[1], "127.0.0.1", "boxes.site.example", "192.0.2.1:8427"} {
		if status, _, _ := asks[0](other, "/", door); status != http.StatusMisdirectedRequest {
			t.Errorf("by the name %s: %d", other, status)
		}
	}
	if status, _, _ := asks[1](names[1], "/", door); status != http.StatusUnauthorized {
		t.Errorf("the second with the door of the first: %d", status)
	}
}
