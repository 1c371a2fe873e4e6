package e2e

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/match"
	"redstart/internal/core/result"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/skerry"
)

func decode(t testing.TB, data []byte, into any) {
	t.Helper()
	if err := json.Unmarshal(data, into); err != nil {
		t.Fatalf("%v in %s", err, data)
	}
}

// The whole job through the API. What the service says is compared with what
// the simulated devices really have, and nothing secret may have leaked.
func TestTwentyFreshBoxesToTwentyVerifiedDevices(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Seed: 1})
	ctx := patience(t)
	owner, err := r.s.Accounts.FirstStart(ctx)
	if err != nil || owner == "" {
		t.Fatalf("no owner was made: %v", err)
	}
	r.plan(string(r.site.Plan()))

	var events strings.Builder
	keep := func(e client.Event) { events.WriteString(e.Kind + " " + string(e.Data) + "\n") }
	found := follow(t, r.c, func(ctx context.Context) (api.Work, error) {
		return r.c.Find(ctx, api.FindOptions{})
	}, keep)
	if found.Text != "20 devices on the segment; 2 passes agree that these are all" {
		t.Errorf("the survey says: %s", found.Text)
	}
	segment, err := r.c.Devices(ctx)
	if err != nil {
		t.Fatal(err)
	}
	var shared string
	for _, f := range segment.Findings {
		shared += f.Text + "\n"
	}
	has(t, "findings", shared, "12 devices share 2 factory addresses: 192.168.66.16 (2), 192.168.77.20 (10)")
	if n := strings.Count(events.String(), "\ndevice "); n < 20 {
		t.Errorf("only %d device events: results must stream", n)
	}

	if _, err := r.c.Accept(ctx, api.Acceptance{Reasons: match.Reasons}); err != nil {
		t.Fatal(err)
	}
	follow(t, r.c, func(ctx context.Context) (api.Work, error) {
		return r.c.Commission(ctx, api.RunOptions{Chosen: chosen(nil)})
	}, keep)
	for _, b := range r.site.Boxes {
		e := r.entryOf(b)
		expectPlanned(t, b, e)
		if e.State != state.Configured || e.Now != e.Address {
			t.Errorf("%s is %s at %s before verification", e.Tag, e.State, e.Now)
		}
		if b.Starts() < 2 {
			t.Errorf("%s never restarted", e.Tag)
		}
	}
	follow(t, r.c, func(ctx context.Context) (api.Work, error) {
		return r.c.Verify(ctx, api.VerifyOptions{Chosen: chosen(nil)})
	}, keep)
	for tag, e := range r.entries() {
		if e.State != state.Verified || e.CheckedAt.IsZero() {
			t.Errorf("%s is %s: %s", tag, e.State, e.Reason)
		}
	}

	detail, err := r.c.Entry(ctx, "HALL-CAM-01")
	if err != nil {
		t.Fatal(err)
	}
	if !result.Verified(detail.Checks) || len(detail.Checks) < 11 {
		t.Errorf("checks: %+v", detail.Checks)
	}
	var history strings.Builder
	for _, n := range detail.History {
		history.WriteString(n.Who + ": " + n.What + "\n")
	}
	has(t, "history", history.String(), "planned at 10.40.8.28", "matched with", "run 1: password begin",
		"run 1: password done", "run 1: return after address done", "configured", "verified")

	secrets := map[string]string{"the owner's password": owner}
	for _, b := range r.site.Boxes {
		secrets["the password of "+b.Serial] = b.Running().Password
	}
	places := map[string]string{"the log": r.log.String(), "the events": events.String()}
	const at = "sites/skerry-point/"
	for _, path := range []string{"works", "profiles", "sites", "session", "openapi.json", "vault", "users", "tokens"} {
		places[path] = r.get(path)
	}
	for _, path := range []string{"entries", "entries/HALL-CAM-01", "devices", "findings", "runs/latest", "matches",
		"revisions", "export?format=json", "comparison?from=1"} {
		places[path] = r.get(at + path)
	}
	files, err := filepath.Glob(filepath.Join(r.dir, "redstart.db*"))
	if err != nil || len(files) < 2 {
		t.Fatalf("database files: %v, %v", files, err)
	}
	for _, f := range files {
		content, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		places[filepath.Base(f)] = string(content)
	}
	for place, text := range places {
		if len(text) < 2 {
			t.Errorf("%s is empty; nothing was searched there", place)
		}
		for name, secret := range secrets {
			if strings.Contains(text, secret) {
				t.Errorf("%s is in %s", name, place)
			}
		}
	}

	// On purpose, and recorded, a secret can be seen; it really opens the device.
	shown, err := r.c.Reveal(ctx, "HALL-CAM-01", "", "")
	if err != nil || shown.User != "operator" {
		t.Fatalf("%s, %v", shown.User, err)
	}
	for _, b := range r.site.Boxes {
		if b.MAC == detail.Entry.Device && b.Running().Password != shown.Password {
			t.Error("the revealed password is not the device's")
		}
	}
	if detail, err = r.c.Entry(ctx, "HALL-CAM-01"); err != nil ||
		!strings.HasSuffix(detail.History[len(detail.History)-1].What, "shown") {
		t.Error("revealing was not recorded")
	}
}

