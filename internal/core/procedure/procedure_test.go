package procedure_test

import (
	"net/netip"
	"slices"
	"testing"

	"redstart/internal/core/plan"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
)

func TestVariables(t *testing.T) {
	v := procedure.Values{Name: "n", Address: netip.MustParsePrefix("10.40.8.30/22"), User: "u"}
	got := v.Variables()
	for key, want := range map[string]string{"name": "n", "user": "u", "address": "10.40.8.30", "mask": "255.255.252.0",
		"bits": "22", "gateway": "0.0.0.0"} {
		if got[key] != want {
			t.Errorf("%s = %q, want %q", key, got[key], want)
		}
	}
	if _, has := got["password"]; has {
		t.Error("a password among the plain values")
	}
}

func TestDifferTellsWhatIsPlannedOtherwise(t *testing.T) {
	given := procedure.Values{Name: "a", Address: netip.MustParsePrefix("10.40.8.30/22"), User: "u",
		Settings: map[string]string{"room": "7", "gone": "x"}}
	if list := procedure.Differ(given, given); list != nil {
		t.Errorf("values differ from themselves: %q", list)
	}
	planned := procedure.Values{Name: "b", Address: netip.MustParsePrefix("10.40.8.31/22"),
		Gateway: netip.MustParseAddr("10.40.8.1"), User: "u", Settings: map[string]string{"room": "8"}}
	want := []string{"name: set to a, planned b", "address: set to 10.40.8.30/22, planned 10.40.8.31/22",
		"gateway: set to nothing, planned 10.40.8.1",
		"gone: set to x, planned nothing", "room: set to 7, planned 8"}
	if got := procedure.Differ(given, planned); !slices.Equal(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
}

func TestTheLoginIsPartOfWhatIsPlanned(t *testing.T) {
	p := &profile.Profile{ID: "x", Kind: "camera", User: "u", Accounts: profile.Accounts{Rename: true},
		Order: []profile.Stage{{Act: profile.Password}}}
	stamps := map[string]bool{}
	values := func(c plan.Policy) procedure.Values {
		r := plan.Plan{Site: plan.Site{Policies: []plan.Policy{c}}}.Resolve()
		v := procedure.For(r, plan.Entry{Name: "n"}, p)
		if stamps[v.Login+v.User] {
			t.Errorf("two policies have one stamp: %q", v.Login)
		}
		stamps[v.Login+v.User] = true
		return v
	}
	each := values(plan.Policy{Mode: plan.OneEach})
	kind := values(plan.Policy{Mode: plan.OneKind})
	turned := values(plan.Policy{Mode: plan.OneKind, Turn: 1})
	given := values(plan.Policy{Mode: plan.Given, Given: "vault:a"})
	other := values(plan.Policy{Mode: plan.Given, Given: "vault:b"})
	longer := values(plan.Policy{Mode: plan.OneEach, Length: 20})
	renamed := values(plan.Policy{Mode: plan.OneEach, Users: plan.RenameUser, User: "w"})
	for _, c := range []struct {
		was, is procedure.Values
		want    string
	}{
		{each, kind, "password: set to one of its own, planned one for every camera"},
		{kind, turned, "password: set to one for every camera, planned another"},
		{turned, given, "password: set to one for every camera, planned the given one"},
		{given, other, "password: set to the given one, planned another"},
		{each, longer, "password: set to one of its own, planned another"},
		{each, renamed, "user: set to u, planned w"},
	} {
		if got := procedure.Differ(c.was, c.is); !slices.Equal(got, []string{c.want}) {
			t.Errorf("%q, want %q", got, c.want)
		}
		if opens := (procedure.Login{Known: true, User: c.was.User, Stamp: c.was.Login}); opens.Keeps(c.is) ||
			!opens.Keeps(c.was) {
			t.Errorf("%s: the run would not agree", c.want)
		}
	}
	elsewhere := procedure.Login{Known: true, User: "u"}
	if !elsewhere.Keeps(each) || elsewhere.Keeps(kind) || elsewhere.Keeps(given) || (procedure.Login{}).Keeps(each) {
		t.Error("a login from elsewhere fits where each device has its own, and nowhere else")
	}
}
