// Package web is the web driver: HTTP requests and what to expect of the answers.
package web

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"maps"
	"mime/multipart"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/driver/overhttp"
)

// session is one browser-like session with one device.
type session struct {
	*overhttp.Link
	peer driver.Peer
}

// Open implements driver.Driver.
func (Driver) Open(peer driver.Peer) driver.Session {
	section, _ := peer.Section.(Section)
	return &session{overhttp.Open(peer, section.place(), "web server"), peer}
}

// Do implements driver.Session: it fills in the variables, sends the request, judges
// the answer and takes facts out of it.
func (s *session) Do(ctx context.Context, words profile.Words, vars map[string]string) (map[string]string, error) {
	m, ok := words.(*Move)
	if !ok {
		return nil, fmt.Errorf("%w: this is no web request", driver.ErrNotSent)
	}
	request, err := s.request(ctx, m, vars)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	a, err := s.Exchange(request, m.Follow)
	s.tell(m, request, vars, a, err)
	if err != nil {
		return nil, err
	}
	if slices.Contains(m.Refused, a.Status) {
		return nil, driver.ErrLogin
	}
	if !expected(m, a.Status) {
		if why, err := take(m.Why, a); err == nil && why != "" {
			return nil, driver.Refusal{Text: "it refused", Said: why}
		}
		return nil, driver.Refusal{Text: "it answered " + a.Line()}
	}
	facts := map[string]string{}
	for _, key := range m.Takes() {
		if facts[key], err = take(m.Take[key], a); err != nil {
			return nil, fmt.Errorf("its answer has no %s: %w", key, err)
		}
	}
	return facts, nil
}

// tell shows a request and its answer to who looks on.
func (s *session) tell(m *Move, request *http.Request, vars map[string]string, a overhttp.Answer, err error) {
	body, _, fault := m.body(vars, nil)
	if fault != nil { // a file is not shown
		body = nil
	}
	s.Tell(request.Method+" "+request.URL.RequestURI(), body, a, err)
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
	request, err := http.NewRequestWithContext(ctx, method, s.Base+path, bytes.NewReader(body))
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
		filled, err := driver.FillJSON(m.JSON, vars)
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
