package handover_test

import (
	"fmt"
	"net/netip"
	"os"
	"slices"
	"time"

	"redstart/internal/core/plan"
	"redstart/internal/handover"
)

// Each document is written from one record of the site, and is the same to the byte until something
// changes.
func ExampleDocument() {
	record := handover.Record{Site: plan.Site{Name: "Heron Quay"}, At: time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC),
		Entries: []handover.Entry{{Entry: plan.Entry{Tag: "CAM-1", Name: "cam-1", Place: "Gate", Address: netip.MustParseAddr("10.0.0.5")},
			State: "verified", Stands: "verified"}}}
	i := slices.IndexFunc(handover.All, func(d *handover.Document) bool { return d.Name == "hosts" })
	if err := handover.All[i].Write(os.Stdout, record); err != nil {
		fmt.Println(err)
	}
	// Output:
	// # Heron Quay, as planned; made 2026-11-25 12:00 UTC
	// 10.0.0.5	cam-1	# CAM-1, verified
}
