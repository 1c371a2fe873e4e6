package skerry

import (
	"bytes"
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
		Roles: []plan.PortRole{
			{Name: "link", Hangs: plan.HangsSwitch, Untagged: 1, Tagged: "408, 410"},
			{Name: "terminal", Hangs: plan.HangsOne, Untagged: 410},
			{Name: "management", Hangs: plan.HangsOne, Untagged: 408},
		},
		Policies: []plan.Policy{
			{Mode: plan.OneEach, Users: plan.KeepUser, Recovery: "duty@skerry-point.example"},
			{For: "profile:tolvern-d1", Mode: plan.OneKind, Users: plan.KeepUser,
				Recovery: "duty@skerry-point.example"},
		},
	}
}

var areas = []struct{ tag, place string }{
	{"BERTH1", "Berth 1"}, {"BERTH2", "Berth 2"}, {"HALL", "Ticket hall"}, {"YARD", "Marshalling yard"},
	{"SHOP", "Workshop"},
}

// mostThere is how many devices the terminal's own subnet has room for besides what is kept.
const mostThere = 600

// Data is that of the site with the devices that it has: for more than the terminal's subnet
// holds, the subnet is a larger one.
func (s *Site) Data() plan.Site {
	data := Data()
	if len(s.Boxes)+len(s.Others) > mostThere {
		data.Subnets[0].Prefix = netip.MustParsePrefix("10.40.0.0/20")
	}
	return data
}

// columns of every plan; those of settings follow.
var (
	columns = []string{"tag", "kind", "profile", "area", "place", "address", "name", "mac", "serial"}
	whole   = []string{"tag", "kind", "profile", "area", "floor", "place", "label", "description", "note", "address",
		"name",
		"mac", "serial", "switch-port", "behind", "part", "not-wired", "after"}
)

// Plan writes the plan for the site's devices as CSV: some entries name their
// box by MAC, some by serial, most by nothing.
func (s *Site) Plan() []byte { return table(columns, s.rows()) }

// WholePlan writes the plan of the whole terminal: the site's devices and all that
// stands there besides, not wired yet unless it is simulated. A site of another size has
// only its devices.
func (s *Site) WholePlan() []byte {
	if !s.usual {
		return s.Plan()
	}
	rows := s.rows()
	for _, item := range terminal {
		for _, row := range lines(item.Plan) {
			if row["behind"] == "" {
				s.wire(row, item.Stands)
			} else if len(s.Others) == 0 && item.Stands != nil {
				row["not-wired"] = "yes" // what it hangs behind is not there
			}
			rows = append(rows, row)
		}
	}
	return table(whole, rows)
}

// lines reads what a model's folder says of the plan.
func lines(file []byte) []map[string]string {
	read, err := csv.NewReader(bytes.NewReader(file)).ReadAll()
	if err != nil || len(read) == 0 {
		return nil // it is ours, and a test counts what the plan comes to
	}
	var rows []map[string]string
	for _, line := range read[1:] {
		row := map[string]string{}
		for i, key := range read[0] {
			row[key] = line[i]
		}
		rows = append(rows, row)
	}
	return rows
}

// wire completes a line of the plan by what stands there.
func (s *Site) wire(row map[string]string, stands []box.Stand) {
	row["not-wired"] = "yes"
	i := slices.IndexFunc(stands, func(t box.Stand) bool { return t.Tag == row["tag"] })
	if i < 0 || len(s.Others) == 0 {
		return
	}
	delete(row, "not-wired") // what is missing should be there by now
	for _, o := range s.Others {
		if o.Tag == row["tag"] && stands[i].Named == "mac" {
			row["mac"] = o.MAC.String()
		}
		if o.Tag == row["tag"] && stands[i].Named == "serial" {
			row["serial"] = o.Serial
		}
	}
}

// table writes rows as CSV: these columns, and then those of settings as they come.
func table(header []string, rows []map[string]string) []byte {
	header = slices.Clone(header)
	for _, row := range rows {
		for _, key := range slices.Sorted(maps.Keys(row)) {
			if !slices.Contains(header, key) {
				header = append(header, key)
			}
		}
	}
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
		row := map[string]string{"tag": fmt.Sprintf("%s-%s-%02d", area.tag, stock.Short, number), "kind": stock.Kind,
			"profile": stock.Profile,
			"area":    area.tag, "place": area.place, "address": plan.Next, "name": plan.Auto}
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
