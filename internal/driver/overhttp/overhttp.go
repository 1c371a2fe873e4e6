// Package overhttp is what drivers that talk over HTTP (RFC 9110) have in common: requests
// to one device, whose certificate is told, with answers that are bounded and errors that
// are the neutral ones.
package overhttp

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/icholy/digest"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
)

const (
	maxBody      = 1 << 20 // bytes of an answer that are read
	maxRedirects = 5
)

// answerTime is how long a device may take for one answer.
const answerTime = 15 * time.Second

// Place says where the server of a device is, and how it asks for a login by itself.
type Place struct {
	Scheme string // http or https
	Port   uint16 // 0: the scheme's usual one
	Auth   string // "", basic or digest (RFC 7617, RFC 7616)
}

// Check says what is wrong with a place; a scheme that is missing is not.
func (p Place) Check() error {
	switch {
	case !slices.Contains([]string{"", "http", "https"}, p.Scheme):
		return fmt.Errorf("scheme must be http or https, not %q", p.Scheme)
	case !slices.Contains([]string{"", "basic", "digest"}, p.Auth):
		return fmt.Errorf("auth must be basic or digest, or left out, not %q", p.Auth)
	}
	return nil
}

// At is the port; 0 when nothing is said of it.
func (p Place) At() uint16 {
	switch {
	case p.Port != 0:
		return p.Port
	case p.Scheme == "https":
		return 443
	case p.Scheme == "http":
		return 80
	}
	return 0
}

// Link is our end of the HTTP conversations with one device.
type Link struct {
	Base string // scheme, address and, where it is not the usual one, port

	peer      driver.Peer
	place     Place
	what      string
	http      *http.Client
	transport *http.Transport
}

// Open begins one; nothing is sent before the first request. The device's certificate is
// accepted whatever it is, and told: identity comes from the pinned MAC. What names the
// device's end in errors: its web server.
func Open(peer driver.Peer, place Place, what string) *Link {
	l := &Link{Base: place.Scheme + "://" + peer.Address.String(), peer: peer, place: place, what: what}
	if place.Port != 0 {
		l.Base = fmt.Sprintf("%s:%d", l.Base, place.Port)
	}
	l.transport = &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return peer.Dial(ctx, place.At())
		},
		MaxResponseHeaderBytes: 64 << 10,
		TLSClientConfig: &tls.Config{
			InsecureSkipVerify: true,
			MinVersion:         tls.VersionTLS10, // old firmware speaks nothing newer
			VerifyConnection: func(state tls.ConnectionState) error {
				sum := sha256.Sum256(state.PeerCertificates[0].Raw)
				return peer.Trust(hex.EncodeToString(sum[:]))
			},
		},
	}
	var via http.RoundTripper = l.transport
	switch login := peer.Login; {
	case place.Auth == "digest" && login.User != "":
		via = renewing{&digest.Transport{Username: login.User, Password: login.Password, Transport: l.transport}}
	case place.Auth == "basic" && login.User != "":
		via = basic{login, l.transport}
	}
	jar, _ := cookiejar.New(nil) // never fails without options
	l.http = &http.Client{Transport: via, Jar: jar}
	return l
}

type basic struct {
	login profile.Login
	next  http.RoundTripper
}

func (b basic) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.SetBasicAuth(b.login.User, b.login.Password)
	return b.next.RoundTrip(r)
}

// renewing asks once more where a box says that its challenge is not the latest (RFC 7616, 3.3,
// stale): one that restarted between the challenge and the answer has not refused the login.
type renewing struct{ next *digest.Transport }

