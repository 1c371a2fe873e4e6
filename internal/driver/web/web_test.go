package web_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"

	"github.com/icholy/digest"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/driver/web"
)

// device is a web server that a client reaches whatever address it names.
func device(t *testing.T, w web.Section, login profile.Login, h http.HandlerFunc) *shown {
	t.Helper()
	server := httptest.NewUnstartedServer(h)
	if w.Over == "https" {
		server.StartTLS()
	} else {
		server.Start()
	}
	t.Cleanup(server.Close)
	c := &shown{}
	c.Session = web.Driver{}.Open(driver.Peer{
		Address: netip.MustParseAddr("192.168.77.20"), Section: w, Login: login,
		Dial: func(ctx context.Context, _ uint16) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", server.Listener.Addr().String())
		},
		Trust: func(sum string) error { c.sum = sum; return c.distrust },
	})
	t.Cleanup(c.Close)
	return c
}

// shown is a session with what its server showed.
type shown struct {
	driver.Session
	sum      string
	distrust error
}

var plain = web.Section{Over: "http"}

func TestFormsCookiesAndTokens(t *testing.T) {
	c := device(t, plain, profile.Login{}, func(w http.ResponseWriter, r *http.Request) {
		switch r.Method + " " + r.URL.Path {
		case "GET /door":
			http.SetCookie(w, &http.Cookie{Name: "s", Value: "1"})
			_, _ = io.WriteString(w,
				`<form><input name="other" value="no"><input type="hidden" name="ticket" value="a&amp;b"></form>`)
		case "POST /door":
			if _, err := r.Cookie("s"); err != nil || r.PostFormValue("ticket") != "a&b" ||
				r.PostFormValue("password") != "p&=%+ ä" {
				w.WriteHeader(http.StatusTeapot)
				return
			}
			http.Redirect(w, r, "/elsewhere", http.StatusSeeOther)
		default:
			t.Errorf("%s %s was asked for: redirects must not be followed", r.Method, r.URL)
		}
	})
	ctx := context.Background()
	vars := map[string]string{"password": "p&=%+ ä"}
	taken, err := c.Do(ctx,
		&web.Move{Request: "GET /door", Take: map[string]string{"ticket": "css input[name=ticket]@value"}}, vars)
	if err != nil || taken["ticket"] != "a&b" {
		t.Fatalf("%v, %v", taken, err)
	}
	vars["ticket"] = taken["ticket"]
	if _, err := c.Do(ctx, &web.Move{Request: "POST /door", Form: map[string]string{"ticket": "{ticket}",
		"password": "{password}"}, Expect: []int{303}}, vars); err != nil {
		t.Error(err)
	}
}

func TestJSONIsFilledInSafely(t *testing.T) {
	var got map[string]any
	c := device(t, plain, profile.Login{}, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.EscapedPath() != "/set/a%2Fb" || r.Header.Get("Content-Type") != "application/json" {
			t.Errorf("%s as %s", r.URL.EscapedPath(), r.Header.Get("Content-Type"))
		}
		if err := json.NewDecoder(r.Body).Decode(&got); err != nil {
			t.Error(err)
		}
	})
	nasty := `quote " backslash \ brace {user}`
	_, err := c.Do(context.Background(), &web.Move{Request: "PUT /set/{name}",
		JSON: map[string]any{"v": "{nasty}", "list": []any{"x{name}", uint64(7), true}}},
		map[string]string{"name": "a/b", "nasty": nasty})
	if err != nil {
		t.Fatal(err)
	}
	list, _ := got["list"].([]any)
	if got["v"] != nasty || len(list) != 3 || list[0] != "xa/b" || list[1] != 7.0 || list[2] != true {
		t.Errorf("the device received %v", got)
	}
	if _, err := c.Do(context.Background(), &web.Move{Request: "PUT /x", JSON: map[string]any{"p": "{password}"}},
		nil); err == nil || !strings.Contains(err.Error(), "no value here") {
		t.Errorf("a literal {password} was sent: %v", err)
	}
}

