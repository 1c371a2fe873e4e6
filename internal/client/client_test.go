package client_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/gofrs/flock"

	"redstart/internal/client"
	"redstart/internal/core/problem"
)

func serve(t *testing.T, h http.HandlerFunc) client.Handle {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return client.Handle{URL: s.URL, Token: "right"}
}

// signed answers like a service that knows one token.
func signed(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/problem+json")
	if r.Header.Get("Authorization") != "Bearer right" {
		w.WriteHeader(http.StatusUnauthorized)
		_, _ = w.Write([]byte(`{"status":401,"detail":"you are not signed in"}`)) // the test reads it
		return
	}
	_, _ = w.Write([]byte(`{}`))
}

func TestErrorsComeBackAsTheyWere(t *testing.T) {
	for status, want := range map[int]problem.Kind{404: problem.Missing, 409: problem.Conflict, 422: problem.Usage,
		429: problem.TooMany, 502: problem.Device, 503: problem.Machine, 401: problem.SignIn, 403: problem.Rights} {
		h := serve(t, func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(status)
			_, _ = w.Write([]byte(`{"detail":"the cause","subject":"A-1","next":"do this","cells":[{"row":3,"column":"mac","reason":"is wrong"}]}`))
		})
		_, err := client.New(h).Works(context.Background())
		if problem.KindOf(err) != want || err.Error() != "A-1: the cause. Do this." || len(problem.Cells(err)) != 1 {
			t.Errorf("%d: %s, %v", status, problem.KindOf(err), err)
		}
	}
	h := serve(t, func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "<html>proxy</html>", http.StatusBadGateway)
	})
	if _, err := client.New(h).Works(context.Background()); problem.KindOf(err) != problem.Machine ||
		!strings.Contains(err.Error(), "no Redstart service") {
		t.Errorf("a stranger's answer: %v", err)
	}
}

// A command meets a service that is just starting: the folder is locked, its old
// handle is still there or none is yet.
func TestAServiceThatIsStartingIsWaitedFor(t *testing.T) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	h := serve(t, signed)
	for name, before := range map[string]*client.Handle{"no handle yet": nil,
		"a killed service's handle": {URL: h.URL, Token: "wrong"},
		"a port where nobody is":    {URL: "http://127.0.0.1:1", Token: "x"}} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			if before != nil {
				if _, err := client.WriteHandle(dir, *before); err != nil {
					t.Fatal(err)
				}
			}
			if _, err := client.Open(ctx, dir); problem.KindOf(err) != problem.Machine ||
				!strings.Contains(err.Error(), "no Redstart service is running") {
				t.Fatalf("without a service: %v", err)
			}
			lock := flock.New(filepath.Join(dir, "lock"))
			if got, err := lock.TryLock(); err != nil || !got {
				t.Fatal(err)
			}
			defer lock.Unlock()
			opened := make(chan error, 1)
			go func() {
				_, err := client.Open(ctx, dir)
				opened <- err
			}()
			remove, err := client.WriteHandle(dir, h)
			if err != nil {
				t.Fatal(err)
			}
			if err := <-opened; err != nil {
				t.Error(err)
			}
			if info, err := os.Stat(filepath.Join(dir, "service.json")); err != nil || info.Mode().Perm() != 0o600 {
				t.Errorf("others can read the handle: %v", err)
			}
			if remove(); !os.IsNotExist(func() error {
				_, err := os.Stat(filepath.Join(dir, "service.json"))
				return err
			}()) {
				t.Error("the handle stays")
			}
		})
	}
}

// That no service runs is said only where nobody takes the connection: one that breaks may have
// been heard.
func TestABrokenConnectionIsNoServiceThatIsAway(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if c, _, err := w.(http.Hijacker).Hijack(); err == nil {
			_ = c.Close()
		}
	}))
	h := client.Handle{URL: server.URL}
	if _, err := client.New(h).Works(t.Context()); problem.KindOf(err) != problem.Machine || !strings.Contains(err.Error(), "the connection broke before the service answered") {
		t.Errorf("%v", err)
	}
	server.Close()
	if _, err := client.New(h).Works(t.Context()); problem.KindOf(err) != problem.Machine || !strings.Contains(err.Error(), "no Redstart service is running") {
		t.Errorf("%v", err)
	}
}
