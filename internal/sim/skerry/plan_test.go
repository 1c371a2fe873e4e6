package skerry_test

import (
	"context"
	"testing"

	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/sim/skerry"
	"redstart/profiles"
)

// The terminal's whole plan is one that the checks are content with.
func TestTheWholePlanIsSound(t *testing.T) {
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	site := skerry.Start(skerry.Options{Pace: 0.01})
	defer site.Close()
	if err := skerry.Data().Check(); err != nil {
		t.Fatal(err)
	}
	p := plan.Plan{Site: skerry.Data(), Profiles: set}
	r, err := planfile.Read(context.Background(), site.WholePlan(), p, nil, planfile.Options{})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range r.Cells {
		t.Errorf("%s", c)
	}
	kinds := map[string]bool{}
	for _, e := range r.Entries {
		kinds[e.Kind] = true
	}
	if len(r.Entries) != 96 || len(kinds) != len(plan.Kinds(set)) {
		t.Errorf("%d entries of %d kinds, want 96 of all %d", len(r.Entries), len(kinds), len(plan.Kinds(set)))
	}
	for _, f := range r.Findings {
		if f.Level != plan.Hint || f.Code != "part-missing" { // the cards of the sensors are read later
			t.Errorf("%+v", f)
		}
	}
	p.Entries = r.Entries
	for _, e := range r.Entries {
		for _, v := range p.Resolve().Settings(e) {
			if v.Key == "stream" && v.Value == "" {
				t.Errorf("%s shows no stream: %s", e.Tag, v.From)
			}
		}
	}
}

// However many devices are asked for, the site's plan fits the site: nothing stops it.
func TestAPlanOfManyDevicesFits(t *testing.T) {
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	site := skerry.Start(skerry.Options{Devices: 1100, Pace: 0.01})
	t.Cleanup(site.Close)
	p := plan.Plan{Site: site.Data(), Profiles: set}
	r, err := planfile.Read(context.Background(), site.Plan(), p, nil, planfile.Options{})
	if err != nil {
		t.Fatal(err)
	}
	entries, _, complaints := p.Apply(r.Patches)
	if complaints != nil || len(entries) != 1100 {
		t.Fatalf("%d entries, %v", len(entries), complaints)
	}
	p.Entries = entries
	for _, f := range p.Check() {
		if f.Level == plan.Stops {
			t.Errorf("%+v", f)
		}
	}
}
