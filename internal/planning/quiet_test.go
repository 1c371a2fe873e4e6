package planning_test

import (
	"reflect"
	"testing"

	"redstart/internal/core/plan"
	"redstart/internal/sim/skerry"
	"redstart/internal/site/sitetest"
)

// After a change of words for people, which costs no whole check, what is found is what a whole
// check finds: also where a name is made of such words, and where something else changed with them.
func TestWordsForPeopleAreCheckedAsAllIs(t *testing.T) {
	t.Parallel()
	r := sitetest.Open(t, skerry.Options{Devices: 1, Only: "C20"})
	ctx := t.Context()
	p, _, err := r.Plan.Plan(ctx)
	r.Must(err)
	data := p.Site
	data.Naming = "{area}-{tag}"
	_, err = r.Plan.SetData(ctx, data, "owner")
	r.Must(err)
	_, err = r.Plan.Generate(ctx, []plan.Quantity{{Profile: "ovalis-c20", Count: 3, Pattern: "CAM-{n:02}"}}, false, "owner")
	r.Must(err)
	_, err = edit(r, "CAM-02", "name", "not a name!")
	r.Must(err)
	for _, change := range [][]string{
		{"CAM-01", "place", "north wall"}, {"CAM-01", "area", "HALL"}, {"CAM-01", "floor", "2"}, {"CAM-01", "label", "one"},
		{"CAM-01", "note", "high up"}, {"CAM-01", "description", "HALL-CAM-03"}, {"CAM-01", "place", "south wall"},
		{"CAM-01", "description", ""}, {"CAM-02", "area", "YARD"}, {"CAM-02", "area", "PIER"},
		{"CAM-03", "place", "quay", "name", "cam-01"}, {"CAM-03", "place", "pier"}, {"CAM-03", "address", "10.0.0.1"},
		{"CAM-01", "serial", "OV20-1"}, {"CAM-02", "serial", "OV20-1"}, {"CAM-02", "place", "mast"},
	} {
		if _, err := edit(r, change[0], change[1:]...); err != nil {
			t.Fatal(change, err)
		}
		now, err := r.Plan.Checked(ctx)
		r.Must(err)
		p, entries, err := r.Plan.Plan(ctx)
		r.Must(err)
		if whole := p.Check(); !reflect.DeepEqual(now.Findings, whole) {
			t.Errorf("after %v:\n%+v\na whole check finds\n%+v", change, now.Findings, whole)
		}
		kept, err := r.Plan.Findings(ctx)
		if err != nil || len(kept) != len(now.Findings) {
			t.Errorf("%+v, %v", kept, err)
		}
		for i, e := range entries {
			if !reflect.DeepEqual(e.Entry, p.Entries[i]) || !reflect.DeepEqual(now.Entries[i].Entry, e.Entry) {
				t.Errorf("%v: the plan has %+v, the records %+v", change, p.Entries[i], e.Entry)
			}
		}
	}
}
