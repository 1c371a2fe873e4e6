// Package web carries out a profile's web moves: an HTTP request and what to
// expect of the answer.
package web

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/icholy/digest"

	"redstart/internal/core/profile"
)

// ErrLogin says that the device refused the login, or asked for one.
var ErrLogin = errors.New("the login was refused")

// ErrNoAnswer says that a request went out and no whole answer came back: the
// device may or may not have done what was asked.
var ErrNoAnswer = errors.New("no answer from its web server")

const (
	maxBody  = 1 << 20 // bytes of an answer that are read
	moveTime = 15 * time.Second
)

// Client is one browser-like session with one device.
type Client struct {
	base      string
	http      *http.Client
	transport *http.Transport
	cert      string
}

// New makes a session. dial must reach the device. Its certificate is
// accepted whatever it is, and remembered: identity comes from the pinned MAC.
func New(w profile.Web, at netip.Addr, login profile.Login, dial func(context.Context) (net.Conn, error)) *Client {
	c := &Client{base: w.Scheme + "://" + at.String()}
	if w.Port != 0 {
		c.base = fmt.Sprintf("%s:%d", c.base, w.Port)
	}
	c.transport = &http.Transport{
		DialContext:            func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) },
		MaxResponseHeaderBytes: 64 << 10,
		TLSClientConfig: &tls.Config{
			InsecureSkipVerify: true,
			MinVersion:         tls.VersionTLS10, // old firmware speaks nothing newer
			VerifyConnection: func(s tls.ConnectionState) error {
				sum := sha256.Sum256(s.PeerCertificates[0].Raw)
				c.cert = hex.EncodeToString(sum[:])
				return nil
			},
		},
	}
	var via http.RoundTripper = c.transport
	switch {
	case w.Auth == "digest" && login.User != "":
		via = &digest.Transport{Username: login.User, Password: login.Password, Transport: c.transport}
	case w.Auth == "basic" && login.User != "":
		via = basic{login, c.transport}
	}
	jar, _ := cookiejar.New(nil) // never fails without options
	c.http = &http.Client{
		Transport:     via,
		Jar:           jar,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	return c
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

// Close ends the session's connections.
func (c *Client) Close() { c.transport.CloseIdleConnections() }

// Certificate gives the SHA-256 of the certificate that the device showed.
func (c *Client) Certificate() string { return c.cert }

// Do carries out one move: it fills in the variables, sends the request,
// judges the answer and takes facts out of it.
func (c *Client) Do(ctx context.Context, m profile.Move, vars map[string]string) (map[string]string, error) {
	ctx, cancel := context.WithTimeout(ctx, moveTime)
	defer cancel()
	began := time.Now()
	request, err := c.request(ctx, m, vars)
	if err != nil {
		return nil, err
	}
	response, err := c.http.Do(request)
	if err != nil {
		var outer *url.Error
		if errors.As(err, &outer) {
			err = outer.Err // the URL may hold a secret
		}
		if errors.Is(err, context.DeadlineExceeded) {
			return nil, fmt.Errorf("%w within %.0f s", ErrNoAnswer, time.Since(began).Seconds())
		}
		return nil, fmt.Errorf("%w: %w", ErrNoAnswer, err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, maxBody))
	if err != nil {
		return nil, fmt.Errorf("%w: it broke off: %w", ErrNoAnswer, err)
	}
	if slices.Contains(m.Refused, response.StatusCode) {
		return nil, ErrLogin
	}
	if !expected(m, response.StatusCode) {
		text := fmt.Sprintf("it answered %d %s", response.StatusCode, http.StatusText(response.StatusCode))
		if why, err := take(m.Why, response.Header, body); err == nil && why != "" {
			text = "it refused: " + why
		}
		return nil, errors.New(text)
	}
	facts := map[string]string{}
	for key, from := range m.Take {
		value, err := take(from, response.Header, body)
		if err != nil {
			return nil, fmt.Errorf("its answer has no %s: %w", key, err)
		}
		facts[key] = value
	}
	return facts, nil
}

func expected(m profile.Move, status int) bool {
	if len(m.Expect) > 0 {
		return slices.Contains(m.Expect, status)
	}
	return status >= 200 && status < 300
}

func (c *Client) request(ctx context.Context, m profile.Move, vars map[string]string) (*http.Request, error) {
	method, path, _ := strings.Cut(m.Request, " ")
	path, err := fill(path, vars, url.PathEscape)
	if err != nil {
		return nil, err
	}
	var body io.Reader
	contentType := ""
	plain := func(s string) string { return s }
	switch {
	case m.Form != nil:
		form := url.Values{}
		for key, value := range m.Form {
			if value, err = fill(value, vars, plain); err != nil {
				return nil, err
			}
			form.Set(key, value)
		}
		body, contentType = strings.NewReader(form.Encode()), "application/x-www-form-urlencoded"
	case m.JSON != nil:
		filled, err := fillAll(m.JSON, vars)
		if err != nil {
			return nil, err
		}
		doc, err := json.Marshal(filled)
		if err != nil {
			return nil, err
		}
		body, contentType = bytes.NewReader(doc), "application/json"
	}
	request, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, err
	}
	if contentType != "" {
		request.Header.Set("Content-Type", contentType)
	}
	return request, nil
}

var variable = regexp.MustCompile(`\{[a-z][a-z0-9.-]*\}`)

// fill replaces {name} by its value. A variable without a value is an error:
// a device must never be given a literal "{password}".
func fill(s string, vars map[string]string, escape func(string) string) (string, error) {
	var missing string
	s = variable.ReplaceAllStringFunc(s, func(v string) string {
		value, ok := vars[v[1:len(v)-1]]
		if !ok {
			missing = v
		}
		return escape(value)
	})
	if missing != "" {
		return "", fmt.Errorf("the profile uses %s, which has no value here", missing)
	}
	return s, nil
}

func fillAll(v any, vars map[string]string) (any, error) {
	switch v := v.(type) {
	case string:
		return fill(v, vars, func(s string) string { return s })
	case map[string]any:
		out := map[string]any{}
		for key, value := range v {
			filled, err := fillAll(value, vars)
			if err != nil {
				return nil, err
			}
			out[key] = filled
		}
		return out, nil
	case []any:
		out := make([]any, len(v))
		for i, value := range v {
			filled, err := fillAll(value, vars)
			if err != nil {
				return nil, err
			}
			out[i] = filled
		}
		return out, nil
	}
	return v, nil
}
