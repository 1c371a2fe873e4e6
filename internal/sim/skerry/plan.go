package skerry

import (
	"bytes"
	_ "embed"
	"encoding/csv"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/all"
)

// rest are the entries of the terminal besides those that are set: not wired
// yet, unless the whole terminal is simulated.
//
//go:embed rest.csv
var rest []byte

func addresses(texts ...string) []netip.Addr {
	var list []netip.Addr
	for _, t := range texts {
		list = append(list, netip.MustParseAddr(t))
	}
	return list
}

func span(from, to string) address.Range {
	return address.Range{From: netip.MustParseAddr(from), To: netip.MustParseAddr(to)}
}

// Data is the made-up site's own data.
func Data() plan.Site {
	return plan.Site{
		Key:      "skerry-point",
		Name:     "Skerry Point Ferry Terminal",
		Contact:  "Ines Holm, duty engineer, duty@skerry-point.example",
		Notes:    "Berth 2 is in service from 05:30 to 23:10; restart nothing there by day.",
		Zone:     "Europe/Oslo",
		Language: "en",
		Subnets: []plan.Subnet{{
			Name:    "terminal",
			Prefix:  netip.MustParsePrefix("10.40.8.0/22"),
			Gateway: netip.MustParseAddr("10.40.8.1"),
			DNS:     addresses("10.40.8.2", "10.40.8.3"),
			NTP:     addresses("10.40.8.5"),
			Domain:  "skerry-point.example",
			Log:     addresses("10.40.8.6"),
			Traps:   addresses("10.40.8.6"),
			KeptFree: []plan.Kept{
				{Range: span("10.40.8.2", "10.40.8.19"), Reason: "for the terminal's servers"},
				{Range: span("10.40.11.200", "10.40.11.250"), Reason: "lent to visitors over DHCP"},
			},
			Ranges: []plan.KindRange{
				{Kind: "access point", Range: span("10.40.9.30", "10.40.9.49")},
				{Kind: "recorder", Range: span("10.40.9.50", "10.40.9.59")},
				{Kind: "gateway", Range: span("10.40.9.60", "10.40.9.69")},
				{Kind: "time server", Range: span("10.40.9.90", "10.40.9.99")},
				{Kind: "clock", Range: span("10.40.9.100", "10.40.9.149")},
				{Kind: "intercom", Range: span("10.40.9.150", "10.40.9.189")},
				{Kind: "monitor", Range: span("10.40.9.190", "10.40.9.199")},
				{Kind: "door controller", Range: span("10.40.9.200", "10.40.9.239")},
			},
		}, {
			Name:    "telephones",
			Prefix:  netip.MustParsePrefix("10.41.0.0/24"),
			VLAN:    41,
			Gateway: netip.MustParseAddr("10.41.0.1"),
			NTP:     addresses("10.40.8.5"),
		}},
		Policies: []plan.Policy{
			{Mode: plan.OneEach, Users: plan.KeepUser, Recovery: "duty@skerry-point.example"},
			{For: "kind:intercom", Mode: plan.OneKind, Users: plan.KeepUser, Recovery: "duty@skerry-point.example"},
		},
	}
}

var areas = []struct{ tag, place string }{
	{"BERTH1", "Berth 1"}, {"BERTH2", "Berth 2"}, {"HALL", "Ticket hall"}, {"YARD", "Marshalling yard"}, {"SHOP", "Workshop"},
}

var columns = []string{"tag", "kind", "profile", "area", "place", "address", "name", "mac", "serial"}

// Plan writes the plan for the site's devices as CSV: some entries name their
// box by MAC, some by serial, most by nothing.
func (s *Site) Plan() []byte {
	rows := s.rows()
	header := slices.Clone(columns)
	for _, row := range rows {
		for _, key := range slices.Sorted(maps.Keys(row)) {
			if !slices.Contains(header, key) {
				header = append(header, key)
			}
		}
	}
	return table(header, rows)
}

// WholePlan writes the plan of the whole terminal: the site's devices and what
// is not wired yet. A site of another size has only its devices.
func (s *Site) WholePlan() []byte {
	if !s.usual {
		return s.Plan()
	}
	r := csv.NewReader(bytes.NewReader(rest))
	lines, err := r.ReadAll()
	if err != nil {
		return s.Plan() // rest.csv is ours, and a test reads it
	}
	header := slices.Insert(slices.Clone(lines[0]), slices.Index(lines[0], "name")+1, "mac", "serial")
	rows := s.rows()
	for _, line := range lines[1:] {
		row := map[string]string{}
		for i, key := range lines[0] {
			row[key] = line[i]
		}
		s.wire(row)
		rows = append(rows, row)
	}
	return table(header, rows)
}

// named are the others whose box the plan names, by MAC or by serial.
var named = map[string]string{"HALL-VOX-01": "mac", "HALL-REC-02": "mac", "HALL-CLK-01": "serial", "YARD-CLK-01": "serial"}

// wire completes a line of the plan whose device is there.
func (s *Site) wire(row map[string]string) {
	if len(s.Others) > 0 && (row["tag"] == "SHOP-CLK-02" || row["tag"] == "YARD-GATE-02") {
		row["not-wired"] = "" // it should be there by now
	}
	for _, o := range s.Others {
		if o.Tag != row["tag"] {
			continue
		}
		row["not-wired"] = ""
		switch named[o.Tag] {
		case "mac":
			row["mac"] = o.MAC.String()
		case "serial":
			row["serial"] = o.Serial
		}
	}
}

func table(header []string, rows []map[string]string) []byte {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	_ = w.Write(header) // a buffer takes everything
	for _, row := range rows {
		line := make([]string, len(header))
		for i, key := range header {
			line[i] = row[key]
		}
		_ = w.Write(line)
	}
	w.Flush()
	return out.Bytes()
}

func (s *Site) rows() []map[string]string {
	var rows []map[string]string
	count := map[string]int{}
	for _, b := range s.Boxes {
		stock := stockOf(b.Model.Name)
		area := areas[count[b.Model.Name]%len(areas)]
		number := count[b.Model.Name]/len(areas) + 1
		count[b.Model.Name]++
		row := map[string]string{"tag": fmt.Sprintf("%s-%s-%02d", area.tag, stock.Short, number), "kind": stock.Kind, "profile": stock.Profile,
			"area": area.tag, "place": area.place, "address": plan.Next, "name": plan.Auto}
		if stock.Row != nil {
			stock.Row(row, b, count[b.Model.Name], number == 1 && len(s.Boxes) <= Devices)
		}
		rows = append(rows, row)
	}
	return rows
}

// stockOf finds what there is of a model that is set.
func stockOf(model string) box.Stock {
	i := slices.IndexFunc(all.Stock, func(s box.Stock) bool { return s.Model.Name == model })
	return all.Stock[i]
}
