// Package client is the Go client of the service's API.
package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"redstart/internal/api"
	"redstart/internal/core/problem"
)

// Handle is how commands on this computer reach a running service. The service
// keeps it in its data folder, readable by its owner only.
type Handle struct {
	URL   string `json:"url"`
	Token string `json:"token"`
	Pin   string `json:"pin,omitempty"` // SHA-256 of the service's TLS certificate; "" without TLS
}

func handlePath(dir string) string { return filepath.Join(dir, "service.json") }

// WriteHandle stores the handle of a running service, in one piece and in place of
// one that a killed service left; remove takes it away.
func WriteHandle(dir string, h Handle) (remove func(), err error) {
	doc, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	next := handlePath(dir) + ".next"
	if err := os.Remove(next); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	err = os.WriteFile(next, doc, 0o600)
	if err == nil {
		err = os.Rename(next, handlePath(dir))
	}
	if err != nil {
		return nil, problem.Disk(err, "the data folder cannot be written", dir)
	}
	return func() { _ = os.Remove(handlePath(dir)) }, nil
}

// Client talks to one service, about one site.
type Client struct {
	handle Handle
	http   *http.Client
	site   string // "" until At
}

// At gives a client for a site. Calls about the site need it.
func (c *Client) At(site string) *Client {
	at := *c
	at.site = site
	return &at
}

// Key gives the key of the site that the client is for.
func (c *Client) Key() string { return c.site }

// New makes a client from a handle.
func New(h Handle) *Client {
	if h.Pin == "" {
		return &Client{handle: h, http: &http.Client{}}
	}
	// The certificate may be self-made; the handle says which one it must be.
	return &Client{handle: h, http: &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{
		InsecureSkipVerify: true,
		MinVersion:         tls.VersionTLS12,
		VerifyConnection: func(s tls.ConnectionState) error {
			if Pin(s.PeerCertificates[0].Raw) != h.Pin {
				return errors.New("this is not the service's certificate")
			}
			return nil
		},
	}}}}
}

// Pin gives the SHA-256 of a certificate in DER, in hexadecimal.
func Pin(certificate []byte) string {
	sum := sha256.Sum256(certificate)
	return hex.EncodeToString(sum[:])
}

// startTime is how long a service may take from locking its data folder to being
// reached, and startLook how often it is looked for meanwhile.
const (
	startTime = 10 * time.Second
	startLook = 50 * time.Millisecond
)

// Open finds the service that runs on a data folder. One that is just starting is
// waited for.
func Open(ctx context.Context, dir string) (*Client, error) {
	ctx, cancel := context.WithTimeout(ctx, startTime)
	defer cancel()
	again := time.NewTicker(startLook)
	defer again.Stop()
	for {
		h, err := readHandle(dir)
		if err == nil {
			c := New(h)
			// What a killed service left names a port where nobody, or somebody else, is.
			if err = c.call(ctx, http.MethodGet, "/api/session", nil, nil); err == nil ||
				problem.KindOf(err) != problem.SignIn && problem.KindOf(err) != problem.Machine {
				return c, nil
			}
		}
		if errors.Is(err, os.ErrPermission) {
			return nil, problem.Disk(err, "the data folder cannot be read", dir)
		}
		if !locked(dir) {
			return nil, notRunning(dir)
		}
		select {
		case <-again.C:
		case <-ctx.Done():
			return nil, problem.New(problem.Machine, "a Redstart service uses the data folder, but cannot be reached",
				"look at its log").About(dir)
		}
	}
}

func readHandle(dir string) (h Handle, err error) {
	doc, err := os.ReadFile(handlePath(dir))
	if err == nil {
		err = json.Unmarshal(doc, &h)
	}
	return h, err
}

// locked reports whether a service holds the data folder.
func locked(dir string) bool {
	path := filepath.Join(dir, "lock")
	if _, err := os.Stat(path); err != nil {
		return false
	}
	lock := flock.New(path)
	got, err := lock.TryRLock()
	if err == nil && got {
		_ = lock.Unlock() // nobody held it, and nobody needs it
	}
	return err == nil && !got
}

