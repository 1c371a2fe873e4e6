package restconf_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/driver/restconf"
)

// lamp is a server of one resource whose tag changes with it.
type lamp struct {
	mu     sync.Mutex
	tag    int
	body   string
	asked  []string
	answer func(w http.ResponseWriter, r *http.Request) bool
}

func (l *lamp) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.asked = append(l.asked, r.Method+" "+r.URL.EscapedPath())
	if l.answer != nil && l.answer(w, r) {
		return
	}
	tag := fmt.Sprintf("%q", fmt.Sprint(l.tag))
	if match := r.Header.Get("If-Match"); match != "" && match != tag {
		w.WriteHeader(http.StatusPreconditionFailed)
		return
	}
	if r.Method == http.MethodPatch {
		body, _ := io.ReadAll(r.Body)
		l.tag++
		l.body = string(body)
		w.WriteHeader(http.StatusNoContent)
		return
	}
	w.Header().Set("ETag", tag)
	fmt.Fprint(w, `{"lamp:lamp": {"on": true}}`)
}

// by begins a session with a server.
func by(t *testing.T, h http.Handler, root string) driver.Session {
	t.Helper()
	server := httptest.NewServer(h)
	t.Cleanup(server.Close)
	s := restconf.Driver{}.Open(driver.Peer{
		Address: netip.MustParseAddr("192.168.77.20"), Section: restconf.Section{Over: "http", Root: root},
		Login: profile.Login{User: "keeper", Password: "Heron-7"},
		Dial: func(ctx context.Context, _ uint16) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", server.Listener.Addr().String())
		},
	})
	t.Cleanup(s.Close)
	return s
}

var (
	read  = &restconf.Move{Request: "GET data/lamp:lamp", Take: map[string]string{"on": "/lamp:lamp/on"}}
	write = &restconf.Move{Request: "PATCH data/lamp:lamp", Body: map[string]any{"lamp:lamp": map[string]any{
		"on?": "{on}", "level#": "{level}", "name": "{name}", "scenes#[]": "{scenes}"}}}
)

// Values have the types that a server asks for, and an empty one is left out.
func TestWhatIsWrittenHasItsType(t *testing.T) {
	l := &lamp{}
	s := by(t, l, "/rest")
	vars := map[string]string{"on": "enabled", "level": "", "name": `a"b`, "scenes": "3-4, 1"}
	if _, err := s.Do(t.Context(), write, vars); err != nil {
		t.Fatal(err)
	}
	if want := `{"lamp:lamp":{"name":"a\"b","on":true,"scenes":[1,3,4]}}`; l.body != want {
		t.Errorf("%s, want %s", l.body, want)
	}
	for _, vars := range []map[string]string{{"on": "perhaps", "level": "", "name": "", "scenes": ""},
		{"on": "", "level": "high", "name": "", "scenes": ""}, {"on": "", "level": "", "name": "", "scenes": "x"}} {
		if _, err := s.Do(t.Context(), write, vars); !errors.Is(err, driver.ErrNotSent) {
			t.Errorf("%v: %v", vars, err)
		}
	}
}

