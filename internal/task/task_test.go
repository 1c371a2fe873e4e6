package task_test

import (
	"net/netip"
	"os"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/plan"
	"redstart/internal/core/procedure"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/store"
	"redstart/internal/task"
	"redstart/profiles"
)

func TestStepsFollowTheProfile(t *testing.T) {
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	site := plan.Site{Subnets: []plan.Subnet{{Prefix: netip.MustParsePrefix("10.40.8.0/22"),
		Gateway: netip.MustParseAddr("10.40.8.1")}}}
	for id, want := range map[string]string{
		"ovalis-c20":    "reach confirm password name time settings address return-after-address",
		"fennmark-fs8":  "reach confirm name address return-after-address password time settings save restart return-after-restart",
		"brindlecap-b4": "reach confirm password name address restart return-after-restart",
	} {
		p := set[id]
		v := procedure.For(plan.Plan{Site: site, Profiles: set}.Resolve(),
			plan.Entry{Tag: "X", Name: "box-1", Profile: id, Address: netip.MustParseAddr("10.40.8.30")}, p)
		steps := task.Steps(p, v, procedure.Login{})
		var names []string
		var text strings.Builder
		seen := map[string]bool{}
		for _, s := range steps {
			names = append(names, strings.ReplaceAll(s.Name, " ", "-"))
			text.WriteString(s.Text + "\n")
			if seen[s.Name] {
				t.Errorf("%s: the step %s occurs twice; the journal could not tell them apart", id, s.Name)
			}
			seen[s.Name] = true
		}
		if got := strings.Join(names, " "); got != want {
			t.Errorf("%s:\n got %s\nwant %s", id, got, want)
		}
		for _, value := range []string{"box-1", "10.40.8.30/22", "gateway 10.40.8.1", p.User} {
			if !strings.Contains(text.String(), value) {
				t.Errorf("%s: the rehearsal does not say %s:\n%s", id, value, text.String())
			}
		}
		if took := task.Takes(p, steps); took < time.Duration(p.Restart.Takes) ||
			took > time.Duration(p.Restart.Takes)+5*time.Second {
			t.Errorf("%s: reckoned %s for a restart of %s", id, took, time.Duration(p.Restart.Takes))
		}
	}
}

// That a box may be talked to over what is no longer held for safe is said before the run.
func TestARehearsalSaysWhatIsNotSafe(t *testing.T) {
	doc, err := os.ReadFile("../../profiles/clepsydra-k3.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for old, want := range map[string]bool{"": false, "old: true, ": true} {
		p, err := profiles.Parse([]byte(strings.Replace(string(doc), "shell: {over: ssh,", "shell: {"+old+"over: ssh,",
			1)))
		if err != nil {
			t.Fatal(err)
		}
		steps := task.Steps(p, procedure.Values{}, procedure.Login{})
		if said := strings.Contains(steps[1].Text, "no longer held for safe"); said != want {
			t.Errorf("%q: %s", old, steps[1].Text)
		}
	}
}

// What a person did counts until its window is over, and for ever where there is none.
func TestHowLongAHandHolds(t *testing.T) {
	t.Parallel()
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	done := func(ago time.Duration) store.Line {
		return store.Line{Phase: state.Done, At: stamp.Time{Time: now.Add(-ago)}}
	}
	windows, lasting := 0, 0
	for _, s := range task.Steps(set["brindlecap-d2"], procedure.Values{}, procedure.Login{}) {
		switch {
		case !s.Hands:
		case s.Windowed():
			windows++
			if !s.Holds(done(time.Minute), now) || s.Holds(done(10*time.Minute), now) {
				t.Errorf("%s: its window is not six minutes", s.Name)
			}
		default:
			lasting++
			if !s.Holds(done(100*time.Hour), now) || s.Holds(store.Line{Phase: state.Begun, At: stamp.Time{Time: now}}, now) {
				t.Errorf("%s: it holds once it was done, and not before", s.Name)
			}
		}
	}
	if windows != 1 || lasting != 1 {
		t.Errorf("%d with a window, %d without", windows, lasting)
	}
}
