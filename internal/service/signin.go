package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"golang.org/x/crypto/argon2"

	"redstart/internal/core/problem"
	"redstart/internal/store"
)

const (
	cookieName  = "redstart"
	sessionTime = 12 * time.Hour
	linkTime    = 10 * time.Minute
	// Owner is the first user.
	Owner = "owner"
	// LocalUser is who commands on this computer act as.
	LocalUser = "this computer"
	userKey   = "user"
)

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
	has, err := s.store.HasUsers(ctx)
	if has || err != nil {
		return "", err
	}
	password = rand.Text()[:16]
	return password, s.store.SetUser(ctx, Owner, hashPassword(password))
}

// OnceToken makes the token of a link that signs the owner in once.
func (s *Service) OnceToken(ctx context.Context) (string, error) {
	return s.newToken(ctx, Owner, true, linkTime)
}

// LocalToken makes a token for commands on this computer, for as long as the
// service runs.
func (s *Service) LocalToken(ctx context.Context) (string, error) {
	return s.newToken(ctx, LocalUser, false, 365*24*time.Hour)
}

var errSignIn = problem.New(problem.SignIn, "you are not signed in", "sign in first")

// guard lets only signed-in requests through.
func (s *Service) guard(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		token, bearer := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
		if cookie, err := c.Cookie(cookieName); !bearer && err == nil {
			token = cookie.Value
		}
		if token == "" {
			return errSignIn
		}
		session, ok, err := s.store.Session(c.Request().Context(), tokenHash(token))
		if err != nil {
			return err
		}
		if !ok || session.Once {
			return errSignIn
		}
		c.Set(userKey, session.User)
		return next(c)
	}
}

func user(c *echo.Context) string {
	name, _ := c.Get(userKey).(string)
	return name
}

// signIn takes a user name with a password, or the token of a one-time link.
func (s *Service) signIn(c *echo.Context) error {
	if !s.signIns.Allow() {
		return echo.NewHTTPError(http.StatusTooManyRequests, "too many tries to sign in; wait a few seconds")
	}
	var in struct {
		User     string `json:"user"`
		Password string `json:"password"`
		Link     string `json:"link"`
	}
	if err := c.Bind(&in); err != nil {
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
		hash, err := s.store.UserHash(ctx, in.User)
		if err != nil {
			return err
		}
		// The work is done for unknown users too, so that time tells nothing.
		if fits := passwordFits(hash, in.Password); !fits {
			if hash == "" {
				passwordFits(decoy, in.Password)
			}
			s.log.Warn("sign-in refused", "from", c.RealIP())
			return problem.New(problem.SignIn, "user or password is wrong", "try again; the first start of the service showed the owner's password")
		}
	}
	token, err := s.newToken(ctx, name, false, sessionTime)
	if err != nil {
		return err
	}
	c.SetCookie(&http.Cookie{Name: cookieName, Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: c.IsTLS(), MaxAge: int(sessionTime.Seconds())})
	return c.JSON(http.StatusOK, map[string]string{"user": name})
}

// decoy is the hash of nobody's password.
var decoy = fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", argon2.Version, argonMemory, argonTime, argonThreads)

func (s *Service) signOut(c *echo.Context) error {
	if cookie, err := c.Cookie(cookieName); err == nil {
		if err := s.store.EndSession(c.Request().Context(), tokenHash(cookie.Value)); err != nil {
			return err
		}
	}
	c.SetCookie(&http.Cookie{Name: cookieName, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: -1})
	return c.NoContent(http.StatusNoContent)
}
