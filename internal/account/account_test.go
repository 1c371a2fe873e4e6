package account

import (
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/core/right"
	"redstart/internal/store/storetest"
)

func accounts(t *testing.T) *Accounts {
	t.Helper()
	s := In(storetest.Open(t), slog.New(slog.DiscardHandler))
	s.Cost = Cost{Rounds: 1, Memory: 64, Lanes: 1}
	return s
}

// One address that hammers spends its own tries alone: the right password is taken from
// elsewhere, and what somebody who is signed in does is counted apart.
func TestWhoHammersKeepsNobodyElseOut(t *testing.T) {
	t.Parallel()
	s := accounts(t)
	at := time.Now()
	s.signIns.now = func() time.Time { return at } // checking a password may take as long as it likes
	ctx := t.Context()
	if err := s.Add(ctx, api.Account{Name: "ines", Password: "berth-and-ramp-7", Rights: right.Plan}); err != nil {
		t.Fatal(err)
	}
	refused := 0
	for range 40 {
		_, _, err := s.SignIn(ctx, "10.0.0.66", api.SignIn{User: "ines", Password: "guess"})
		if problem.KindOf(err) == problem.TooMany {
			refused++
			if p := err.(*problem.Error); p.Wait <= 0 || !strings.Contains(err.Error(), "Try again in") {
				t.Fatalf("it does not say when: %v", err)
			}
		}
	}
	if refused != 30 {
		t.Errorf("only %d of 40 guesses were refused", refused)
	}
	if _, _, err := s.SignIn(ctx, "10.0.0.7", api.SignIn{User: "ines", Password: "berth-and-ramp-7"}); err != nil {
		t.Errorf("from elsewhere: %v", err)
	}
	if err := s.Allow("ines", "vault"); err != nil {
		t.Errorf("unlocking the vault: %v", err)
	}
}

// What is remembered of refusals is bounded, whatever the names are, and who was refused
// just now is not forgotten for it.
func TestNamesLeaveLittleBehind(t *testing.T) {
	t.Parallel()
	tries, at := newTries(), time.Now()
	tries.now = func() time.Time { return at }
	for tries.allow("10.0.0.66", "") == nil {
	}
	long := strings.Repeat("x", 1<<20)
	for i := range 3 * maxTried {
		_ = tries.allow(fmt.Sprintf("10.1.%d.%d", i/256, i%256), fmt.Sprint(long[:1000], i)) // only what it leaves counts
		if i%1000 == 0 && tries.allow("10.0.0.66", "") == nil {
			t.Fatalf("after %d other names it is let in again", i)
		}
	}
	if len(tries.of) > maxTried || tries.last.Len() != len(tries.of) {
		t.Errorf("%d names are remembered", len(tries.of))
	}
}

// A link that signs in once does so once, also when it is used many times at once.
func TestALinkSignsInOnce(t *testing.T) {
	t.Parallel()
	s := accounts(t)
	link, err := s.OnceToken(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var in atomic.Int32
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			if _, _, err := s.SignIn(t.Context(), "127.0.0.1", api.SignIn{Link: link}); err == nil {
				in.Add(1)
			}
		})
	}
	if all.Wait(); in.Load() != 1 {
		t.Errorf("it signed in %d times", in.Load())
	}
}

// Few passwords are checked at a time, each of which takes 64 MiB; some wait, the rest is
// told to try again.
func TestFewPasswordsAreCheckedAtATime(t *testing.T) {
	t.Parallel()
	c := newChecking()
	var now, most, done atomic.Int32
	begin, release := make(chan struct{}, 64), make(chan struct{})
	var all sync.WaitGroup
	refused := make(chan struct{}, 50)
	for range 50 {
		all.Go(func() {
			err := c.do(0, func() {
				n := now.Add(1)
				for m := most.Load(); n > m && !most.CompareAndSwap(m, n); m = most.Load() {
				}
				begin <- struct{}{}
				<-release
				now.Add(-1)
				done.Add(1)
			})
			if problem.KindOf(err) == problem.TooMany {
				refused <- struct{}{}
			}
		})
	}
	for range sideBySide {
		<-begin
	}
	for range 50 - sideBySide - mostWaiting {
		<-refused
	}
	close(release)
	all.Wait()
	if most.Load() > sideBySide || done.Load() != sideBySide+mostWaiting {
		t.Errorf("%d at a time, %d in all", most.Load(), done.Load())
	}
}

// Whatever is open for somebody learns of each change of rights, sessions and tokens.
func TestChangesAreTold(t *testing.T) {
	t.Parallel()
	s := accounts(t)
	ctx := t.Context()
	if _, err := s.FirstStart(ctx); err != nil {
		t.Fatal(err)
	}
	if err := s.Add(ctx, api.Account{Name: "ines", Password: "berth-and-ramp-7", Rights: right.Plan}); err != nil {
		t.Fatal(err)
	}
	token, _, err := s.SignIn(ctx, "127.0.0.1", api.SignIn{User: "ines", Password: "berth-and-ramp-7"})
	if err != nil {
		t.Fatal(err)
	}
	for what, change := range map[string]func() error{
		"rights":   func() error { return s.Set(ctx, api.Account{Name: "ines", Rights: right.Look}) },
		"sign-out": func() error { return s.SignOut(ctx, token) },
		"token":    func() error { return s.RevokeToken(ctx, api.Person{Name: Owner, Rights: right.Own}, 1) },
	} {
		told := s.Changed()
		_ = change() // there may be no such token
		select {
		case <-told:
		default:
			t.Errorf("nobody is told of changed %s", what)
		}
	}
}
