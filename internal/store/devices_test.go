package store

import (
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/plan"
)

// Who makes senders up fills the records only so far: those heard the longest ago go, never one
// that an entry is matched with.
func TestFoundDevicesAreBounded(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s, err := Open(ctx, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	site, err := s.AddSite(ctx, plan.Site{Key: "many", Name: "many"}, "x")
	if err != nil {
		t.Fatal(err)
	}
	mac := func(i int) address.MAC { return address.MAC{2, 0, 0, 0, 0, byte(i)} }
	if _, err := site.Revise(ctx, "x", "added", Changes{Edits: []Edit{{After: &plan.Entry{Tag: "A"}}},
		Matches: []Match{{Tag: "A", MAC: mac(0), By: "mac"}}}); err != nil {
		t.Fatal(err)
	}
	const most, many = 20, 30
	if err := site.in.write(ctx, func(tx *sqlx.Tx) error {
		for i := range many {
			if err := putDevice(tx, site.ID, &device.Found{MAC: mac(i), Last: time.Unix(int64(i), 0)}); err != nil {
				return err
			}
		}
		return site.boundDevices(tx, most)
	}); err != nil {
		t.Fatal(err)
	}
	kept, err := site.Devices(ctx)
	if err != nil || len(kept) != most {
		t.Fatalf("%d kept, %v", len(kept), err)
	}
	for _, f := range kept {
		if i := int(f.MAC[5]); i != 0 && i <= many-most {
			t.Errorf("%s was heard the longest ago, and is kept", f.MAC)
		}
	}
}
