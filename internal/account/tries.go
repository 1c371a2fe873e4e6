package account

import (
	"sync"
	"time"

	"golang.org/x/time/rate"

	"redstart/internal/core/problem"
)

// tries limits how often somebody may try to sign in: each address, each user
// and everybody together.
type tries struct {
	all *rate.Limiter
	mu  sync.Mutex
	of  map[string]*rate.Limiter
}

// tryAgain is how long one more try is sure to take to be allowed.
const tryAgain = 2 * time.Second

// maxTried bounds how many addresses and names are remembered.
const maxTried = 4096

func newTries() *tries { return &tries{all: rate.NewLimiter(5, 50), of: map[string]*rate.Limiter{}} }

// allow refuses when any of the names has been tried too often of late.
func (t *tries) allow(names ...string) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	ok := t.all.Allow()
	for _, name := range names {
		if t.of[name] == nil {
			if len(t.of) >= maxTried {
				clear(t.of)
			}
			t.of[name] = rate.NewLimiter(0.5, 10)
		}
		ok = t.of[name].Allow() && ok
	}
	if !ok {
		e := problem.New(problem.TooMany, "too many tries", "wait a few seconds, then try again")
		e.Wait = tryAgain
		return e
	}
	return nil
}

// Allow refuses when what is tried under these names, such as a passphrase, was tried too
// often of late.
func (s *Accounts) Allow(names ...string) error { return s.signIns.allow(names...) }
