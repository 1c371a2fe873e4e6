// Package web is the web driver: HTTP requests and what to expect of the answers.
package web

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime/multipart"
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
	moveTime     = 15 * time.Second
)

// session is one browser-like session with one device.
type session struct {
	peer      driver.Peer
	section   Section
	base      string
	http      *http.Client
	transport *http.Transport
}

// Open implements driver.Driver. The device's certificate is accepted whatever it is,
// and told: identity comes from the pinned MAC.
func (Driver) Open(peer driver.Peer) driver.Session {
	section, _ := peer.Section.(Section)
	s := &session{peer: peer, section: section, base: section.Over + "://" + peer.Address.String()}
	if section.At != 0 {
		s.base = fmt.Sprintf("%s:%d", s.base, section.At)
	}
	s.transport = &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return peer.Dial(ctx, section.Port())
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
	var via http.RoundTripper = s.transport
	switch login := peer.Login; {
	case section.Auth == "digest" && login.User != "":
		via = &digest.Transport{Username: login.User, Password: login.Password, Transport: s.transport}
	case section.Auth == "basic" && login.User != "":
		via = basic{login, s.transport}
	}
	jar, _ := cookiejar.New(nil) // never fails without options
	s.http = &http.Client{Transport: via, Jar: jar}
	return s
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

// Close implements driver.Session.
func (s *session) Close() { s.transport.CloseIdleConnections() }

// Ready implements driver.Session.
func (s *session) Ready(ctx context.Context) error {
	c, err := s.peer.Dial(ctx, s.section.Port())
	if err != nil {
		return err
	}
	return c.Close()
}

// redirects says whether one is followed: only where the move asks for it, and only
// to the same device.
func (s *session) redirects(m *Move) func(*http.Request, []*http.Request) error {
	return func(next *http.Request, past []*http.Request) error {
		switch {
		case !m.Follow:
			return http.ErrUseLastResponse
		case len(past) > maxRedirects:
			return fmt.Errorf("it redirects more than %d times", maxRedirects)
		case next.URL.Scheme+"://"+next.URL.Host != s.base:
			return fmt.Errorf("it redirects to another place")
		}
		return nil
	}
}

// Do implements driver.Session: it fills in the variables, sends the request, judges
// the answer and takes facts out of it.
func (s *session) Do(ctx context.Context, words profile.Words, vars map[string]string) (map[string]string, error) {
	m, ok := words.(*Move)
	if !ok {
		return nil, fmt.Errorf("%w: this is no web request", driver.ErrNotSent)
	}
	ctx, cancel := context.WithTimeout(ctx, moveTime)
	defer cancel()
	request, err := s.request(ctx, m, vars)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	a, status, err := s.exchange(m, request)
	s.tell(m, request, vars, a, status, err)
	if err != nil {
		return nil, err
	}
	if slices.Contains(m.Refused, status) {
		return nil, driver.ErrLogin
	}
	if !expected(m, status) {
		if why, err := take(m.Why, a); err == nil && why != "" {
			return nil, refusal{"it refused: " + why}
		}
		return nil, refusal{fmt.Sprintf("it answered %d %s", status, http.StatusText(status))}
	}
	facts := map[string]string{}
	for _, key := range m.Takes() {
		if facts[key], err = take(m.Take[key], a); err != nil {
			return nil, fmt.Errorf("its answer has no %s: %w", key, err)
		}
	}
	return facts, nil
}

// mostShown bounds what is shown of a body, in bytes.
const mostShown = 2000

// tell shows a request and its answer to who looks on.
func (s *session) tell(m *Move, request *http.Request, vars map[string]string, a answer, status int, err error) {
	if s.peer.Told == nil {
		return
	}
	body, _, fault := m.body(vars, nil)
	if fault != nil { // a file is not shown
		body = nil
	}
	sent := strings.TrimSpace(request.Method + " " + request.URL.RequestURI() + "\n" + shown(body))
	if err != nil {
		s.peer.Told(sent, err.Error())
		return
	}
	s.peer.Told(sent, strings.TrimSpace(fmt.Sprintf("%d %s\n%s", status, http.StatusText(status), shown(a.body))))
}

// shown is what can be read of a body.
func shown(body []byte) string {
	text := strings.ToValidUTF8(string(body[:min(len(body), mostShown)]), "?")
	if len(body) > mostShown {
		text += " …"
	}
	return text
}

// refusal is an answer that says no.
type refusal struct{ text string }

func (r refusal) Error() string        { return r.text }
func (r refusal) Is(target error) bool { return target == driver.ErrValue }

// exchange sends a request and reads as much of the answer as is taken.
func (s *session) exchange(m *Move, request *http.Request) (answer, int, error) {
	began := time.Now()
	client := *s.http
	client.CheckRedirect = s.redirects(m)
	response, err := client.Do(request)
	if err != nil {
		var outer *url.Error
		if errors.As(err, &outer) {
			err = outer.Err // the URL may hold a secret
		}
		switch {
		case errors.Is(err, driver.ErrStranger):
			return answer{}, 0, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
		case errors.Is(err, context.DeadlineExceeded):
			return answer{}, 0, fmt.Errorf("%w from its web server within %.0f s", driver.ErrNoAnswer,
				time.Since(began).Seconds())
		}
		return answer{}, 0, fmt.Errorf("%w from its web server: %w", driver.ErrNoAnswer, err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, maxBody+1))
	if err == nil && len(body) > maxBody {
		err = fmt.Errorf("it is longer than %d KiB", maxBody>>10)
	}
	if err != nil {
		return answer{}, 0, fmt.Errorf("%w from its web server: it did not come whole: %w", driver.ErrNoAnswer, err)
	}
	return answer{response.Header, response.Cookies(), body}, response.StatusCode, nil
}

func expected(m *Move, status int) bool {
	if len(m.Expect) > 0 {
		return slices.Contains(m.Expect, status)
	}
	return status >= 200 && status < 300
}

func (s *session) request(ctx context.Context, m *Move, vars map[string]string) (*http.Request, error) {
	method, path, _ := strings.Cut(m.Request, " ")
	path, err := profile.Fill(path, vars, url.PathEscape)
	if err != nil {
		return nil, err
	}
	body, contentType, err := m.body(vars, s.peer.File)
	if err != nil {
		return nil, err
	}
	request, err := http.NewRequestWithContext(ctx, method, s.base+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if contentType != "" {
		request.Header.Set("Content-Type", contentType)
	}
	for _, name := range slices.Sorted(maps.Keys(m.Headers)) {
		value, err := profile.Fill(m.Headers[name], vars, nil)
		switch {
		case err != nil:
			return nil, err
		case strings.ContainsAny(value, "\r\n\x00"):
			return nil, fmt.Errorf("the header %s would have a line break in it", name)
		case value != "":
			request.Header.Set(name, value)
		}
	}
	return request, nil
}

// body makes the body of the request and says of what type it is.
func (m *Move) body(vars map[string]string, file func(string) (driver.File, error)) (body []byte, contentType string,
	err error) {
	switch {
	case m.Form != nil:
		form := url.Values{}
		for key, text := range m.Form {
			value, err := profile.Fill(text, vars, nil)
			if err != nil {
				return nil, "", err
			}
			form.Set(key, value)
		}
		return []byte(form.Encode()), "application/x-www-form-urlencoded", nil
	case m.JSON != nil:
		filled, err := fillAll(m.JSON, vars)
		if err != nil {
			return nil, "", err
		}
		body, err = json.Marshal(filled)
		return body, "application/json", err
	case m.XML != "":
		text, err := profile.Fill(m.XML, vars, escapeXML)
		return []byte(text), "application/xml", err
	case m.Text != "":
		text, err := profile.Fill(m.Text, vars, nil)
		return []byte(text), "text/plain; charset=utf-8", err
	case m.Parts != nil || m.Files != nil:
		return m.parts(vars, file)
	}
	return nil, "", nil
}

func escapeXML(s string) string {
	var out strings.Builder
	_ = xml.EscapeText(&out, []byte(s)) // a builder takes everything
	return out.String()
}

func (m *Move) parts(vars map[string]string, file func(string) (driver.File, error)) ([]byte, string, error) {
	var out bytes.Buffer
	w := multipart.NewWriter(&out)
	for _, name := range slices.Sorted(maps.Keys(m.Parts)) {
		value, err := profile.Fill(m.Parts[name], vars, nil)
		if err == nil {
			err = w.WriteField(name, value)
		}
		if err != nil {
			return nil, "", err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(m.Files)) {
		if err := upload(w, name, m.Files[name], file); err != nil {
			return nil, "", err
		}
	}
	err := w.Close()
	return out.Bytes(), w.FormDataContentType(), err
}

// maxUpload bounds a file that is sent, in bytes.
const maxUpload = 128 << 20

// upload writes a file of the site as a part.
func upload(w *multipart.Writer, part, key string, file func(string) (driver.File, error)) error {
	if file == nil {
		return fmt.Errorf("there are no files here to send")
	}
	f, err := file(key)
	if err != nil {
		return err
	}
	defer f.Content.Close()
	if f.Size > maxUpload {
		return fmt.Errorf("the file %s is larger than %d MiB", f.Name, maxUpload>>20)
	}
	out, err := w.CreateFormFile(part, f.Name)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, io.LimitReader(f.Content, maxUpload))
	if err == nil && n != f.Size {
		err = fmt.Errorf("the file %s could not be read whole", f.Name)
	}
	return err
}

func fillAll(v any, vars map[string]string) (any, error) {
	switch v := v.(type) {
	case string:
		return profile.Fill(v, vars, nil)
	case map[string]any:
		out := map[string]any{}
		for key, value := range v {
			filled, err := fillAll(value, vars)
			if err != nil {
				return nil, err
			}
			if name, table := strings.CutSuffix(key, "[]"); table {
				key, filled = name, asTable(filled)
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

// asTable gives the rows of a table that a variable holds, for a member of the body that is
// a list of objects; an empty list for nothing.
func asTable(filled any) any {
	text, _ := filled.(string)
	rows, err := profile.ParseRows(text)
	if err != nil || rows == nil {
		return []profile.Row{}
	}
	return rows
}
