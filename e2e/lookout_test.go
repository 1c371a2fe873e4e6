package e2e

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/right"
	"redstart/internal/sim/box"
	"redstart/internal/sim/skerry"
)

// signedParts takes a signature apart as RFC 9421 writes it.
var signedParts = regexp.MustCompile(`^redstart=(\(("[^"]+"( "[^"]+")*)\);created=[0-9]+;keyid="([^"]+)";alg="ed25519")$`)

// verified verifies what a hook got as RFC 9421, 3.2 says, from the text of the request alone.
func verified(r *http.Request, target string, body []byte) (key string, err error) {
	parts := signedParts.FindStringSubmatch(r.Header.Get("Signature-Input"))
	if parts == nil {
		return "", fmt.Errorf("no signature: %q", r.Header.Get("Signature-Input"))
	}
	var base strings.Builder
	for _, name := range strings.Fields(parts[2]) {
		value := map[string]string{`"@method"`: r.Method, `"@target-uri"`: target}[name]
		if value == "" {
			value = r.Header.Get(strings.Trim(name, `"`))
		}
		fmt.Fprintf(&base, "%s: %s\n", name, value)
	}
	fmt.Fprintf(&base, `"@signature-params": %s`, parts[1])
	public, err := base64.StdEncoding.DecodeString(parts[4])
	if err != nil {
		return "", err
	}
	text, _ := strings.CutPrefix(r.Header.Get("Signature"), "redstart=:")
	signature, err := base64.StdEncoding.DecodeString(strings.TrimSuffix(text, ":"))
	if err != nil {
		return "", err
	}
	if !ed25519.Verify(public, []byte(base.String()), signature) {
		return "", fmt.Errorf("the signature does not match:\n%s", base.String())
	}
	sum := sha256.Sum256(body)
	if want := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"; r.Header.Get("Content-Digest") != want {
		return "", fmt.Errorf("digest %s, want %s", r.Header.Get("Content-Digest"), want)
	}
	return parts[4], nil
}

// The service looks by itself whether a site is as it was handed over: it tells what left, came,
// was changed or answers to its factory login again, in console, command and hook, restarts
// nothing, and says when all is as it was again.
func TestTheServiceLooksByItself(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 4, Only: "C20", Seed: 87, Pace: 0.3})
	r.upToVerify()
	redstart := r.with(t)
	told, target := make(chan []string, 10), ""
	signers := make(chan string, 10)
	hook := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, q *http.Request) {
		body, err := io.ReadAll(q.Body)
		if err != nil {
			t.Error(err)
		}
		key, err := verified(q, target, body)
		if err != nil {
			t.Error(err)
		}
		var doc struct {
			Changed []struct{ Tag, Column, Was, Is string }
		}
		if err := json.Unmarshal(body, &doc); err != nil {
			t.Error(err)
		}
		list := []string{}
		for _, d := range doc.Changed {
			list = append(list, strings.Join([]string{d.Tag, d.Column, d.Was, d.Is}, " "))
		}
		signers <- key
		told <- list
	}))
	t.Cleanup(hook.Close)
	target = hook.URL + "/alarm?site=1"
	redstart(0, []string{"does not look at this site by itself"}, "handover", "lookout")
	redstart(1, []string{"does not look at this site by itself"}, "handover", "lookout", "--now")
	for want, args := range map[string][]string{"no time of day": {"--at", "25:00"}, "is no day": {"--at", "02:30", "--days", "someday"},
		"plain http on another computer": {"--at", "02:30", "--hook", "http://192.0.2.1/"}, "login in its address": {"--at", "02:30", "--hook", "https://a:b@alarms.example/"},
		"no web address": {"--at", "02:30", "--hook", "file://etc/passwd"}, "at what time of day": {"--hook", target}} {
		redstart(2, []string{want}, append([]string{"handover", "lookout"}, args...)...)
	}
	starts := r.site.Boxes[0].Starts()
	redstart(0, []string{"Everything is as it was", "compared with what was seen when it began"}, "handover", "lookout", "--at", "02:30", "--hook", target, "--pace", "5000", "--now")
	redstart(0, nil, "handover", "package", t.TempDir()+"/p.zip", "--to", "Ida Holm")
	redstart(0, []string{"Everything is as it was", "handed over to Ida Holm"}, "handover", "lookout", "--now")

	// One leaves, one is renamed, one is put back to its factory login; nobody is told of what
	// only the plan says.
	gone, renamed, reset := r.site.Boxes[1], r.site.Boxes[2], r.site.Boxes[3]
	tags := map[*box.Box]string{}
	for _, b := range r.site.Boxes {
		tags[b] = r.entryOf(b).Tag
	}
	gone.SetFaults(box.Faults{NeverReturns: true})
	gone.Restart()
	renamed.Change(func(s *box.Settings) { s.Name = "somebody-else" })
	reset.Change(func(s *box.Settings) { s.Password = reset.Factory.Password })
	out := redstart(0, []string{tags[gone], tags[renamed], "somebody-else", tags[reset], "factory login", "on the segment: gone"}, "handover", "lookout", "--now")
	if strings.Contains(out, tags[r.site.Boxes[0]]) {
		t.Errorf("what is as it was is told of:\n%s", out)
	}
	list := <-told
	for _, b := range []*box.Box{gone, renamed, reset} {
		if !strings.Contains(strings.Join(list, "\n"), tags[b]) {
			t.Errorf("the hook was not told of %s: %v", tags[b], list)
		}
	}
	var v api.LookoutView
	if err := json.Unmarshal([]byte(redstart(0, nil, "handover", "lookout", "-o", "json")), &v); err != nil || len(v.Changed) != len(list) {
		t.Errorf("%+v, %v", v, err)
	}
	redstart(0, []string{<-signers}, "handover", "check", func() string {
		path := t.TempDir() + "/record.jsonl"
		redstart(0, nil, "handover", "record", path)
		return path
	}())
	redstart(0, nil, "handover", "lookout", "--now")
	select {
	case again := <-told:
		t.Errorf("the hook was told the same twice:\n%v\n%v", list, again)
	default:
	}
	if r.site.Boxes[0].Starts() != starts {
		t.Error("looking restarts a box")
	}
	// The address of the hook may be a secret: it is an owner's, and neither log nor notice tells it.
	hook.Close()
	renamed.Change(func(s *box.Settings) { s.Name = "a-third-name" })
	redstart(1, []string{"the hook does not answer"}, "handover", "lookout", "--now")
	if strings.Contains(r.log.String(), "alarm?site=1") {
		t.Error("the log has the address of the hook")
	}
	redstart(0, []string{"alarm?site=1"}, "handover", "lookout", "-o", "json")
	if err := r.s.Accounts.Add(patience(t), api.Account{Name: "lou", Password: "berth-and-ramp-7", Rights: right.Look}); err != nil {
		t.Fatal(err)
	}
	token, err := r.s.Accounts.AddToken(patience(t), api.Person{Name: "lou"}, api.ForToken{Name: "looks", Rights: right.Look, Days: 1})
	if err != nil {
		t.Fatal(err)
	}
	seen, err := client.New(client.Handle{URL: r.url, Token: token.Token}).At("skerry-point").Lookout(patience(t))
	if err != nil || strings.Contains(seen.Hook, "alarm") || !seen.On {
		t.Errorf("who may only look sees %q, %v", seen.Hook, err)
	}
	redstart(0, []string{"no more"}, "handover", "lookout", "--off")
	redstart(0, []string{"does not look at this site by itself"}, "handover", "lookout")
}