func (n renewing) RoundTrip(r *http.Request) (*http.Response, error) {
	response, err := n.next.RoundTrip(r)
	if err != nil || response.StatusCode != http.StatusUnauthorized || r.Body != nil && r.GetBody == nil {
		return response, err
	}
	if challenge, err := digest.FindChallenge(response.Header); err != nil || !challenge.Stale {
		return response, nil
	}
	again := r.Clone(r.Context())
	if r.GetBody != nil {
		if again.Body, err = r.GetBody(); err != nil {
			return response, nil
		}
	}
	_, _ = io.CopyN(io.Discard, response.Body, maxBody)
	_ = response.Body.Close()
	return n.next.RoundTrip(again)
}

// Close ends its connections.
func (l *Link) Close() { l.transport.CloseIdleConnections() }

// Ready looks once whether the server is there.
func (l *Link) Ready(ctx context.Context) error {
	c, err := l.peer.Dial(ctx, l.place.At())
	if err != nil {
		return err
	}
	return c.Close()
}

// Answer is what came back.
type Answer struct {
	Status  int
	Header  http.Header
	Cookies []*http.Cookie
	Body    []byte
}

// Line is its status as people read it.
func (a Answer) Line() string {
	return strings.TrimSpace(fmt.Sprintf("%d %s", a.Status, http.StatusText(a.Status)))
}

// Exchange sends a request and reads the answer, whatever its status, for as long as a slow
// device may take. A redirect is
// followed only where that is asked for, and only to the same device.
func (l *Link) Exchange(request *http.Request, follow bool) (Answer, error) {
	began := time.Now()
	limit := answerTime
	if l.place.Auth == "digest" {
		limit *= 2 // it is asked twice
	}
	ctx, cancel := context.WithTimeout(request.Context(), limit)
	defer cancel()
	request = request.WithContext(ctx)
	client := *l.http
	client.CheckRedirect = func(next *http.Request, past []*http.Request) error {
		switch {
		case !follow:
			return http.ErrUseLastResponse
		case len(past) > maxRedirects:
			return fmt.Errorf("it redirects more than %d times", maxRedirects)
		case next.URL.Scheme+"://"+next.URL.Host != l.Base:
			return fmt.Errorf("it redirects to another place")
		}
		return nil
	}
	response, err := client.Do(request)
	if err != nil {
		var outer *url.Error
		if errors.As(err, &outer) {
			err = outer.Err // the URL may hold a secret
		}
		switch {
		case errors.Is(err, driver.ErrStranger):
			return Answer{}, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
		case errors.Is(err, context.DeadlineExceeded) && time.Since(began) < time.Second:
			return Answer{}, fmt.Errorf("%w from its %s in the time that was left", driver.ErrNoAnswer, l.what)
		case errors.Is(err, context.DeadlineExceeded):
			return Answer{}, fmt.Errorf("%w from its %s within %.0f s", driver.ErrNoAnswer, l.what,
				time.Since(began).Seconds())
		}
		return Answer{}, fmt.Errorf("%w from its %s: %w", driver.ErrNoAnswer, l.what, err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, maxBody+1))
	if err == nil && len(body) > maxBody {
		err = fmt.Errorf("it is longer than %d KiB", maxBody>>10)
	}
	if err != nil {
		return Answer{}, fmt.Errorf("%w from its %s: it did not come whole: %w", driver.ErrNoAnswer, l.what, err)
	}
	return Answer{response.StatusCode, response.Header, response.Cookies(), body}, nil
}

// Tell shows a request with its body and what came of it to who looks on.
func (l *Link) Tell(heading string, body []byte, a Answer, err error) {
	if l.peer.Trace == nil {
		return
	}
	sent := strings.TrimSpace(heading + "\n" + shown(body))
	if err != nil {
		l.peer.Trace(sent, err.Error())
		return
	}
	l.peer.Trace(sent, strings.TrimSpace(a.Line()+"\n"+shown(a.Body)))
}

// mostShown bounds what is shown of a body, in bytes.
const mostShown = 2000

// shown is what can be read of a body.
func shown(body []byte) string {
	text := strings.ToValidUTF8(string(body[:min(len(body), mostShown)]), "?")
	if len(body) > mostShown {
		text += " …"
	}
	return text
}