// get reads an API resource raw.
func (r *rig) get(path string) string {
	r.t.Helper()
	request, err := http.NewRequest(http.MethodGet, r.url+"/api/"+path, nil)
	if err != nil {
		r.t.Fatal(err)
	}
	token, err := r.s.Accounts.LocalToken(context.Background())
	if err != nil {
		r.t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+token)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		r.t.Fatal(err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	if err != nil || response.StatusCode != http.StatusOK {
		r.t.Fatalf("%s: %s, %v", path, response.Status, err)
	}
	return string(body)
}

// What was saved survives a power cut, and verification notices what changed.
func TestVerifyNoticesWhatChangedLater(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 6, Seed: 2})
	r.upToVerify()
	camera := r.site.Boxes[2]
	e := r.entryOf(camera)
	if e.Kind != "camera" || e.State != state.Verified {
		t.Fatalf("%s is a %s, %s", e.Tag, e.Kind, e.State)
	}
	camera.Change(func(s *box.Settings) { s.Name = "somebody-else" })
	r.verify(e.Tag)
	if e = r.entries()[e.Tag]; e.State != state.Attention ||
		!strings.Contains(e.Reason, "name: expected "+e.Name+", observed somebody-else") {
		t.Errorf("%s: %s", e.State, e.Reason)
	}
	// The saved name is the right one: a restart mends it.
	starts := camera.Starts()
	camera.Restart()
	waitFor(t, func() bool { return camera.Starts() > starts })
	r.verify(e.Tag)
	if e = r.entries()[e.Tag]; e.State != state.Verified {
		t.Errorf("after its restart it is %s: %s", e.State, e.Reason)
	}
	// A switch can be restarted by verification itself.
	field := r.site.Boxes[0]
	starts = field.Starts()
	tag := r.entryOf(field).Tag
	r.do(func(ctx context.Context) (api.Work, error) {
		return r.c.Verify(ctx, api.VerifyOptions{Chosen: chosen([]string{tag}), Restart: "always"})
	})
	if field.Starts() != starts+1 || r.entries()[tag].State != state.Verified {
		t.Errorf("verify --restart always: %d starts, %s", field.Starts()-starts, r.entries()[tag].State)
	}
}

// waitFor waits for a condition that nothing announces.
func waitFor(t testing.TB, ok func() bool) {
	t.Helper()
	ctx := patience(t)
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for !ok() {
		select {
		case <-tick.C:
		case <-ctx.Done():
			t.Fatal("it never happened")
		}
	}
}

func TestMatchByHandAndUndo(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 8, Seed: 4})
	ctx := patience(t)
	// More entries than cameras: order decides nothing for them.
	csv := string(r.site.Plan()) + "EXTRA-CAM-01,camera,ovalis-c20,,,next,auto,,\n"
	r.plan(csv)
	r.find()
	p, err := r.c.Proposals(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range p.Proposals {
		if m.Profile == "ovalis-c20" && !m.Part {
			t.Errorf("%s was proposed by %s though the counts differ", m.Tag, m.By)
		}
	}
	if len(p.Open) != 1 || !strings.Contains(p.Open[0].Why, "6 entries but 5 devices") {
		t.Errorf("open: %+v", p.Open)
	}
	camera, controller := r.site.Boxes[3], r.site.Boxes[7]
	if err := r.c.Match(ctx, "EXTRA-CAM-01", api.MatchWith{MAC: camera.MAC}); err != nil {
		t.Fatal(err)
	}
	if e := r.entries()["EXTRA-CAM-01"]; e.MatchedBy != "hand" || e.State != state.Matched || e.Device != camera.MAC {
		t.Errorf("%+v", e)
	}
	for want, err := range map[string]error{
		"matched with EXTRA-CAM-01 already": r.c.Match(ctx, "HALL-CAM-01", api.MatchWith{MAC: camera.MAC}),
		"this box is a brindlecap-b4":       r.c.Match(ctx, "HALL-CAM-01", api.MatchWith{MAC: controller.MAC}),
		"no such box was found": r.c.Match(ctx, "HALL-CAM-01",
			api.MatchWith{MAC: [6]byte{2, 9, 9, 9, 9, 9}}),
		"no such entry":        r.c.Match(ctx, "NOBODY", api.MatchWith{MAC: camera.MAC}),
		"no device is matched": r.unmatch("HALL-CAM-01"),
	} {
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("got %v, want %q", err, want)
		}
	}
	if err := r.unmatch("EXTRA-CAM-01"); err != nil {
		t.Fatal(err)
	}
	if e := r.entries()["EXTRA-CAM-01"]; e.State != state.Planned || !e.Device.IsZero() {
		t.Errorf("after undoing: %+v", e)
	}
	if err := r.c.Blink(ctx, camera.MAC); err == nil || !strings.Contains(err.Error(), "cannot be made to blink") {
		t.Errorf("a camera blinks: %v", err)
	}
	if err := r.c.Blink(ctx, r.site.Boxes[0].MAC); err != nil {
		t.Errorf("a switch does not blink: %v", err)
	}
}
