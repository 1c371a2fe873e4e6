package e2e

import (
	"os"
	"strings"
	"testing"

	"redstart/internal/sim/skerry"
)

// A profile that is being written is tried as far as it goes; what has no value is named with
// how to give it, a password that was never sent is tried at no box, and after an act that
// makes the box restart it is waited for.
func TestAProfileThatIsBeingWritten(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "M7", Seed: 98, Pace: 0.1})
	b := r.site.Boxes[0]
	r.find()
	redstart := r.with(t)
	doc, err := os.ReadFile("../profiles/tolvern-m7.yaml")
	if err != nil {
		t.Fatal(err)
	}
	text := string(doc)
	order, acts := strings.Index(text, "order:"), strings.Index(text, "acts:")
	draft := r.write("draft.yaml", text[:order]+"acts:\n  identify:\n    - request: GET /about\n      take: {model: \"css #model\"}\n")
	redstart(0, []string{"does not say how to set the model"}, "profile", "check", draft)
	redstart(0, []string{"> GET /about", "M7", "Passwords under its rules look like", "Went through: identify"}, "profile",
		"try", draft, b.MAC.String(), "identify")
	mine := r.write("mine.yaml", text[:order]+"order:\n  - {act: password}\n  - {act: address, then: restarts}\n\n"+text[acts:])
	redstart(1, []string{"{recovery}, which has no value here; give it one with --set recovery=…"}, "profile", "try", mine,
		b.MAC.String(), "password")
	redstart(0, []string{"restart shown by", "10.40.9.190", "Went through: password, address, read"}, "profile", "try",
		mine, b.MAC.String(), "password", "address", "read", "--set", "recovery=a@b.example", "--set", "address=10.40.9.190",
		"--set", "mask=255.255.252.0", "--set", "bits=22", "--set", "gateway=10.40.8.1")
	refused := 0
	for _, d := range b.Events() {
		if d.What == "refused" {
			refused++
		}
	}
	if refused > 0 || b.Starts() != 2 {
		t.Errorf("%d logins were refused, and it started %d times", refused, b.Starts())
	}
}
