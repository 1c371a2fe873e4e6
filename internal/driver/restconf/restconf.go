// Package restconf is the RESTCONF driver (RFC 8040): resources described in YANG, as JSON
// (RFC 7951), of which nobody's change is overwritten.
package restconf

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/driver/overhttp"
)

// yangJSON is the media type of data (RFC 8040, 11.3.2).
const yangJSON = "application/yang-data+json"

// session is one conversation with one server.
type session struct {
	*overhttp.Link
	root string // of the API, once it is known
	// tags are the entity tags (RFC 8040, 3.5.2) of what was read, by resource. Our own write
	// may change the tag of any of them, so it makes all unknown.
	tags map[string]string
}

// Open implements driver.Driver.
func (Driver) Open(peer driver.Peer) driver.Session {
	section, _ := peer.Section.(Section)
	return &session{Link: overhttp.Open(peer, section.place(), "RESTCONF server"), root: section.Root,
		tags: map[string]string{}}
}

// Do implements driver.Session.
func (s *session) Do(ctx context.Context, words profile.Words, vars map[string]string) (map[string]string, error) {
	m, ok := words.(*Move)
	if !ok {
		return nil, fmt.Errorf("%w: this is no RESTCONF request", driver.ErrNotSent)
	}
	method, resource, _ := strings.Cut(m.Request, " ")
	resource, err := profile.Fill(resource, vars, keyValue)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	body, err := m.body(vars)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	if err := s.discover(ctx); err != nil {
		return nil, err
	}
	a, err := s.guarded(ctx, method, resource, body)
	if err != nil {
		return nil, err
	}
	facts := map[string]string{}
	for _, key := range m.Takes() {
		// What is not set is not in the answer (RFC 8040, 3.5.1).
		if facts[key], err = driver.Pointer(a.Body, m.Take[key]); err != nil && !errors.Is(err, driver.ErrNothing) {
			return nil, fmt.Errorf("its answer has no %s: %w", key, err)
		}
	}
	return facts, nil
}

// keyValue writes a value into a path (RFC 8040, 3.5.3: all reserved characters are escaped).
func keyValue(v string) string { return strings.ReplaceAll(url.QueryEscape(v), "+", "%20") }

func (m *Move) body(vars map[string]string) ([]byte, error) {
	if m.Body == nil {
		return nil, nil
	}
	filled, err := driver.FillJSON(m.Body, vars)
	if err != nil {
		return nil, err
	}
	return json.Marshal(filled)
}

// discover finds the root of the API (RFC 8040, 3.1; RFC 6415, 2).
func (s *session) discover(ctx context.Context) error {
	if s.root != "" {
		return nil
	}
	a, err := s.call(ctx, http.MethodGet, "/.well-known/host-meta", nil, map[string]string{"Accept": "application/xrd+xml"})
	switch {
	case err != nil:
		return err
	case a.Status == http.StatusUnauthorized:
		return driver.ErrLogin
	}
	var meta struct {
		Links []struct {
			Rel  string `xml:"rel,attr"`
			Href string `xml:"href,attr"`
		} `xml:"Link"`
	}
	if a.Status == http.StatusOK && xml.Unmarshal(a.Body, &meta) == nil {
		for _, l := range meta.Links {
			if l.Rel == "restconf" && strings.HasPrefix(l.Href, "/") && !strings.HasPrefix(l.Href, "//") {
				s.root = strings.TrimSuffix(l.Href, "/")
				return nil
			}
		}
	}
	return driver.Refusal{Text: "it does not say where its RESTCONF begins (RFC 8040, 3.1); say it under talk, restconf, root"}
}

// guarded makes a request so that it overwrites nobody's change: a resource that is changed
// must be as it was when it was read last, or as it is just before (RFC 8040, 3.4.1).
func (s *session) guarded(ctx context.Context, method, resource string, body []byte) (overhttp.Answer, error) {
	path := s.root + "/" + resource
	name, _, _ := strings.Cut(path, "?")
	header := map[string]string{"Accept": yangJSON}
	if body != nil {
		header["Content-Type"] = yangJSON
	}
	changes := method == http.MethodPut || method == http.MethodPatch || method == http.MethodDelete
	if changes {
		if s.tags[name] == "" {
			a, err := s.call(ctx, http.MethodHead, name, nil, map[string]string{"Accept": yangJSON})
			switch {
			case err != nil:
				return a, err
			case a.Status == http.StatusUnauthorized:
				return a, driver.ErrLogin
			}
			s.tags[name] = a.Header.Get("ETag")
		}
		if tag := s.tags[name]; tag != "" {
			header["If-Match"] = tag
		}
	}
	a, err := s.call(ctx, method, path, body, header)
	if method != http.MethodGet {
		clear(s.tags)
	}
	if err != nil {
		return a, err
	}
	if tag := a.Header.Get("ETag"); tag != "" && a.Status/100 == 2 {
		s.tags[name] = tag
	}
	return a, judged(a)
}

func (s *session) call(ctx context.Context, method, path string, body []byte, header map[string]string) (overhttp.Answer,
	error) {
	request, err := http.NewRequestWithContext(ctx, method, s.Base+path, bytes.NewReader(body))
	if err != nil {
		return overhttp.Answer{}, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	for name, value := range header {
		request.Header.Set(name, value)
	}
	a, err := s.Exchange(request, false)
	s.Tell(method+" "+path, body, a, err)
	return a, err
}

// inWords are the error tags (RFC 8040, 7; RFC 6241, appendix A) in plain words.
var inWords = map[string]string{
	"in-use":                  "somebody else uses it just now",
	"lock-denied":             "somebody else has locked its settings",
	"resource-denied":         "it has no room for this",
	"invalid-value":           "it does not take this value",
	"too-big":                 "that is too much for it",
	"missing-attribute":       "something is missing in what it was told",
	"missing-element":         "something is missing in what it was told",
	"bad-attribute":           "it does not take this value",
	"bad-element":             "it does not take this value",
	"unknown-attribute":       "it does not know one of these settings",
	"unknown-element":         "it does not know one of these settings",
	"unknown-namespace":       "it does not know one of these settings",
	"access-denied":           "this login may not do that",
	"data-exists":             "that is there already",
	"data-missing":            "what was to be changed is not there",
	"operation-not-supported": "it cannot do that",
	"operation-failed":        "it could not do that",
	"partial-operation":       "it did a part of it only",
	"malformed-message":       "it did not understand the request",
}

// judged says what an answer means.
func judged(a overhttp.Answer) error {
	switch {
	case a.Status/100 == 2:
		return nil
	case a.Status == http.StatusUnauthorized:
		return driver.ErrLogin
	case a.Status == http.StatusPreconditionFailed:
		return driver.Refusal{Text: "somebody else changed its settings in between; nothing was written: commission it again"}
	}
	var told struct {
		Errors struct {
			Error []struct {
				Tag     string `json:"error-tag"`
				Path    string `json:"error-path"`
				Message string `json:"error-message"`
			} `json:"error"`
		} `json:"ietf-restconf:errors"`
	}
	if json.Unmarshal(a.Body, &told) != nil || len(told.Errors.Error) == 0 {
		return driver.Refusal{Text: "it answered " + a.Line()}
	}
	first := told.Errors.Error[0]
	r := driver.Refusal{Text: inWords[first.Tag], Said: first.Message}
	if r.Text == "" {
		r = driver.Refusal{Text: "it refused", Said: first.Tag}
	}
	if first.Path != "" {
		r.Said = strings.TrimSpace(r.Said + " (" + first.Path + ")")
	}
	return r
}
