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
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"redstart/internal/commission"
	"redstart/internal/core/address"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/service"
	"redstart/internal/store"
)

// Handle is how commands on this computer reach a running service. The service
// keeps it in its data folder, readable by its owner only.
type Handle struct {
	URL   string `json:"url"`
	Token string `json:"token"`
	Pin   string `json:"pin,omitempty"` // SHA-256 of the service's TLS certificate; "" without TLS
}

func handlePath(dir string) string { return filepath.Join(dir, "service.json") }

// WriteHandle stores the handle of a running service; Remove takes it away.
func WriteHandle(dir string, h Handle) (remove func(), err error) {
	doc, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	path := handlePath(dir)
	// A handle left by a killed service may be replaced; its rights must not be inherited.
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	return func() { _ = os.Remove(path) }, os.WriteFile(path, doc, 0o600)
}

// Client talks to one service.
type Client struct {
	handle Handle
	http   *http.Client
}

// New makes a client from a handle.
func New(h Handle) *Client {
	if h.Pin == "" {
		return &Client{h, &http.Client{}}
	}
	// The certificate may be self-made; the handle says which one it must be.
	return &Client{h, &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{
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

// Open finds the service that runs on a data folder.
func Open(dir string) (*Client, error) {
	doc, err := os.ReadFile(handlePath(dir))
	var h Handle
	if err == nil {
		err = json.Unmarshal(doc, &h)
	}
	if err != nil {
		return nil, notRunning(dir)
	}
	return New(h), nil
}

func notRunning(where string) error {
	return problem.New(problem.Machine, "no Redstart service is running", "start it with: redstart serve; or name the data folder of a running one with --data").About(where)
}

// call sends a request and reads the answer into out, unless out is nil.
func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	contentType := ""
	switch in := in.(type) {
	case nil:
	case []byte:
		body, contentType = bytes.NewReader(in), "text/csv"
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
		return nil, notRunning(c.handle.URL)
	}
	if response.StatusCode >= 400 {
		defer response.Body.Close()
		return nil, asProblem(response)
	}
	return response, nil
}

// asProblem turns a problem document back into the error that it came from.
func asProblem(r *http.Response) error {
	var p service.Problem
	if err := json.NewDecoder(io.LimitReader(r.Body, 8<<20)).Decode(&p); err != nil {
		return fmt.Errorf("the service answered %s", r.Status)
	}
	kind := problem.Conflict
	for k, status := range service.Statuses {
		if status == r.StatusCode {
			kind = k
		}
	}
	return &problem.Error{Kind: kind, Cause: p.Detail, Subject: p.Subject, Next: p.Next, Cells: p.Cells}
}

func get[T any](ctx context.Context, c *Client, path string) (out T, err error) {
	return out, c.call(ctx, http.MethodGet, path, nil, &out)
}

func post[T any](ctx context.Context, c *Client, path string, in any) (out T, err error) {
	return out, c.call(ctx, http.MethodPost, path, in, &out)
}

// Site gives the site's data.
func (c *Client) Site(ctx context.Context) (plan.Site, error) {
	return get[plan.Site](ctx, c, "/api/site")
}

// SetSite sets the site's data.
func (c *Client) SetSite(ctx context.Context, site plan.Site) error {
	return c.call(ctx, http.MethodPut, "/api/site", site, nil)
}

// Import adds a CSV plan, or with preview only shows what it would add.
func (c *Client) Import(ctx context.Context, file []byte, replace, preview bool) ([]plan.Entry, error) {
	return post[[]plan.Entry](ctx, c, fmt.Sprintf("/api/entries?replace=%t&preview=%t", replace, preview), file)
}

// Entries lists the plan.
func (c *Client) Entries(ctx context.Context) ([]service.EntryView, error) {
	return get[[]service.EntryView](ctx, c, "/api/entries")
}

func entryPath(tag string) string { return "/api/entries/" + url.PathEscape(tag) }

// Entry gives everything known of one entry.
func (c *Client) Entry(ctx context.Context, tag string) (service.Detail, error) {
	return get[service.Detail](ctx, c, entryPath(tag))
}

// Findings says what is wrong with the plan.
func (c *Client) Findings(ctx context.Context) ([]plan.Finding, error) {
	return get[[]plan.Finding](ctx, c, "/api/findings")
}

// Profiles lists the device profiles.
func (c *Client) Profiles(ctx context.Context) ([]*profile.Profile, error) {
	return get[[]*profile.Profile](ctx, c, "/api/profiles")
}

// Devices lists everything found.
func (c *Client) Devices(ctx context.Context) (service.Segment, error) {
	return get[service.Segment](ctx, c, "/api/devices")
}

// Blink makes a device show itself.
func (c *Client) Blink(ctx context.Context, mac address.MAC) error {
	return c.call(ctx, http.MethodPost, "/api/devices/"+mac.String()+"/blink", nil, nil)
}

// Find starts a survey; pace is in frames per second, 0 for the normal one.
func (c *Client) Find(ctx context.Context, pace int) (service.Activity, error) {
	return post[service.Activity](ctx, c, "/api/surveys", map[string]int{"pace": pace})
}

// Proposals lists proposed matches.
func (c *Client) Proposals(ctx context.Context) (service.Proposals, error) {
	return get[service.Proposals](ctx, c, "/api/matches")
}

// Accept accepts proposed matches; no tags mean all.
func (c *Client) Accept(ctx context.Context, tags []string) ([]match.Proposal, error) {
	return post[[]match.Proposal](ctx, c, "/api/matches", service.Selection{Tags: tags})
}

// Match matches by hand.
func (c *Client) Match(ctx context.Context, tag string, mac address.MAC) error {
	return c.call(ctx, http.MethodPut, entryPath(tag)+"/match", map[string]any{"mac": mac}, nil)
}

// Unmatch undoes a match.
func (c *Client) Unmatch(ctx context.Context, tag string) error {
	return c.call(ctx, http.MethodDelete, entryPath(tag)+"/match", nil, nil)
}

// Rehearse says what a run would do.
func (c *Client) Rehearse(ctx context.Context, tags []string) (commission.Rehearsal, error) {
	return post[commission.Rehearsal](ctx, c, "/api/rehearsals", service.Selection{Tags: tags})
}

// Commission starts a run.
func (c *Client) Commission(ctx context.Context, tags []string) (service.Activity, error) {
	return post[service.Activity](ctx, c, "/api/runs", service.Selection{Tags: tags})
}

// LatestRun gives the latest run; ok is false before the first.
func (c *Client) LatestRun(ctx context.Context) (run store.Run, ok bool, err error) {
	run, err = get[store.Run](ctx, c, "/api/runs/latest")
	if problem.KindOf(err) == problem.Missing {
		return run, false, nil
	}
	return run, err == nil, err
}

// Resume goes on with a run that was cut off.
func (c *Client) Resume(ctx context.Context, run int64) (service.Activity, error) {
	return post[service.Activity](ctx, c, fmt.Sprintf("/api/runs/%d/resume", run), nil)
}

// GiveUp gives up a run that was cut off.
func (c *Client) GiveUp(ctx context.Context, run int64) error {
	return c.call(ctx, http.MethodPost, fmt.Sprintf("/api/runs/%d/give-up", run), nil, nil)
}

// Verify starts a verification.
func (c *Client) Verify(ctx context.Context, tags []string, restart string) (service.Activity, error) {
	return post[service.Activity](ctx, c, "/api/verifications", service.Selection{Tags: tags, Restart: restart})
}

// Reveal shows the stored login of an entry's device.
func (c *Client) Reveal(ctx context.Context, tag string) (user, password string, err error) {
	out, err := post[map[string]string](ctx, c, entryPath(tag)+"/reveal", nil)
	return out["user"], out["password"], err
}

// Activity gives the work under way or the last one.
func (c *Client) Activity(ctx context.Context) (service.Activity, error) {
	return get[service.Activity](ctx, c, "/api/activity")
}

// Stop stops the work under way.
func (c *Client) Stop(ctx context.Context) error {
	return c.call(ctx, http.MethodPost, "/api/activity/stop", nil, nil)
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
	response, err := c.do(ctx, http.MethodGet, "/api/events", "", nil)
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
	return problem.New(problem.Machine, "the service went away", "start it again; a run goes on with: redstart commission")
}
