package e2e

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"redstart/internal/account"
	"redstart/internal/sim/skerry"
)

// Whatever ends somebody's rights ends what is open for him at once: signing out, another
// right, a removed user, a changed password.
func TestWhatIsOpenEndsWithTheRight(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	ctx := patience(t)
	const password = "berth-and-ramp-7"
	accounts := r.s.Accounts()
	if _, err := accounts.FirstStart(ctx); err != nil {
		t.Fatal(err)
	}
	for i, end := range []func(name, token string) error{
		func(_, token string) error { return accounts.SignOut(ctx, token) },
		func(name, _ string) error {
			return accounts.Set(ctx, account.Account{Name: name, Rights: account.Look})
		},
		func(name, _ string) error { return accounts.Remove(ctx, name) },
		func(name, _ string) error {
			return accounts.ChangePassword(ctx, account.Person{Name: name, Rights: account.Plan},
				account.NewPassword{Old: password, New: "another-berth-8"})
		},
	} {
		name := fmt.Sprintf("user-%d", i)
		if err := accounts.Add(ctx, account.Account{Name: name, Password: password, Rights: account.Plan}); err != nil {
			t.Fatal(err)
		}
		token, _, err := accounts.SignIn(ctx, fmt.Sprintf("10.0.0.%d", i), account.SignIn{User: name, Password: password})
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
		for lines.Scan() && lines.Text() != "data: {}" {
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
