package plan_test

import (
	"strings"
	"testing"

	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
)

func TestRolesAreChecked(t *testing.T) {
	good := plan.PortRole{Name: "link", Hangs: plan.HangsSwitch, Untagged: 1, Tagged: "408, 410"}
	site := func(roles ...plan.PortRole) plan.Site { return plan.Site{Key: "s", Name: "S", Roles: roles} }
	if err := site(good).Check(); err != nil {
		t.Error(err)
	}
	for says, change := range map[string]func(*plan.PortRole){
		"needs a name":        func(r *plan.PortRole) { r.Name = " " },
		"one of switch":       func(r *plan.PortRole) { r.Hangs = "lift" },
		"untagged VLAN is":    func(r *plan.PortRole) { r.Untagged = 4095 },
		"tagged VLANs: it":    func(r *plan.PortRole) { r.Tagged = "x" },
		"a tagged VLAN is":    func(r *plan.PortRole) { r.Tagged = "0" },
		"tagged and untagged": func(r *plan.PortRole) { r.Tagged = "1-3" },
	} {
		r := good
		change(&r)
		if err := site(r).Check(); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v", r, err)
		}
	}
	twin := good
	twin.Name = "LINK"
	if err := site(good, twin).Check(); err == nil || !strings.Contains(err.Error(), "two roles") {
		t.Errorf("two of one name: %v", err)
	}
}

func TestGivingARole(t *testing.T) {
	table, err := plan.GiveRole(`[{"port":"1","untagged":"7"},{"port":"10","role":"old"},{"port":"2","role":"old"}]`, "port", "new",
		[]int{2, 3, 1})
	if err != nil {
		t.Fatal(err)
	}
	rows, err := profile.ParseRows(table)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, r := range rows {
		got = append(got, r["port"]+" "+r["role"]+r["untagged"])
	}
	if strings.Join(got, ", ") != "1 new, 2 new, 3 new, 10 old" {
		t.Errorf("%v", got)
	}
	if table, err := plan.GiveRole("", "port", "new", []int{4}); err != nil || table != `[{"port":"4","role":"new"}]` {
		t.Errorf("%s, %v", table, err)
	}
	if _, err := plan.GiveRole("no table", "port", "new", []int{4}); err == nil {
		t.Error("what is no table was taken")
	}
}
