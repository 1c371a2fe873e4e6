package server

import (
	"context"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"redstart/internal/account"
	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/core/right"
	"redstart/internal/pages"
)

const personKey = "person"

// cookieName is the name of the session's cookie. Over TLS its prefix keeps other
// origins of the same host from setting it (RFC 6265bis, 4.1.3.2).
func cookieName(c *echo.Context) string {
	if c.IsTLS() {
		return "__Host-redstart"
	}
	return "redstart"
}

// guard lets only requests of people with the right through, and of programs that act for them
// where those may.
func (s *Server) guard(need right.Right, byPerson bool, next echo.HandlerFunc) echo.HandlerFunc {
	if need == right.Nobody {
		return next
	}
	return func(c *echo.Context) error {
		who, err := s.whose(c)
		if err != nil {
			return err
		}
		if !who.Rights.Holds(need) && who.Token != "" {
			return problem.New(problem.Rights, "the token "+who.Token+" may not "+right.MayNot[need],
				"make one that has the right: redstart user token add NAME --right "+string(need))
		}
		if !who.Rights.Holds(need) {
			return problem.New(problem.Rights, who.Name+" may not "+right.MayNot[need], "ask an owner for the right")
		}
		if byPerson && who.Token != "" {
			return account.ErrProgram
		}
		c.Set(personKey, who)
		return next(c)
	}
}

// tokenOf gives what a request shows: a bearer token, or the session's cookie.
func tokenOf(c *echo.Context) (token string, bearer bool) {
	token, bearer = strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
	if cookie, err := c.Cookie(cookieName(c)); !bearer && err == nil {
		token = cookie.Value
	}
	return token, bearer
}

// whose finds out who makes a request, by session cookie or bearer token. A cookie that
// comes twice was set by somebody else as well (RFC 6265, 8.6): both sessions end.
func (s *Server) whose(c *echo.Context) (api.Person, error) {
	token, bearer := tokenOf(c)
	if doubled := c.Request().CookiesNamed(cookieName(c)); !bearer && len(doubled) > 1 {
		for _, cookie := range doubled {
			if err := s.Accounts.SignOut(c.Request().Context(), cookie.Value); err != nil {
				return api.Person{}, err
			}
		}
		return api.Person{}, problem.New(problem.SignIn, "the session's cookie came twice: something else on this "+
			"host set one too, and the session was ended", "remove the cookies of this address, then sign in")
	}
	return s.Accounts.Whose(c.Request().Context(), token, bearer)
}

// guest is whoever makes a request, for what stays open after it: as long as the session or
// token holds and its rights are the same.
func (s *Server) guest(c *echo.Context) pages.Guest {
	token, bearer := tokenOf(c)
	was := person(c)
	return pages.Guest{
		Until: was.Until,
		May: func(ctx context.Context) bool {
			now, err := s.Accounts.Whose(ctx, token, bearer)
			return err == nil && now == was
		},
		Changed: s.Accounts.Changed,
	}
}

func person(c *echo.Context) api.Person {
	who, _ := c.Get(personKey).(api.Person)
	return who
}

// from gives the address that a request came from. No header can say another.
func from(c *echo.Context) string {
	host, _, err := net.SplitHostPort(c.Request().RemoteAddr)
	if err != nil {
		return c.Request().RemoteAddr
	}
	return host
}

// mostSignIn is the longest body of a sign-in, in bytes.
const (
	mostSignIn = 4096
	signInTime = 10 * time.Second // for it to arrive
)

// signIn takes a user name with a password, or the token of a one-time link.
func (s *Server) signIn(c *echo.Context) error {
	var in api.SignIn
	// Nobody is signed in yet: nothing long is read.
	c.Request().Body = http.MaxBytesReader(c.Response(), c.Request().Body, mostSignIn)
	if err := http.NewResponseController(c.Response()).SetReadDeadline(time.Now().Add(signInTime)); err != nil {
		return err
	}
	if err := c.Bind(&in); err != nil {
		return err
	}
	token, who, err := s.Accounts.SignIn(c.Request().Context(), from(c), in)
	if err != nil {
		return err
	}
	c.SetCookie(&http.Cookie{Name: cookieName(c), Value: token, Path: "/", HttpOnly: true,
		SameSite: http.SameSiteStrictMode, Secure: c.IsTLS(), MaxAge: int(account.SessionTime.Seconds())})
	return c.JSON(http.StatusOK, who)
}

func (s *Server) signOut(c *echo.Context) error {
	if cookie, err := c.Cookie(cookieName(c)); err == nil {
		if err := s.Accounts.SignOut(c.Request().Context(), cookie.Value); err != nil {
			return err
		}
	}
	c.SetCookie(&http.Cookie{Name: cookieName(c), Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: c.IsTLS(), MaxAge: -1})
	return c.NoContent(http.StatusNoContent)
}