func notRunning(where string) error {
	return problem.New(problem.Machine, "no Redstart service is running",
		"start it with: redstart serve; or name the data folder of a running one with --data").About(where)
}

// call sends a request and reads the answer into out, unless out is nil.
func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	contentType := ""
	switch in := in.(type) {
	case nil:
	case []byte:
		body, contentType = bytes.NewReader(in), "application/octet-stream"
	case io.Reader:
		body, contentType = in, "application/octet-stream"
	default:
		doc, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body, contentType = bytes.NewReader(doc), "application/json"
	}
	response, err := c.do(ctx, method, path, contentType, body)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if raw, ok := out.(*[]byte); ok {
		*raw, err = io.ReadAll(response.Body)
		return err
	}
	if to, ok := out.(io.Writer); ok {
		_, err = io.Copy(to, response.Body)
		return err
	}
	if out == nil {
		return nil
	}
	return json.NewDecoder(response.Body).Decode(out)
}

func (c *Client) do(ctx context.Context, method, path, contentType string, body io.Reader) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, c.handle.URL+path, body)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Authorization", "Bearer "+c.handle.Token)
	if contentType != "" {
		request.Header.Set("Content-Type", contentType)
	}
	response, err := c.http.Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, c.unanswered(err)
	}
	if response.StatusCode >= 400 {
		defer response.Body.Close()
		return nil, asProblem(response)
	}
	return response, nil
}

// unanswered says why nothing came back: that no service runs only where nobody took the
// connection. Another cause may have come after the service had done what was asked.
func (c *Client) unanswered(err error) error {
	var op *net.OpError
	if errors.As(err, &op) && op.Op == "dial" {
		return notRunning(c.handle.URL)
	}
	var outer *url.Error
	if errors.As(err, &outer) {
		err = outer.Err // its URL was asked by us
	}
	return problem.New(problem.Machine, "the connection broke before the service answered: "+err.Error(),
		"look whether it did what was asked, then ask again").About(c.handle.URL)
}

// asProblem turns a problem document back into the error that it came from.
func asProblem(r *http.Response) error {
	var p api.Problem
	if err := json.NewDecoder(io.LimitReader(r.Body, 8<<20)).Decode(&p); err != nil {
		return problem.New(problem.Machine, "something that is no Redstart service answered "+r.Status,
			"check the address of the service")
	}
	kind := problem.Conflict
	for k, status := range api.Statuses {
		if status == r.StatusCode {
			kind = k
		}
	}
	return &problem.Error{Kind: kind, Cause: p.Detail, Subject: p.Subject, Next: p.Next, Cells: p.Cells}
}

func get[T any](ctx context.Context, c *Client, path string) (out T, err error) {
	err = c.call(ctx, http.MethodGet, path, nil, &out)
	return out, err
}

func post[T any](ctx context.Context, c *Client, path string, in any) (out T, err error) {
	err = c.call(ctx, http.MethodPost, path, in, &out)
	return out, err
}

// Event is one thing that changed.
type Event struct {
	Kind string
	Data json.RawMessage
}

// maxEvent bounds one line of the event stream, in bytes.
const maxEvent = 4 << 20

// Follow hands out events until handle returns false, the context ends, or the
// service goes away. The first event, "hello", says that none is missed from
// then on.
func (c *Client) Follow(ctx context.Context, handle func(Event) bool) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	response, err := c.do(ctx, http.MethodGet, "/api/events"+query("site", c.site), "", nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, maxEvent)
	var e Event
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ": ")
		switch {
		case field == "event":
			e.Kind = value
		case field == "data":
			e.Data = json.RawMessage(value)
		case lines.Text() == "" && e.Kind != "":
			if !handle(e) {
				return nil
			}
			e = Event{}
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return problem.New(problem.Machine, "the service went away",
		"start it again; a run goes on with: redstart commission")
}

// query makes a query of names and values; those without a value are left out.
func query(pairs ...string) string {
	q := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			q.Set(pairs[i], pairs[i+1])
		}
	}
	if len(q) == 0 {
		return ""
	}
	return "?" + q.Encode()
}
