package e2e

import (
	"bufio"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"redstart/internal/account"
	"redstart/internal/api"
	"redstart/internal/core/right"
	"redstart/internal/core/stamp"
	"redstart/internal/sim/skerry"
	"redstart/internal/store"
)

// Whatever ends somebody's rights ends what is open for him at once: signing out, another
// right, a removed user, a changed password.
func TestWhatIsOpenEndsWithTheRight(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	ctx := patience(t)
	const password = "berth-and-ramp-7"
	accounts := r.s.Accounts
	if _, err := accounts.FirstStart(ctx); err != nil {
		t.Fatal(err)
	}
	for i, end := range []func(name, token string) error{
		func(_, token string) error { return accounts.SignOut(ctx, token) },
		func(name, _ string) error {
			return accounts.Set(ctx, api.Account{Name: name, Rights: right.Look})
		},
		func(name, _ string) error { return accounts.Remove(ctx, name) },
		func(name, _ string) error {
			return accounts.ChangePassword(ctx, api.Person{Name: name, Rights: right.Plan},
				api.NewPassword{Old: password, New: "another-berth-8"})
		},
	} {
		name := fmt.Sprintf("user-%d", i)
		if err := accounts.Add(ctx, api.Account{Name: name, Password: password, Rights: right.Plan}); err != nil {
			t.Fatal(err)
		}
		token, _, err := accounts.SignIn(ctx, fmt.Sprintf("10.0.0.%d", i), api.SignIn{User: name, Password: password})
		if err != nil {
			t.Fatal(err)
		}
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, r.url+"/api/events", nil)
		if err != nil {
			t.Fatal(err)
		}
		request.AddCookie(&http.Cookie{Name: "redstart", Value: token})
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		lines := bufio.NewScanner(answer.Body)
		for lines.Scan() && !strings.HasPrefix(lines.Text(), "data: ") {
		}
		if err := end(name, token); err != nil {
			t.Fatal(err)
		}
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			for lines.Scan() {
			}
		}()
		select {
		case <-ended:
		case <-ctx.Done():
			t.Errorf("the events of %s go on", name)
		}
		answer.Body.Close()
	}
}

