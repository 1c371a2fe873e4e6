package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"slices"
	"strings"
	"testing"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/skerry"
)

// browserLike is a client with cookies and no token.
func browserLike(t *testing.T) *http.Client {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return &http.Client{Jar: jar}
}

// send makes a request and reads the whole answer.
func send(t *testing.T, c *http.Client, method, to, body string, headers ...string) (int, http.Header, string) {
	t.Helper()
	request, err := http.NewRequest(method, to, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Content-Type", "application/json")
	for i := 0; i < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	response, err := c.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return response.StatusCode, response.Header, string(answer)
}

func TestSignIn(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	ctx := patience(t)
	password, err := r.s.Accounts.FirstStart(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := r.s.Accounts.FirstStart(ctx); err != nil || again != "" {
		t.Errorf("a second start made another owner: %q, %v", again, err)
	}
	c := browserLike(t)
	session := r.url + "/api/session"
	for name, body := range map[string]string{
		"wrong password": `{"user":"owner","password":"nope"}`,
		"unknown user":   `{"user":"admin","password":"nope"}`,
		"nothing":        `{}`,
		"wrong link":     `{"link":"ABCDEF"}`,
	} {
		status, header, answer := send(t, c, "POST", session, body)
		if status != http.StatusUnauthorized || header.Get("Content-Type") != "application/problem+json" ||
			len(header["Set-Cookie"]) != 0 {
			t.Errorf("%s: %d, %s", name, status, answer)
		}
	}
	if status, _, _ := send(t, c, "GET", r.url+"/api/sites/skerry-point/entries",
		""); status != http.StatusUnauthorized {
		t.Errorf("the plan is shown to strangers: %d", status)
	}
	body, _ := json.Marshal(map[string]string{"user": "owner", "password": password})
	status, header, answer := send(t, c, "POST", session, string(body))
	cookie := header.Get("Set-Cookie")
	if status != http.StatusOK || !strings.Contains(answer, `"owner"`) {
		t.Fatalf("%d, %s", status, answer)
	}
	for _, want := range []string{"HttpOnly", "SameSite=Strict", "Path=/"} {
		if !strings.Contains(cookie, want) {
			t.Errorf("the cookie lacks %s", want)
		}
	}
	if status, header, _ := send(t, c, "GET", r.url+"/api/sites/skerry-point/entries", ""); status != http.StatusOK ||
		header.Get("Cache-Control") != "no-store" || header.Get("X-Frame-Options") != "DENY" {
		t.Errorf("signed in: %d, %v", status, header)
	}
	if status, _, _ := send(t, c, "POST", r.url+"/api/sites/skerry-point/surveys", "", "Origin",
		"http://elsewhere.example", "Sec-Fetch-Site", "cross-site"); status != http.StatusForbidden {
		t.Errorf("a page from elsewhere may act: %d", status)
	}
	if status, _, _ := send(t, c, "DELETE", session, ""); status != http.StatusNoContent {
		t.Errorf("signing out: %d", status)
	}
	// The old cookie is worthless even if somebody kept it.
	token, _, _ := strings.Cut(strings.TrimPrefix(cookie, "redstart="), ";")
	if status, _, _ := send(t, browserLike(t), "GET", r.url+"/api/sites/skerry-point/entries", "", "Cookie",
		"redstart="+token); status != http.StatusUnauthorized {
		t.Errorf("a session outlives signing out: %d", status)
	}
}

func TestALinkSignsInOnce(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	token, err := r.s.Accounts.OnceToken(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	if status, _, _ := send(t, http.DefaultClient, "GET", r.url+"/api/sites/skerry-point/entries", "", "Authorization",
		"Bearer "+token); status != http.StatusUnauthorized {
		t.Error("the token of a link works by itself")
	}
	body := `{"link":"` + token + `"}`
	if status, _, answer := send(t, browserLike(t), "POST", r.url+"/api/session", body); status != http.StatusOK {
		t.Fatalf("%d %s", status, answer)
	}
	status, _, answer := send(t, browserLike(t), "POST", r.url+"/api/session", body)
	if status != http.StatusUnauthorized || !strings.Contains(answer, "used already") {
		t.Errorf("a second time: %d %s", status, answer)
	}
}

// What the OpenAPI document calls required is refused when it is left out, and nothing else is.
func TestRequiredIsTrue(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	_, _, answer := send(t, http.DefaultClient, "GET", r.url+"/api/openapi.json", "")
	type schema struct {
		Ref      string `json:"$ref"`
		Required []string
	}
	var doc struct {
		Paths map[string]map[string]struct {
			RequestBody struct {
				Required bool
				Content  map[string]struct{ Schema schema }
			}
		}
		Components struct{ Schemas map[string]schema }
	}
	decode(t, []byte(answer), &doc)
	browser := browserLike(t)
	link, err := r.s.Accounts.OnceToken(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	if status, _, answer := send(t, browser, "POST", r.url+"/api/session", `{"link":"`+link+`"}`); status != http.StatusOK {
		t.Fatalf("%d %s", status, answer)
	}
	asked, free := 0, 0
	for path, methods := range doc.Paths {
		for method, o := range methods {
			body, is := o.RequestBody.Content["application/json"]
			if !is || path == "/api/session" || strings.Contains(path, "/leases") || strings.Contains(path, "/vault/") || strings.Contains(path, "/backup") {
				continue
			}
			of := doc.Components.Schemas[strings.TrimPrefix(body.Schema.Ref, "#/components/schemas/")]
			if o.RequestBody.Required != (len(of.Required) > 0) {
				t.Errorf("%s %s: required is %t, with %v", method, path, o.RequestBody.Required, of.Required)
			}
			real := r.url + strings.NewReplacer("{site}", "skerry-point", "{name}", "x", "{tag}", "X", "{mac}", "020000000001", "{id}", "1").Replace(path)
			status, _, answer := send(t, browser, strings.ToUpper(method), real, "{}")
			if refused := status == http.StatusUnprocessableEntity && strings.Contains(answer, "the body has no "); refused != (len(of.Required) > 0) {
				t.Errorf("%s %s without anything, where %v is required: %d %s", method, path, of.Required, status, answer)
			}
			if len(of.Required) > 0 {
				asked++
			} else {
				free++
			}
		}
	}
	if asked < 15 || free < 10 {
		t.Errorf("%d require something, %d nothing", asked, free)
	}
}

// The OpenAPI document lists exactly the routes that exist, and none but the
// open ones answers without signing in.
func TestOpenAPIAgreesWithTheRoutes(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	_, _, answer := send(t, http.DefaultClient, "GET", r.url+"/api/openapi.json", "")
	var doc struct {
		OpenAPI string
		Paths   map[string]map[string]struct {
			OperationID string
			Summary     string
			Security    *[]any
		}
	}
	decode(t, []byte(answer), &doc)
	if !strings.HasPrefix(doc.OpenAPI, "3.1") || len(doc.Paths) < 20 {
		t.Fatalf("version %s, %d paths", doc.OpenAPI, len(doc.Paths))
	}
	var open []string
	ids := map[string]string{}
	for path, methods := range doc.Paths {
		for method, operation := range methods {
			if operation.Summary == "" {
				t.Errorf("%s %s has no summary", method, path)
			}
			if other := ids[operation.OperationID]; operation.OperationID == "" || other != "" {
				t.Errorf("%s %s is called %q, as %s is", method, path, operation.OperationID, other)
			}
			ids[operation.OperationID] = method + " " + path
			if operation.Security != nil {
				open = append(open, method+" "+path)
				continue
			}
			real := r.url + strings.NewReplacer("{site}", "skerry-point", "{name}", "x", "{tag}", "X", "{mac}",
				"020000000001", "{id}", "1").Replace(path)
			status, _, answer := send(t, http.DefaultClient, strings.ToUpper(method), real, "")
			if status != http.StatusUnauthorized || !strings.Contains(answer, "not signed in") {
				t.Errorf("%s %s without signing in: %d %s", method, path, status, answer)
			}
		}
	}
	// Every reference to a schema leads somewhere.
	var schemas struct {
		Components struct{ Schemas map[string]any }
	}
	decode(t, []byte(answer), &schemas)
	for _, ref := range strings.Split(answer, `"$ref":"#/components/schemas/`)[1:] {
		name, _, _ := strings.Cut(ref, `"`)
		if schemas.Components.Schemas[name] == nil {
			t.Errorf("there is no schema %q", name)
		}
	}
	for _, name := range []string{"Problem", "Edits", "Edited", "Patch", "Site", "Subnet", "EntryView", "Finding",
		"Account"} {
		if schemas.Components.Schemas[name] == nil {
			t.Errorf("%s is not described; there are %d schemas", name, len(schemas.Components.Schemas))
		}
	}
	// What the console's types are made from is this document.
	const console = "../web/openapi.json"
	var now bytes.Buffer
	if err := json.Indent(&now, []byte(answer), "", " "); err != nil {
		t.Fatal(err)
	}
	if os.Getenv("WRITE_OPENAPI") != "" {
		if err := os.WriteFile(console, now.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if was, err := os.ReadFile(console); err != nil || !bytes.Equal(was, now.Bytes()) {
		t.Errorf("the console was made for another API (%v): run make api", err)
	}
	slices.Sort(open)
	if want := []string{"get /api/health", "get /api/openapi.json", "post /api/session"}; !slices.Equal(open, want) {
		t.Errorf("open to everybody: %v", open)
	}
	if status, _, _ := send(t, http.DefaultClient, "GET", r.url+"/api/nothing", ""); status != http.StatusNotFound {
		t.Errorf("a route that is not there: %d", status)
	}
}
func TestProblemsSayWhatToDo(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20"})
	token, err := r.s.Accounts.LocalToken(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		method, path, body string
		status             int
		want               string
	}{
		{"GET", "/api/sites/skerry-point/entries/NOBODY", "", 404, "there is no such entry"},
		{"GET", "/api/sites/skerry-point/entries/" + url.PathEscape("../../etc/passwd"), "", 404, "no such entry"},
		{"POST", "/api/sites/skerry-point/imports", "tag,not-wired\nA,red\n", 422, `"column":"not-wired"`},
		{"POST", "/api/sites/skerry-point/imports", "tag,profile\n" + strings.Repeat("x", 6<<20), 413,
			"larger than 4 MiB"},
		{"PUT", "/api/sites/skerry-point", `{"name":""}`, 422, "needs a name"},
		{"PUT", "/api/sites/skerry-point", `{"name":`, 422, "no whole JSON document"},
		{"PUT", "/api/sites/skerry-point", `{"name":"x","subnets":[{"prefix":"10.0.0.0/33"}]}`, 422,
			`is not a prefix like`},
		{"POST", "/api/sites/skerry-point/runs", `{"all":true}`, 409, "there is nothing to commission"},
		{"POST", "/api/sites/skerry-point/runs", `{"tags":["NOBODY"]}`, 404, "NOBODY"},
		{"POST", "/api/sites/skerry-point/runs", "", 422, "not said which entries"},
		{"POST", "/api/sites/skerry-point/runs", `{"tag":["CAM-01"]}`, 422, `there is no field \"tag\"`},
		{"POST", "/api/sites/skerry-point/runs", `{"all":true,"tags":["CAM-01"]}`, 422, "both tags and all"},
		{"POST", "/api/sites/skerry-point/runs", `{"all":true} {}`, 422, "something follows"},
		{"POST", "/api/sites/skerry-point/runs", `[]`, 422, "cannot be an array"},
		{"POST", "/api/sites/skerry-point/imports?preview=banana", "tag,profile\nA,ovalis-c20\n", 422,
			"cannot be \\\"banana\\\""},
		{"POST", "/api/sites/skerry-point/imports?previw=true", "tag,profile\nA,ovalis-c20\n", 422,
			"takes no such parameter"},
		{"POST", "/api/sites/skerry-point/imports?preview=true&preview=false", "tag,profile\nA,ovalis-c20\n", 422,
			"more than once"},
		{"GET", "/api/nothing", "", 404, "there is no such call"},
		{"PATCH", "/api/sites", "", 405, "this path takes GET, POST, not PATCH"},
		{"POST", "/api/sites/skerry-point/runs/7/resume", "", 404, "no such run"},
		{"POST", "/api/sites/skerry-point/runs/x/resume", "", 404, "no such run"},
		{"GET", "/api/sites/skerry-point/runs/latest", "", 404, "no run yet"},
		{"POST", "/api/sites/skerry-point/verifications", `{"all":true}`, 409, "nothing is configured yet"},
		{"POST", "/api/sites/skerry-point/verifications", `{"all":true,"restart":"often"}`, 422,
			"needed, always or never"},
		{"POST", "/api/sites/skerry-point/surveys", `{"pace":-1}`, 422, "pace"},
		{"POST", "/api/works/0/stop", "", 409, "nothing is under way"},
		{"POST", "/api/sites/skerry-point/devices/zz/blink", "", 422, "not a MAC"},
		{"PUT", "/api/sites/skerry-point/entries/X/match", `{"mac":""}`, 422, "no MAC"},
		{"POST", "/api/sites/skerry-point/entries/X/reveal", "", 404, "no such entry"},
		{"POST", "/api/sites/skerry-point/matches", `{"tags":["X"]}`, 409, "no proposal"},
	} {
		status, header, answer := send(t, http.DefaultClient, c.method, r.url+c.path, c.body, "Authorization",
			"Bearer "+token)
		if status != c.status || header.Get("Content-Type") != "application/problem+json" ||
			!strings.Contains(answer, c.want) {
			t.Errorf("%s %s: %d %s; want %d with %q", c.method, c.path, status, answer, c.status, c.want)
		}
		var p api.Problem
		decode(t, []byte(answer), &p)
		if p.Status != c.status || p.Title == "" || p.Detail == "" || p.Type == "" {
			t.Errorf("%s %s: not a whole problem document: %s", c.method, c.path, answer)
		}
	}
	if e := r.entries(); len(e) != 0 {
		t.Errorf("a refused request left %d entries", len(e))
	}
}

// Works go side by side; what two of them may not do at once is decided per box.
func TestWorksGoSideBySideAndStop(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 6, Pace: 1})
	r.upToMatch()
	ctx := patience(t)
	var tags []string
	for _, e := range r.entries() {
		if !e.ByHand {
			tags = append(tags, e.Tag)
		}
	}
	first, err := r.c.Commission(ctx, api.RunOptions{Chosen: chosen(tags[:1])})
	if err != nil {
		t.Fatal(err)
	}
	// The same box is in hand; others are not, for a run, a survey or a verification.
	_, err = r.c.Commission(ctx, api.RunOptions{Chosen: chosen(tags[:1])})
	if cells := problem.Cells(err); len(cells) != 1 || cells[0].String() != tags[0]+": run 1 has it in hand" {
		t.Errorf("a second run over %s: %v %v", tags[0], err, cells)
	}
	if _, err = r.c.Verify(ctx, api.VerifyOptions{Chosen: chosen(tags[:1])}); err == nil ||
		!strings.Contains(err.Error(), "run 1 has it in hand") {
		t.Errorf("a verification of it: %v", err)
	}
	if _, err = r.c.Verify(ctx, api.VerifyOptions{Chosen: chosen(nil)}); err == nil ||
		!strings.Contains(err.Error(), "nobody has in hand; "+tags[0]+": run 1 has it in hand") {
		t.Errorf("a verification of all: %v", err)
	}
	if _, err = r.c.Find(ctx, api.FindOptions{Pace: 50}); err != nil {
		t.Errorf("a survey during a run: %v", err)
	}
	if _, err = r.c.Find(ctx, api.FindOptions{}); err == nil ||
		!strings.Contains(err.Error(), "a find is under way on this segment") {
		t.Errorf("a second survey: %v", err)
	}
	second, err := r.c.Commission(ctx, api.RunOptions{Chosen: chosen(nil)})
	if err != nil || second.Run != 2 || second.Total == 0 {
		t.Fatalf("a run over all others: %+v %v", second, err)
	}
	if err := r.unmatch(tags[0]); err == nil {
		t.Errorf("%s lost its match during the run", tags[0])
	}
	if err := r.c.Stop(ctx, 0); err == nil || !strings.Contains(err.Error(), "works are under way") {
		t.Errorf("stopping without saying which: %v", err)
	}
	stopped := false
	last := follow(t, r.c, func(context.Context) (api.Work, error) {
		return second, r.c.Stop(ctx, second.ID)
	}, func(e client.Event) { stopped = true })
	if last.State != "stopped" || !stopped {
		t.Errorf("ended as %s", last.State)
	}
	follow(t, r.c, func(context.Context) (api.Work, error) { return r.work(first.ID), nil }, nil)
	for id, to := range map[int64]string{first.Run: "done", second.Run: "stopped"} {
		run, err := r.c.Run(ctx, id)
		if err != nil || run.State != to {
			t.Errorf("run %d is %s, %v", id, run.State, err)
		}
		for _, d := range run.Devices {
			if !d.Ended() {
				t.Errorf("%s was left %s", d.Tag, d.State)
			}
		}
	}
}

// A device is free the moment the run is done with it, while the run goes on with another.
func TestADeviceIsFreeBeforeItsRunEnds(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20", Seed: 14, Broken: map[int]box.Faults{1: {NeverReturns: true}}})
	r.upToMatch()
	ctx := patience(t)
	tag, stuck := r.entryOf(r.site.Boxes[0]).Tag, r.entryOf(r.site.Boxes[1]).Tag
	run, err := r.c.Commission(ctx, api.RunOptions{Chosen: chosen(nil)})
	if err != nil {
		t.Fatal(err)
	}
	waitFor(t, func() bool {
		list, err := r.c.Works(ctx)
		return err == nil && list[0].Done == 1
	})
	r.verify(tag)
	if e := r.entries()[tag]; e.State != state.Verified {
		t.Errorf("%s: %s", e.State, e.Reason)
	}
	if _, err := r.c.Verify(ctx, api.VerifyOptions{Chosen: chosen([]string{stuck})}); err == nil ||
		!strings.Contains(err.Error(), "run 1 has it in hand") {
		t.Errorf("the other: %v", err)
	}
	again := r.commission(tag) // it can be set again, too
	if again.Failed != 0 || again.Done != 1 {
		t.Errorf("%+v", again)
	}
	if w := r.work(run.ID); w.State != state.Running {
		t.Errorf("the run over both is %s: nothing was shown", w.State)
	}
	if err := r.c.Stop(ctx, run.ID); err != nil {
		t.Error(err)
	}
}

// Of many devices as many are begun as can be talked to; the others are left as they are when
// the run is stopped.
func TestStoppingARunOfManyStopsIt(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 280, Only: "C20", Seed: 15})
	r.upToMatch()
	stopped := false
	last := follow(t, r.c, func(ctx context.Context) (api.Work, error) {
		return r.c.Commission(ctx, api.RunOptions{Chosen: chosen(nil)})
	}, func(e client.Event) {
		if e.Kind == "run" && !stopped {
			stopped = true
			if err := r.c.Stop(patience(t), 0); err != nil {
				t.Error(err)
			}
		}
	})
	states := map[string]int{}
	for _, e := range r.entries() {
		states[e.State]++
	}
	if last.State != "stopped" || states[state.Matched] < 40 || states[state.Matched]+states[state.Configured] != 280 {
		t.Errorf("%s: %v", last.State, states)
	}
	left := map[address.MAC]bool{}
	for _, e := range r.entries() {
		left[e.Device] = e.State == state.Matched
	}
	for _, b := range r.site.Boxes {
		if left[b.MAC] && len(b.Events()) > 0 {
			t.Errorf("%s was not begun, and yet: %+v", b.MAC, b.Events())
			break
		}
	}
}
