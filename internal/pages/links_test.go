package pages

import (
	"io"
	"net/http"
	"net/netip"
	"strings"
	"testing"
	"testing/iotest"
)

const shown = "http://127.0.0.2:4711"

func answered(kind, body string, header ...string) *http.Response {
	r := &http.Response{Request: &http.Request{Header: http.Header{"Accept": {"text/html"}}}, Header: http.Header{"Content-Type": {kind}}, Body: io.NopCloser(strings.NewReader(body)),
		ContentLength: int64(len(body))}
	for i := 0; i < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	return r
}

// Links of a box to itself lead to its page; what only looks like one stays.
func TestLinksOfABoxToItself(t *testing.T) {
	own := originOf("http", netip.MustParseAddr("192.168.88.1"), 80)
	for before, after := range map[string]string{
		`<a href="http://192.168.88.1/status">`:                 `<a href="` + shown + `/status">`,
		`go to HTTP://192.168.88.1`:                             `go to ` + shown,
		`"http:\/\/192.168.88.1:80\/x"`:                         `"http:\/\/127.0.0.2:4711\/x"`,
		`http://192.168.88.1. And http://192.168.88.1`:          shown + `. And ` + shown,
		`http://192.168.88.10/ http://192.168.88.1.2/`:          `http://192.168.88.10/ http://192.168.88.1.2/`,
		`https://192.168.88.1/ http://192.168.88.1:8080/`:       `https://192.168.88.1/ http://192.168.88.1:8080/`,
		`its address is 192.168.88.1, and http://192x168.88.1/`: `its address is 192.168.88.1, and http://192x168.88.1/`,
		``: ``,
	} {
		for name, body := range map[string]io.Reader{"whole": strings.NewReader(before),
			"by the byte":  iotest.OneByteReader(strings.NewReader(before)),
			"with its end": iotest.DataErrReader(strings.NewReader(before))} {
			r := answered("text/html; charset=utf-8", "", "ETag", "x")
			r.Body = io.NopCloser(body)
			newLinks(own, shown).apply(r)
			got, err := io.ReadAll(r.Body)
			if err != nil || string(got) != after || r.ContentLength != -1 || r.Header.Get("ETag") != "" {
				t.Errorf("%s: %q became %q, want %q (%v)", name, before, got, after, err)
			}
		}
	}
	for _, r := range []*http.Response{answered("image/png", "http://192.168.88.1/"),
		answered("text/html", "http://192.168.88.1/", "Content-Encoding", "br"), answered("", "http://192.168.88.1/"),
		answered("text/event-stream", "http://192.168.88.1/")} {
		newLinks(own, shown).apply(r)
		if got, err := io.ReadAll(r.Body); err != nil || string(got) != "http://192.168.88.1/" || r.ContentLength < 0 {
			t.Errorf("%v: %q %v", r.Header, got, err)
		}
	}
}

// A long page keeps all its bytes, wherever it is cut on the way.
func TestALongPageKeepsItsBytes(t *testing.T) {
	text := strings.Repeat("é http://10.0.0.1/a http://10.0.0.11/b ", 3000)
	own := originOf("http", netip.MustParseAddr("10.0.0.1"), 80)
	r := answered("application/json", text)
	newLinks(own, shown).apply(r)
	got, err := io.ReadAll(iotest.HalfReader(r.Body))
	if want := strings.ReplaceAll(text, "http://10.0.0.1/", shown+"/"); err != nil || string(got) != want {
		t.Errorf("%d bytes, want %d, %v", len(got), len(want), err)
	}
}

// A box may send the browser to another server of its own, and nowhere else by way of us.
func TestWhereABoxSendsTheBrowser(t *testing.T) {
	at := netip.MustParseAddr("192.168.81.2")
	for to, want := range map[string][2]string{ // where the browser goes, and what it reaches there
		"https://192.168.81.2/":               {shown + "/", "https://192.168.81.2"},
		"https://192.168.81.2":                {shown + "/", "https://192.168.81.2"},
		"https://192.168.81.2:8443/in?a=1#b":  {shown + "/in?a=1#b", "https://192.168.81.2:8443"},
		"http://192.168.81.2//far.invalid/":   {shown + "//far.invalid/", "http://192.168.81.2"},
		"https://somebody@192.168.81.2:443/x": {shown + "/x", "https://192.168.81.2"},
		"/login":                              {"/login", "http://192.168.81.2"},
		"http://far.invalid/":                 {"http://far.invalid/", "http://192.168.81.2"},
		"http://192.168.81.2:99999/":          {"http://192.168.81.2:99999/", "http://192.168.81.2"},
		"ftp://192.168.81.2/":                 {"ftp://192.168.81.2/", "http://192.168.81.2"},
	} {
		g := &page{at: at, origin: originOf("http", at, 80), base: shown, prefix: "box-"}
		r := answered("text/html", "", "Location", to, "Strict-Transport-Security", "max-age=1")
		g.answer(r)
		if got := r.Header.Get("Location"); got != want[0] || g.origin.String() != want[1] ||
			r.Header.Get("Strict-Transport-Security") != "" {
			t.Errorf("%s leads to %s at %s, want %v", to, got, g.origin, want)
		}
	}
}
