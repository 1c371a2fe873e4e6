package handover_test

import (
	"crypto/ed25519"
	"encoding/csv"
	"io"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/plan"
	"redstart/internal/handover"
)

// example is a whole document: who is where. docs/adding.md walks through it.
var example = &handover.Document{
	Name: "places", Says: "Place of every entry", File: "places.csv", Kind: "text/csv; charset=utf-8",
	Write: func(out io.Writer, r handover.Record) error {
		w := csv.NewWriter(out)
		for _, e := range r.Entries {
			if err := w.Write([]string{e.Tag, e.Place, e.Stands}); err != nil {
				return err
			}
		}
		w.Flush()
		return w.Error()
	},
}

var record = handover.Record{
	Signer: ed25519.NewKeyFromSeed([]byte("a seed of thirty-two bytes, here")),
	Site:   plan.Site{Name: "Heron Quay"}, At: time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC),
	Entries: []handover.Entry{
		{Entry: plan.Entry{Tag: "CAM-1", Name: "CAM-1", Place: "Gate", Address: netip.MustParseAddr("10.0.0.5")},
			Domain: "quay.example", Stands: "verified 2026-11-25 11:00"},
		{Entry: plan.Entry{Tag: "CAM-2", Name: "cam 2", Address: netip.MustParseAddr("10.0.0.6")}, Stands: "planned"},
		{Entry: plan.Entry{Tag: "CAM-3", Name: "cam-3", Address: netip.MustParseAddr("10.0.0.7")},
			Stands: "planned\n0.0.0.0 x"},
		{Entry: plan.Entry{Tag: "CAM-4", Name: "cam-4"}, Stands: "planned"},
	},
}

// named gives a document by its name.
func named(name string) *handover.Document {
	return handover.All[slices.IndexFunc(handover.All, func(d *handover.Document) bool { return d.Name == name })]
}

func TestDocuments(t *testing.T) {
	for _, c := range []struct {
		of   *handover.Document
		want string
	}{
		{example,
			"CAM-1,Gate,verified 2026-11-25 11:00\nCAM-2,,planned\nCAM-3,,\"planned\n0.0.0.0 x\"\nCAM-4,,planned\n"},
		{named("hosts"), "# Heron Quay, as planned; made 2026-11-25 12:00 UTC\n" +
			"10.0.0.5\tcam-1.quay.example cam-1\t# CAM-1, verified 2026-11-25 11:00\n" +
			"# CAM-2: its name is none for a host: cam 2\n" +
			"10.0.0.7\tcam-3\t# CAM-3, planned 0.0.0.0 x\n"},
	} {
		var out strings.Builder
		if err := c.of.Write(&out, record); err != nil || out.String() != c.want {
			t.Errorf("%s: %v\n%s", c.of.Name, err, out.String())
		}
	}
}