// A token may what it was given, at most what its person still may; it makes neither tokens nor
// people, ends by itself, and with a changed password unless it is kept by name.
func TestTokensHaveARightAndAnEnd(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	ctx := patience(t)
	accounts := r.s.Accounts
	if _, err := accounts.FirstStart(ctx); err != nil {
		t.Fatal(err)
	}
	const password = "berth-and-ramp-7"
	if err := accounts.Add(ctx, api.Account{Name: "ines", Password: password, Rights: right.Plan}); err != nil {
		t.Fatal(err)
	}
	ines := api.Person{Name: "ines", Rights: right.Plan}
	if _, err := accounts.AddToken(ctx, ines, api.ForToken{Name: "too much", Rights: right.Commission}); err == nil ||
		!strings.Contains(err.Error(), `cannot give a token the right "commission"`) {
		t.Errorf("a token that may more than its maker: %v", err)
	}
	if _, err := accounts.AddToken(ctx, ines, api.ForToken{Name: "for ever", Days: 4000}); err == nil {
		t.Error("a token for ever")
	}
	looks, err := accounts.AddToken(ctx, ines, api.ForToken{Name: "screen"})
	if err != nil || looks.Rights != right.Look || time.Until(looks.ExpiresAt.Time) > 91*24*time.Hour {
		t.Fatalf("%+v, %v", looks, err)
	}
	plans, err := accounts.AddToken(ctx, ines, api.ForToken{Name: "script", Rights: right.Plan, Days: 2})
	if err != nil {
		t.Fatal(err)
	}
	try := func(token, method, path, body string, want int) string {
		t.Helper()
		status, _, answer := send(t, http.DefaultClient, method, r.url+path, body, "Authorization", "Bearer "+token)
		if status != want {
			t.Errorf("%s %s: %d %s", method, path, status, answer)
		}
		return answer
	}
	const patch = "/api/sites/skerry-point/entries?preview=true"
	try(looks.Token, "PATCH", patch, `{"patches":[]}`, http.StatusForbidden)
	try(plans.Token, "PATCH", patch, `{"patches":[]}`, http.StatusOK)
	boss, err := accounts.AddToken(ctx, api.Person{Name: account.Owner}, api.ForToken{Name: "all", Rights: right.Own})
	if err != nil {
		t.Fatal(err)
	}
	for path, body := range map[string]string{"/api/tokens": `{"name":"child"}`,
		"/api/users": `{"name":"eve","password":"long enough 1","rights":"own"}`} {
		if answer := try(boss.Token, "POST", path, body, http.StatusForbidden); !strings.Contains(answer, "a token may not") {
			t.Errorf("%s: %s", path, answer)
		}
	}
	// What its person may no longer, it may no longer.
	if err := accounts.Set(ctx, api.Account{Name: "ines", Rights: right.Look}); err != nil {
		t.Fatal(err)
	}
	try(plans.Token, "PATCH", patch, `{"patches":[]}`, http.StatusForbidden)
	// With the password go all tokens that are not kept.
	change := api.NewPassword{Old: password, New: "another-berth-8", Keep: []string{"none of these"}}
	if err := accounts.ChangePassword(ctx, ines, change); err == nil || !strings.Contains(err.Error(), "no token of this name") {
		t.Errorf("kept a token that is none: %v", err)
	}
	change.Keep = []string{"screen"}
	if err := accounts.ChangePassword(ctx, ines, change); err != nil {
		t.Fatal(err)
	}
	try(looks.Token, "GET", "/api/session", "", http.StatusOK)
	try(plans.Token, "GET", "/api/session", "", http.StatusUnauthorized)
	// Its time is over: it opens nothing more, and what it has open ends.
	short := store.Token{User: "ines", Name: "short", Rights: "look", Hash: fmt.Sprintf("%x", sha256.Sum256([]byte("short"))),
		ExpiresAt: stamp.Time{Time: time.Now().Add(2 * time.Second)}}
	if err := r.s.Records.AddToken(ctx, short); err != nil {
		t.Fatal(err)
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, r.url+"/api/events", nil)
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer short")
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if _, err := io.Copy(io.Discard, answer.Body); err != nil || answer.StatusCode != http.StatusOK && answer.StatusCode != http.StatusUnauthorized {
		t.Errorf("%s: %v", answer.Status, err)
	}
	if answer := try("short", "GET", "/api/session", "", http.StatusUnauthorized); !strings.Contains(answer, "expired on") {
		t.Errorf("an expired token: %s", answer)
	}
}

// Nobody has to sign in to sign in: nothing long is read of who does.
func TestALongSignInIsNotRead(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	status, _, answer := send(t, http.DefaultClient, "POST", r.url+"/api/session",
		`{"user":"`+strings.Repeat("x", 1<<20)+`","password":"x"}`)
	if status < 400 || status >= 500 || strings.Contains(answer, "xxxx") {
		t.Errorf("%d %s", status, answer[:min(200, len(answer))])
	}
	// One that never comes to its end is cut.
	c, err := (&net.Dialer{}).DialContext(patience(t), "tcp", strings.TrimPrefix(r.url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if _, err := c.Write([]byte("POST /api/session HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\n" +
		"Content-Length: 100\r\n\r\n{")); err != nil {
		t.Fatal(err)
	}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		buffer := make([]byte, 512)
		for {
			if _, err := c.Read(buffer); err != nil {
				return
			}
		}
	}()
	ctx, cancel := context.WithTimeout(patience(t), time.Minute)
	defer cancel()
	select {
	case <-ended:
	case <-ctx.Done():
		t.Error("it waits for ever")
	}
}