func TestAnswersAreJudged(t *testing.T) {
	status, body := 200, ""
	c := device(t, plain, profile.Login{}, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("X-Model", "Z9")
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	})
	for _, q := range []struct {
		status int
		body   string
		move   web.Move
		want   string
	}{
		{200, "", web.Move{}, ""},
		{204, "", web.Move{}, ""},
		{302, "", web.Move{}, "answered 302 Found"},
		{500, "", web.Move{}, "answered 500 Internal Server Error"},
		{200, "", web.Move{Expect: []int{201, 202}}, "answered 200"},
		{202, "", web.Move{Expect: []int{201, 202}}, ""},
		{401, "", web.Move{Refused: []int{401}}, driver.ErrLogin.Error()},
		{422, `{"reason":"too short"}`, web.Move{Why: "json /reason"}, "it refused: too short"},
		{422, `<p class="refusal"> Too <b>short</b> </p>`, web.Move{Why: "css .refusal"}, "it refused: Too short"},
		{422, `nothing`, web.Move{Why: "css .refusal"}, "answered 422"},
		{200, `{"a":{"b/c":[10,"x",true,null]}}`, web.Move{Take: map[string]string{"v": "json /a/b~1c/0"}}, "v=10"},
		{200, `{"a":{"b/c":[10,"x",true,null]}}`, web.Move{Take: map[string]string{"v": "json /a/b~1c/2"}}, "v=true"},
		{200, `{"a":{"b/c":[10,"x",true,null]}}`, web.Move{Take: map[string]string{"v": "json /a/b~1c/3"}},
			"there is nothing"},
		{200, `{"a":{"b/c":[10,"x",true,null]}}`, web.Move{Take: map[string]string{"v": "json /a/b~1c/9"}},
			"there is nothing"},
		{200, `{"a":1}`, web.Move{Take: map[string]string{"v": "json /a/b"}}, "there is nothing"},
		{200, `<html>`, web.Move{Take: map[string]string{"v": "json /a"}}, "not JSON"},
		{200, `<i id="x" t="7">hi</i>`, web.Move{Take: map[string]string{"v": "css #x@t"}}, "v=7"},
		{200, `<i id="x">hi</i>`, web.Move{Take: map[string]string{"v": "css #x@t"}}, `has no "t"`},
		{200, `<i>`, web.Move{Take: map[string]string{"v": "css #x"}}, "nothing on the page"},
		{200, ``, web.Move{Take: map[string]string{"v": "header X-Model"}}, "v=Z9"},
		{200, ``, web.Move{Take: map[string]string{"v": "tea leaves"}}, "says nothing about where"},
	} {
		status, body = q.status, q.body
		q.move.Request = "GET /"
		taken, err := c.Do(context.Background(), &q.move, nil)
		switch {
		case strings.HasPrefix(q.want, "v="):
			if err != nil || taken["v"] != q.want[2:] {
				t.Errorf("%d %s: %v, %v; want %s", q.status, q.body, taken, err, q.want)
			}
		case q.want == "" && err != nil, q.want != "" && (err == nil || !strings.Contains(err.Error(), q.want)):
			t.Errorf("%d %s: %v; want %q", q.status, q.body, err, q.want)
		}
		if errors.Is(err, driver.ErrLogin) != (q.status == 401) {
			t.Errorf("%d: refused login told wrongly: %v", q.status, err)
		}
	}
}

func TestBasicLoginAndCertificate(t *testing.T) {
	c := device(t, web.Section{Over: "https", Auth: "basic"}, profile.Login{User: "u", Password: "p"},
		func(w http.ResponseWriter, r *http.Request) {
			if user, password, ok := r.BasicAuth(); !ok || user != "u" || password != "p" {
				w.WriteHeader(http.StatusUnauthorized)
			}
		})
	if c.sum != "" {
		t.Error("a certificate before anything was asked")
	}
	if _, err := c.Do(context.Background(), &web.Move{Request: "GET /", Refused: []int{401}}, nil); err != nil {
		t.Error(err)
	}
	if len(c.sum) != 64 {
		t.Errorf("certificate %q", c.sum)
	}
}

func TestAHostileServerCostsLittle(t *testing.T) {
	c := device(t, plain, profile.Login{}, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/break" {
			conn, _, err := http.NewResponseController(w).Hijack()
			if err == nil {
				conn.Close()
			}
			return
		}
		chunk := strings.Repeat("x", 1<<16)
		for range 64 { // 4 MiB, of which only the first is read
			if _, err := io.WriteString(w, chunk); err != nil {
				return
			}
		}
	})
	if _, err := c.Do(context.Background(), &web.Move{Request: "GET /long", Take: map[string]string{"v": "json /a"}},
		nil); err == nil || !strings.Contains(err.Error(), "longer than 1024 KiB") {
		t.Errorf("an endless answer: %v", err)
	}
	_, err := c.Do(context.Background(), &web.Move{Request: "GET /break?secret={password}"},
		map[string]string{"password": "hunter-2"})
	if err == nil || strings.Contains(err.Error(), "hunter-2") ||
		!strings.Contains(err.Error(), "no answer from its web server") {
		t.Errorf("a broken connection: %v", err)
	}
	gone, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := c.Do(gone, &web.Move{Request: "GET /"}, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("a cancelled move: %v", err)
	}
}

