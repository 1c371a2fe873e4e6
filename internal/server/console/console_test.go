package console

import (
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"
)

// mostFirst is how much the first load may be, compressed, in bytes.
const mostFirst = 150_000

// What the console needs before it shows anything is small, comes compressed to whoever takes that,
// and is asked for once: its names change with what it holds.
func TestTheFirstLoadIsSmall(t *testing.T) {
	t.Parallel()
	get := func(path, takes string) *httptest.ResponseRecorder {
		r := httptest.NewRequest(http.MethodGet, path, nil)
		r.Header.Set("Accept-Encoding", takes)
		w := httptest.NewRecorder()
		Handler().ServeHTTP(w, r)
		return w
	}
	start := get("/", "gzip, br")
	if start.Code != http.StatusOK {
		t.Skip("the console is not built: make build")
	}
	sum := start.Body.Len()
	links := regexp.MustCompile(`(?:src|href)="(/assets/[^"]+)"`).FindAllStringSubmatch(start.Body.String(), -1)
	if len(links) < 2 {
		t.Fatalf("it names %v", links)
	}
	for _, l := range links {
		small, whole := get(l[1], "gzip, br"), get(l[1], "gzip, br;q=0")
		if small.Code != http.StatusOK || whole.Code != http.StatusOK || whole.Header().Get("Content-Encoding") != "" {
			t.Fatalf("%s: %d, %d, %v", l[1], small.Code, whole.Code, whole.Header())
		}
		if small.Header().Get("Content-Encoding") == "br" && small.Body.Len() > whole.Body.Len()/2 {
			t.Errorf("%s: %d of %d bytes", l[1], small.Body.Len(), whole.Body.Len())
		}
		if kind := small.Header().Get("Content-Type"); kind != whole.Header().Get("Content-Type") || kind == "" {
			t.Errorf("%s: %s compressed, %s as it is", l[1], kind, whole.Header().Get("Content-Type"))
		}
		if !strings.Contains(small.Header().Get("Cache-Control"), "immutable") {
			t.Errorf("%s: %v", l[1], small.Header())
		}
		sum += small.Body.Len()
	}
	t.Logf("%d bytes", sum)
	if sum > mostFirst {
		t.Errorf("the first load is %d bytes", sum)
	}
}