// What somebody else changed since it was read is not overwritten; our own write is not taken
// for somebody else's.
func TestNobodysChangeIsOverwritten(t *testing.T) {
	l := &lamp{}
	s := by(t, l, "/rest")
	vars := map[string]string{"on": "yes", "level": "7", "name": "x", "scenes": ""}
	for range 2 {
		if _, err := s.Do(t.Context(), read, nil); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Do(t.Context(), write, vars); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Do(t.Context(), write, vars); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.Do(t.Context(), read, nil); err != nil {
		t.Fatal(err)
	}
	l.mu.Lock()
	l.tag, l.body = 99, "theirs"
	l.mu.Unlock()
	_, err := s.Do(t.Context(), write, vars)
	if !errors.Is(err, driver.ErrValue) || !strings.Contains(err.Error(), "somebody else changed") || l.body != "theirs" {
		t.Errorf("%v; %s", err, l.body)
	}
}

// Errors are told in plain words (RFC 8040, 7).
func TestErrorsInPlainWords(t *testing.T) {
	for _, c := range []struct {
		status   int
		body     string
		says     string
		is, isnt error
	}{
		{401, "", "login was refused", driver.ErrLogin, driver.ErrValue},
		{409, `{"ietf-restconf:errors":{"error":[{"error-type":"application","error-tag":"in-use"}]}}`,
			"somebody else uses it", driver.ErrValue, driver.ErrLogin},
		{400, `{"ietf-restconf:errors":{"error":[{"error-tag":"invalid-value","error-path":"/lamp:lamp/level","error-message":"0 to 9"}]}}`,
			"does not take this value: 0 to 9 (/lamp:lamp/level)", driver.ErrValue, driver.ErrLogin},
		{403, `{"ietf-restconf:errors":{"error":[{"error-tag":"access-denied"}]}}`, "this login may not", driver.ErrValue,
			driver.ErrLogin},
		{500, `{"ietf-restconf:errors":{"error":[{"error-tag":"odd"}]}}`, "it refused: odd", driver.ErrValue, nil},
		{502, `<html>`, "it answered 502", driver.ErrValue, nil},
	} {
		l := &lamp{answer: func(w http.ResponseWriter, _ *http.Request) bool {
			w.WriteHeader(c.status)
			_, _ = io.WriteString(w, c.body)
			return true
		}}
		_, err := by(t, l, "/rest").Do(t.Context(), read, nil)
		if err == nil || !strings.Contains(err.Error(), c.says) || !errors.Is(err, c.is) || c.isnt != nil &&
			errors.Is(err, c.isnt) {
			t.Errorf("%d: %v", c.status, err)
		}
	}
}

// The root of the API is asked for once; keys in paths are escaped as RFC 8040, 3.5.3 says.
func TestTheRootIsFound(t *testing.T) {
	xrd := `<XRD xmlns="http://docs.oasis-open.org/ns/xri/xrd-1.0"><Link rel="x" href="/no"/><Link rel="restconf" href="/api/r/"/></XRD>`
	l := &lamp{}
	l.answer = func(w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path == "/.well-known/host-meta" {
			_, _ = io.WriteString(w, xrd)
			return true
		}
		return false
	}
	s := by(t, l, "")
	by1 := &restconf.Move{Request: "GET data/lamp:lamps/lamp={name}"}
	for range 2 {
		if _, err := s.Do(t.Context(), by1, map[string]string{"name": "a/b,c:d e"}); err != nil {
			t.Fatal(err)
		}
	}
	want := "GET /.well-known/host-meta, GET /api/r/data/lamp:lamps/lamp=a%2Fb%2Cc%3Ad%20e, GET /api/r/data/lamp:lamps/lamp=a%2Fb%2Cc%3Ad%20e"
	if got := strings.Join(l.asked, ", "); got != want {
		t.Errorf("%s", got)
	}
	for _, bad := range []string{`<XRD/>`, `no`, `<XRD><Link rel="restconf" href="//elsewhere/r"/></XRD>`,
		`<XRD><Link rel="restconf" href="http://elsewhere/r"/></XRD>`} {
		xrd = bad
		if _, err := by(t, l, "").Do(t.Context(), read, nil); !errors.Is(err, driver.ErrValue) {
			t.Errorf("%s: %v", bad, err)
		}
	}
}

// What is no request is refused when the profile is read.
func TestWrongWords(t *testing.T) {
	for words, says := range map[string]string{
		"restconf: TRACE data/x:y":                    "restconf is GET",
		"restconf: GET x:y":                           "restconf is GET",
		"restconf: PUT operations/x:y":                "restconf is GET",
		"restconf: GET data/x:y, body: {a: b}":        "GET has no body",
		"restconf: GET data/x:y, take: {name: a}":     "a pointer begins with /",
		"restconf: GET data/x:y, take: {name: /a~b}":  "~0",
		"restconf: GET data/x:y, takes: {name: /a~0}": "takes",
	} {
		text := strings.Replace(heron, `sign-in: [{restconf: "GET data/lamp:lamp"}]`, "sign-in: [{"+words+
			"}]", 1)
		if _, err := profile.Parse([]byte(text), []profile.Driver{restconf.Driver{}}); err == nil ||
			!strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", words, err)
		}
	}
}
