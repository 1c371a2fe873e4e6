package e2e

import (
	"bufio"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/plan"
	"redstart/internal/sim/skerry"
)

// event is one of a stream.
type event struct{ id, kind, data string }

// stream reads events of the site, from after one on; end lets go of it.
func (r *rig) stream(after string) (next func() event, end func()) {
	r.t.Helper()
	ctx, leave := context.WithCancel(patience(r.t))
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, r.url+"/api/events?site=skerry-point", nil)
	if err != nil {
		r.t.Fatal(err)
	}
	token, err := r.s.Accounts.LocalToken(ctx)
	if err != nil {
		r.t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+token)
	request.Header.Set("Last-Event-ID", after)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		r.t.Fatal(err)
	}
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 1<<20)
	return func() (e event) {
			r.t.Helper()
			for lines.Scan() {
				switch key, value, _ := strings.Cut(lines.Text(), ": "); key {
				case "id":
					e.id = value
				case "event":
					e.kind = value
				case "data":
					e.data = value
				case "":
					if e.kind != "" {
						return e
					}
				}
			}
			r.t.Fatal("the stream ended: ", lines.Err())
			return e
		}, func() {
			leave()
			response.Body.Close()
		}
}

// changed gives the next event that tells what changed.
func changed(t *testing.T, next func() event) (api.Changes, event) {
	t.Helper()
	for {
		if e := next(); e.kind == "changes" {
			var c api.Changes
			decode(t, []byte(e.data), &c)
			return c, e
		}
	}
}

// One cell of a plan tells one entry and what is found in it, not the plan; and who was away
// for a moment is told what it missed.
func TestChangesTravelNotStates(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	var csv strings.Builder
	csv.WriteString("tag,profile,address\n")
	for i := range 200 {
		fmt.Fprintf(&csv, "CAM-%03d,ovalis-c20,10.40.9.%d\n", i, i+10)
	}
	r.plan(csv.String())
	next, end := r.stream("")
	if e := next(); e.kind != "hello" || e.data != `{"resumed":false}` {
		t.Fatalf("%+v", e)
	}
	set := func(tag, key, value string) {
		t.Helper()
		if _, err := r.c.Edit(patience(t), api.Edits{Patches: []plan.Patch{{Tag: tag, Set: map[string]string{key: value}}}},
			false); err != nil {
			t.Fatal(err)
		}
	}
	set("CAM-007", "place", "Pier")
	c, e := changed(t, next)
	for len(c.Entries) == 0 { // told of what was before
		c, e = changed(t, next)
	}
	if len(c.Entries) != 1 || c.Entries[0].Tag != "CAM-007" || c.Entries[0].Place != "Pier" || c.Order != nil || c.Devices != nil ||
		c.Findings != nil || len(e.data) > 2000 {
		t.Errorf("%d bytes: %s", len(e.data), e.data)
	}
	end()

	// The same address twice is found in the second of the two; and an entry comes.
	set("CAM-003", "address", "10.40.9.12")
	if _, err := r.c.Edit(patience(t), api.Edits{Patches: []plan.Patch{{Set: map[string]string{"tag": "NEW-1", "profile": "ovalis-c20"}}}},
		false); err != nil {
		t.Fatal(err)
	}
	next, end = r.stream(e.id)
	defer end()
	if hello := next(); hello.data != `{"resumed":true}` || hello.id != e.id {
		t.Fatalf("after a break: %+v", hello)
	}
	// What was missed comes: as a change, or, where nobody listened then, that the plan is to be
	// read once.
	for missed := next(); missed.kind != "plan" && !strings.Contains(missed.data, `"NEW-1"]`); {
		missed = next()
	}
	for told := false; !told; { // somebody may have to read it whole once more
		set("CAM-003", "place", fmt.Sprint("Mole ", time.Now().UnixNano()))
		e := next()
		for e.kind != "changes" && e.kind != "plan" {
			e = next()
		}
		told = e.kind == "changes" && strings.Contains(e.data, "Mole")
	}
}

// Answers are short on the way, and are not sent again to who has them.
func TestAnswersAreCompressedAndTagged(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	var csv strings.Builder
	csv.WriteString("tag,profile\n")
	for i := range 100 {
		fmt.Fprintf(&csv, "CAM-%03d,ovalis-c20\n", i)
	}
	r.plan(csv.String())
	token, err := r.s.Accounts.LocalToken(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	get := func(path string, headers ...string) *http.Response {
		t.Helper()
		request, err := http.NewRequest(http.MethodGet, r.url+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Authorization", "Bearer "+token)
		request.Header.Set("Accept-Encoding", "gzip")
		for i := 0; i < len(headers); i += 2 {
			request.Header.Set(headers[i], headers[i+1])
		}
		response, err := http.DefaultTransport.RoundTrip(request)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { response.Body.Close() })
		return response
	}
	const path = "/api/sites/skerry-point/entries"
	first := get(path)
	if first.Header.Get("Content-Encoding") != "gzip" {
		t.Fatalf("%v", first.Header)
	}
	plain, err := gzip.NewReader(first.Body)
	if err != nil {
		t.Fatal(err)
	}
	var list []api.EntryView
	if err := json.NewDecoder(plain).Decode(&list); err != nil || len(list) != 100 {
		t.Errorf("%d entries, %v", len(list), err)
	}
	tag := first.Header.Get("ETag")
	if again := get(path, "If-None-Match", tag); tag == "" || again.StatusCode != http.StatusNotModified || again.ContentLength > 0 {
		t.Errorf("%q: %d", tag, again.StatusCode)
	}
	if _, err := r.c.Edit(patience(t), api.Edits{Patches: []plan.Patch{{Tag: "CAM-001", Set: map[string]string{"place": "Pier"}}}},
		false); err != nil {
		t.Fatal(err)
	}
	if other := get(path, "If-None-Match", tag); other.StatusCode != http.StatusOK || other.Header.Get("ETag") == tag {
		t.Errorf("after a change: %d, %s", other.StatusCode, other.Header.Get("ETag"))
	}
	for path, compressed := range map[string]bool{"/": false, "/api/vault": false, "/api/profiles": true} {
		if got := get(path).Header.Get("Content-Encoding") == "gzip"; got != compressed {
			t.Errorf("%s is compressed: %t", path, got)
		}
	}
}
