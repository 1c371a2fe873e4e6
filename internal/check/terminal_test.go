package check_test

import (
	"slices"
	"strings"
	"testing"

	"redstart/internal/check"
	"redstart/internal/commission/commissiontest"
	"redstart/internal/core/plan"
	"redstart/internal/core/result"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/all"
	"redstart/internal/sim/model/c20"
	"redstart/internal/sim/skerry"
	"redstart/internal/task/tasktest"
	"redstart/internal/verify/verifytest"
)

// quick has boxes restart ten times as fast as they do.
const quick = 0.1

// What a run set is verified in everything that a model tells; then each box that is changed by
// somebody else shows exactly that.
func TestWhatIsSetIsVerified(t *testing.T) {
	t.Parallel()
	x := tasktest.Find(t, skerry.Options{Devices: len(all.Stock), Every: true, Seed: 37, Pace: quick})
	door, camera := x.Tags("D2")[0], x.Tags("C20")[0]
	x.Want(camera, "viewer-password", "OnlyLooks7x")
	x.Add(plan.Entry{Tag: "RDR-1", Kind: "reader", Profile: "brindlecap-q1", Behind: door, Part: "1", Settings: map[string]string{"side": "in"}},
		plan.Entry{Tag: "RDR-2", Kind: "reader", Profile: "brindlecap-q1", Behind: door, Part: "5", Settings: map[string]string{"side": "out"}})
	commissiontest.Set(t, x, x.Tags()...)
	for tag, list := range verifytest.LookAt(t, x, check.Needed, x.Tags()...) {
		var open []string
		for _, c := range list {
			if c.Verdict != result.Passed {
				open = append(open, c.Name+": "+c.Observed)
			}
		}
		e, model := x.Entries(tag)[0], x.Box(tag).Model.Name
		if model == "D4" && len(open) == 1 && e.State == state.Configured {
			continue // the code of its keypad is told by nobody
		}
		if tag == door && slices.Equal(open, []string{"behind it: RDR-2: answers: state silent"}) {
			continue
		}
		if len(open) > 0 || e.State != state.Verified {
			t.Errorf("%s, %s: %s: %s; %s", tag, model, e.State, e.Reason, strings.Join(open, "; "))
		}
	}
	switches := x.Tags("FS8")
	for tag, list := range verifytest.LookAt(t, x, check.Always, switches...) { // with a restart that it is asked for
		if !result.Verified(list) {
			t.Errorf("%s after one more restart: %+v", tag, result.Failing(list))
		}
	}
	changes := map[string]struct {
		models []string
		do     func(*box.Settings)
		check  string
	}{
		"who looks":    {[]string{"C20"}, func(s *box.Settings) { own := s.Own.(c20.Own); own.Viewer = "Somebody-Else-5"; s.Own = own }, "viewer-password"},
		"its name":     {[]string{"C20", "FS8", "P12"}, func(s *box.Settings) { s.Name = "other" }, "name"},
		"its gateway":  {[]string{"C31", "D1"}, func(s *box.Settings) { s.Gateway = s.Address.Addr().Next() }, "gateway"},
		"its password": {[]string{"B4", "M7"}, func(s *box.Settings) { s.Password = "Somebody-Else-5" }, "login"},
	}
	var touched []string
	for _, c := range changes {
		for _, tag := range x.Tags(c.models...) {
			x.Box(tag).Change(c.do)
			touched = append(touched, tag)
		}
	}
	again := verifytest.LookAt(t, x, check.Never, touched...)
	for what, c := range changes {
		for _, tag := range x.Tags(c.models...) {
			failing := result.Failing(again[tag])
			if !slices.ContainsFunc(failing, func(f result.Check) bool { return strings.Contains(f.Name, c.check) }) {
				t.Errorf("%s of %s, %s was changed, and failing are %+v", what, tag, x.Box(tag).Model.Name, failing)
			}
			if e := x.Entries(tag)[0]; e.State != state.Attention {
				t.Errorf("%s is %s", tag, e.State)
			}
		}
	}
}
