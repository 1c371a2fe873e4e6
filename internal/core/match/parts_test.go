package match_test

import (
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
)

// What hangs behind a matched box is matched with the entry that plans it there, and with
// no box.
func TestPartsAreMatchedBehindTheirBox(t *testing.T) {
	router := &device.Found{}
	for _, s := range []device.Sighting{
		{Facts: map[string]string{"model": "R2"}},
		{Part: "4001/11", Facts: map[string]string{"model": "D2"}},
		{Part: "4001/12", Facts: map[string]string{"instance": "12"}},
	} {
		s.MAC, s.Protocol, s.At = address.MAC{2, 0, 0, 0, 0, 1}, "bacnet", time.Date(2026, 11, 25, 12, 0, 0, 0,
			time.UTC)
		router.Add(s)
	}
	entries := []plan.Entry{
		{Tag: "RTR-1", Profile: "tidewell-r2"},
		{Tag: "RDR-1", Profile: "brindlecap-d2", Behind: "RTR-1", Part: "4001/11"},
		{Tag: "RDR-2", Profile: "brindlecap-d2", Behind: "RTR-1", Part: "4001/99"},
		{Tag: "RDR-3", Profile: "brindlecap-d2", Behind: "RTR-2", Part: "4001/12"},
		{Tag: "RDR-4", Profile: "brindlecap-d2", Behind: "RTR-1"},
	}
	s := match.Segment{Entries: entries, Found: []*device.Found{router},
		Matched: map[address.MAC]string{router.MAC: "RTR-1"}}
	got := match.Parts(s)
	if len(got) != 1 || got[0] != (match.Part{Tag: "RDR-1", MAC: router.MAC, Part: "4001/11", Model: "D2"}) {
		t.Errorf("%+v", got)
	}
	if r := match.Propose(s); len(r.Proposals) > 0 || len(r.Missing) > 0 || len(r.Open) > 0 {
		t.Errorf("a box is looked for: %+v", r)
	}
	s.Matched = nil
	if got := match.Parts(s); len(got) > 0 {
		t.Errorf("behind a box that is not matched: %+v", got)
	}
}
