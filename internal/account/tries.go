package account

import (
	"container/list"
	"crypto/sha256"
	"math"
	"runtime"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"redstart/internal/core/problem"
)

// How often somebody may try: so many at once, then one each so often. A user may be tried
// from many addresses more often than from one, so that who hammers from one address keeps
// nobody else out.
const (
	triesAtOnce = 10
	oneEach     = 2 * time.Second
	userAtOnce  = 50
	userEach    = 500 * time.Millisecond
)

// maxTried bounds how many addresses and names are remembered; the ones that were not tried
// for the longest time go first.
const maxTried = 4096

// tries limits how often somebody may try a password: each address by itself first, then each
// user. Names are kept as hashes: they are as long as whoever tries likes.
type tries struct {
	mu   sync.Mutex
	of   map[[sha256.Size]byte]*list.Element
	last *list.List // of *tried, the latest first
	now  func() time.Time
}

type tried struct {
	key     [sha256.Size]byte
	limiter *rate.Limiter
}

func newTries() *tries {
	return &tries{of: map[[sha256.Size]byte]*list.Element{}, last: list.New(), now: time.Now}
}

// allow refuses when one address, or one user from all addresses, was tried too often of
// late, and says for how long. What its address refuses counts for nobody else.
func (t *tries) allow(from, user string) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if wait := t.take("from "+from, triesAtOnce, oneEach); wait > 0 {
		return tooMany(wait)
	}
	if user == "" {
		return nil
	}
	if wait := t.take("user "+user, userAtOnce, userEach); wait > 0 {
		return tooMany(wait)
	}
	return nil
}

// take spends one try of a name, or says how long it takes until there is one.
func (t *tries) take(name string, burst int, each time.Duration) (wait time.Duration) {
	key := sha256.Sum256([]byte(name))
	at := t.of[key]
	if at == nil {
		if t.last.Len() >= maxTried {
			oldest := t.last.Back()
			delete(t.of, oldest.Value.(*tried).key)
			t.last.Remove(oldest)
		}
		at = t.last.PushFront(&tried{key, rate.NewLimiter(rate.Every(each), burst)})
		t.of[key] = at
	}
	t.last.MoveToFront(at)
	limiter := at.Value.(*tried).limiter
	now := t.now()
	if limiter.AllowN(now, 1) {
		return 0
	}
	return time.Duration((1 - limiter.TokensAt(now)) * float64(each))
}

func tooMany(wait time.Duration) error {
	seconds := time.Duration(math.Ceil(max(wait, time.Second).Seconds())) * time.Second
	e := problem.New(problem.TooMany, "too many tries", "try again in "+seconds.String())
	e.Wait = seconds
	return e
}

// Allow refuses when somebody who is signed in tried something, such as a passphrase, too
// often of late; nobody else is counted with.
func (s *Accounts) Allow(who, what string) error { return s.signIns.allow(what+" by "+who, "") }

// sideBySide and mostWaiting bound the work of checking passwords, each of which takes 64 MiB:
// so many at a time, and so many wait.
const (
	sideBySide  = 2
	mostWaiting = 16
	muchLeft    = 16 << 10 // KiB
)

// checking is the queue before that work.
type checking struct {
	places  chan struct{}
	waiting chan struct{}
}

func newChecking() checking {
	return checking{make(chan struct{}, sideBySide), make(chan struct{}, sideBySide+mostWaiting)}
}

// do does the work in turn, which leaves so many KiB of memory behind, or refuses when too
// many wait already.
func (c checking) do(leaves uint32, work func()) error {
	select {
	case c.waiting <- struct{}{}:
	default:
		return tooMany(oneEach)
	}
	defer func() { <-c.waiting }()
	c.places <- struct{}{}
	defer func() { <-c.places }()
	work()
	if leaves >= muchLeft {
		runtime.GC() // the process lets garbage gather
	}
	return nil
}
