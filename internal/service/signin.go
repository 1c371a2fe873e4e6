package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
	"golang.org/x/crypto/argon2"
	"golang.org/x/time/rate"

	"redstart/internal/core/problem"
	"redstart/internal/store"
)

const (
	sessionTime = 12 * time.Hour
	linkTime    = 10 * time.Minute
	// Owner is the first user.
	Owner = "owner"
	// LocalUser is who commands on this computer act as.
	LocalUser = "this computer"
	personKey = "person"
)

// cookieName is the name of the session's cookie. Over TLS its prefix keeps other
// origins of the same host from setting it (RFC 6265bis, 4.1.3.2).
func cookieName(c *echo.Context) string {
	if c.IsTLS() {
		return "__Host-redstart"
	}
	return "redstart"
}

// Argon2id costs (RFC 9106, 4, second recommended option, with one lane per core here).
const (
	argonTime    = 3
	argonMemory  = 64 << 10 // KiB
	argonThreads = 4
	argonKey     = 32
)

// hashPassword gives the PHC string of a password under Argon2id.
func hashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonKey)
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads, enc.EncodeToString(salt), enc.EncodeToString(key))
}

func passwordFits(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 {
		return false
	}
	var memory, rounds uint32
	var threads uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &rounds, &threads); err != nil {
		return false
	}
	enc := base64.RawStdEncoding
	salt, err := enc.DecodeString(parts[4])
	key, err2 := enc.DecodeString(parts[5])
	if err != nil || err2 != nil {
		return false
	}
	return subtle.ConstantTimeCompare(key, argon2.IDKey([]byte(password), salt, rounds, memory, threads, uint32(len(key)))) == 1
}

func tokenHash(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// newToken starts a session and gives its token, which is stored hashed only.
func (s *Service) newToken(ctx context.Context, user string, once bool, good time.Duration) (string, error) {
	token := rand.Text()
	err := s.store.AddSession(ctx, store.Session{Hash: tokenHash(token), User: user, Once: once, ExpiresAt: store.Stamp{Time: time.Now().Add(good)}})
	return token, err
}

// FirstStart makes the owner's sign-in if nobody may sign in yet, and gives
// the password, to be shown once; "" when there are users already.
func (s *Service) FirstStart(ctx context.Context) (password string, err error) {
	users, err := s.store.Users(ctx)
	if len(users) > 0 || err != nil {
		return "", err
	}
	password = rand.Text()[:16]
	return password, s.store.AddUser(ctx, store.User{Name: Owner, Hash: hashPassword(password), Rights: string(Own)})
}

// OnceToken makes the token of a link that signs the owner in once.
func (s *Service) OnceToken(ctx context.Context) (string, error) {
	if _, err := s.FirstStart(ctx); err != nil {
		return "", err
	}
	return s.newToken(ctx, Owner, true, linkTime)
}

// LocalToken makes a token for commands on this computer, for as long as the
// service runs.
func (s *Service) LocalToken(ctx context.Context) (string, error) {
	return s.newToken(ctx, LocalUser, false, 365*24*time.Hour)
}

var errSignIn = problem.New(problem.SignIn, "you are not signed in", "sign in first")

// guard lets only requests of people with the right through.
func (s *Service) guard(need Right, next echo.HandlerFunc) echo.HandlerFunc {
	if need == Nobody {
		return next
	}
	return func(c *echo.Context) error {
		who, err := s.whose(c)
		if err != nil {
			return err
		}
		if !who.Rights.Holds(need) {
			return problem.New(problem.Rights, who.Name+" may not "+mayNot[need], "ask an owner for the right")
		}
		c.Set(personKey, who)
		return next(c)
	}
}

// whose finds out who makes a request, by session cookie or bearer token.
func (s *Service) whose(c *echo.Context) (Person, error) {
	ctx := c.Request().Context()
	token, bearer := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
	if cookie, err := c.Cookie(cookieName(c)); !bearer && err == nil {
		token = cookie.Value
	}
	if token == "" {
		return Person{}, errSignIn
	}
	hash := tokenHash(token)
	session, ok, err := s.store.Session(ctx, hash)
	if err != nil {
		return Person{}, err
	}
	name := session.User
	if !ok && bearer {
		var t store.Token
		if t, ok, err = s.store.Token(ctx, hash); err != nil {
			return Person{}, err
		}
		if name = t.User; ok && time.Since(t.UsedAt.Time) > time.Minute {
			if err := s.store.TokenUsed(ctx, t.ID); err != nil {
				return Person{}, err
			}
		}
	}
	if !ok || session.Once {
		return Person{}, errSignIn
	}
	if name == LocalUser {
		return Person{LocalUser, Own}, nil
	}
	u, err := s.store.User(ctx, name)
	if err != nil || u.Name == "" {
		return Person{}, errors.Join(err, errSignIn)
	}
	return Person{u.Name, Right(u.Rights)}, nil
}

func person(c *echo.Context) Person {
	who, _ := c.Get(personKey).(Person)
	return who
}

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

// from gives the address that a request came from. No header can say another.
func from(c *echo.Context) string {
	host, _, err := net.SplitHostPort(c.Request().RemoteAddr)
	if err != nil {
		return c.Request().RemoteAddr
	}
	return host
}

// signIn takes a user name with a password, or the token of a one-time link.
func (s *Service) signIn(c *echo.Context) error {
	var in struct {
		User     string `json:"user"`
		Password string `json:"password"`
		Link     string `json:"link"`
	}
	if err := c.Bind(&in); err != nil {
		return err
	}
	if err := s.signIns.allow("from "+from(c), "user "+in.User+in.Link); err != nil {
		return err
	}
	ctx := c.Request().Context()
	name := in.User
	if in.Link != "" {
		session, ok, err := s.store.Session(ctx, tokenHash(in.Link))
		if err != nil {
			return err
		}
		if !ok || !session.Once {
			return problem.New(problem.SignIn, "this link was used already or is too old", "sign in with your password, or start the demo again")
		}
		if err := s.store.EndSession(ctx, session.Hash); err != nil {
			return err
		}
		name = session.User
	} else {
		u, err := s.store.User(ctx, in.User)
		if err != nil {
			return err
		}
		hash := u.Hash
		// The work is done for unknown users too, so that time tells nothing.
		if fits := passwordFits(hash, in.Password); !fits {
			if hash == "" {
				passwordFits(decoy, in.Password)
			}
			s.log.Warn("sign-in refused", "from", from(c))
			return problem.New(problem.SignIn, "user or password is wrong", "try again; the first start of the service showed the owner's password")
		}
	}
	token, err := s.newToken(ctx, name, false, sessionTime)
	if err != nil {
		return err
	}
	c.SetCookie(&http.Cookie{Name: cookieName(c), Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: c.IsTLS(), MaxAge: int(sessionTime.Seconds())})
	u, err := s.store.User(ctx, name)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, Person{u.Name, Right(u.Rights)})
}

// decoy is the hash of nobody's password.
var decoy = fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", argon2.Version, argonMemory, argonTime, argonThreads)

func (s *Service) signOut(c *echo.Context) error {
	if cookie, err := c.Cookie(cookieName(c)); err == nil {
		if err := s.store.EndSession(c.Request().Context(), tokenHash(cookie.Value)); err != nil {
			return err
		}
	}
	c.SetCookie(&http.Cookie{Name: cookieName(c), Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: c.IsTLS(), MaxAge: -1})
	return c.NoContent(http.StatusNoContent)
}