// A file of the site goes out as a part, whole; a table is taken whole, as JSON or by an
// expression with named groups.
func TestFilesAndTables(t *testing.T) {
	var got, name string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			_, _ = io.WriteString(w, `{"ports": [{"n": 1, "role": "uplink"}], "note": "1 up, 2 down"}`)
			return
		}
		f, h, err := r.FormFile("firmware")
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		content, _ := io.ReadAll(f)
		got, name = string(content), h.Filename+" "+r.FormValue("sure")
	}))
	defer server.Close()
	size := int64(len("FIRMWARE"))
	c := web.Driver{}.Open(driver.Peer{
		Address: netip.MustParseAddr("192.168.77.20"), Section: plain,
		Dial: func(ctx context.Context, _ uint16) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", server.Listener.Addr().String())
		},
		Trust: func(string) error { return nil },
		File: func(key string) (driver.File, error) {
			if key != "image" {
				return driver.File{}, errors.New("there is no such file")
			}
			return driver.File{Name: "fs8-2.7.bin", Size: size, Content: io.NopCloser(strings.NewReader("FIRMWARE"))},
				nil
		},
	})
	defer c.Close()
	ctx := context.Background()
	upload := &web.Move{Request: "POST /update", Parts: map[string]string{"sure": "{sure}"},
		Files: map[string]string{"firmware": "image"}}
	if _, err := c.Do(ctx, upload, map[string]string{"sure": "yes"}); err != nil || got != "FIRMWARE" ||
		name != "fs8-2.7.bin yes" {
		t.Errorf("%q %q %v", got, name, err)
	}
	if u := upload.Uploads(); len(u) != 1 || u[0] != "image" {
		t.Errorf("it sends %v", u)
	}
	size = 99 // it was cut short meanwhile
	if _, err := c.Do(ctx, upload, map[string]string{"sure": "yes"}); !errors.Is(err, driver.ErrNotSent) ||
		!strings.Contains(err.Error(), "could not be read whole") {
		t.Error(err)
	}
	if _, err := c.Do(ctx, &web.Move{Request: "POST /update", Files: map[string]string{"firmware": "other"}},
		nil); !errors.Is(err, driver.ErrNotSent) {
		t.Error(err)
	}
	taken, err := c.Do(ctx, &web.Move{Request: "GET /", Take: map[string]string{
		"setting.ports": "json /ports", "setting.states": `rows (?P<port>\d+) (?P<state>up|down)`}}, nil)
	if err != nil || taken["setting.ports"] != `[{"n":1,"role":"uplink"}]` ||
		taken["setting.states"] != `[{"port":"1","state":"up"},{"port":"2","state":"down"}]` {
		t.Errorf("%v %v", taken, err)
	}
}

// A box that restarts between its challenge and the answer to it has not refused the login: it
// says that the challenge is not its latest, and is asked once more, but no oftener.
func TestAChallengeOfBeforeARestart(t *testing.T) {
	for restarts, want := range map[int]error{0: nil, 1: nil, 100: driver.ErrLogin} {
		asked, started := 0, 0
		login := profile.Login{User: "operator", Password: "Kittiwake-7-late"}
		c := device(t, web.Section{Over: "http", Auth: "digest"}, login, func(w http.ResponseWriter, r *http.Request) {
			asked++
			given, err := digest.ParseCredentials(r.Header.Get("Authorization"))
			if err == nil && started < restarts {
				started++ // it forgets what it gave out
			}
			now := fmt.Sprint("nonce", started)
			if err == nil && given.Nonce == now {
				return
			}
			ch := digest.Challenge{Realm: "box", Nonce: now, Algorithm: "SHA-256", QOP: []string{"auth"}, Stale: err == nil}
			w.Header().Set("WWW-Authenticate", ch.String())
			w.WriteHeader(http.StatusUnauthorized)
		})
		_, err := c.Do(t.Context(), &web.Move{Request: "GET /session", Refused: []int{401}}, nil)
		if !errors.Is(err, want) || asked > 4 {
			t.Errorf("%d restarts: %v after %d questions", restarts, err, asked)
		}
	}
}
