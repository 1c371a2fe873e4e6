package handover

import (
	_ "embed"
	"encoding/csv"
	"encoding/json"
	"io"
	"net/netip"
	"time"

	"redstart/internal/core/value"
)

// addresses is what each address of each subnet is for: devices, gateways, what is kept free.
var addresses = &Document{
	Name: "addresses", Says: "Every address of each subnet that is taken or kept free, as CSV", File: "addresses.csv",
	Kind: "text/csv; charset=utf-8",
	Write: func(out io.Writer, r Record) error {
		w := csv.NewWriter(out)
		if err := w.Write([]string{"subnet", "address", "last", "tag", "name", "mac", "stands"}); err != nil {
			return err
		}
		for _, n := range r.Site.Subnets {
			if !n.Prefix.IsValid() {
				continue
			}
			line := func(first, last netip.Addr, tag, name, mac, stands string) error {
				end := ""
				if last != first {
					end = last.String()
				}
				return w.Write([]string{value.Cell(n.Name), first.String(), end, value.Cell(tag), value.Cell(name), mac, value.Cell(stands)})
			}
			if n.Gateway.IsValid() {
				if err := line(n.Gateway, n.Gateway, "", "", "", r.say("Gateway")); err != nil {
					return err
				}
			}
			for _, k := range n.KeptFree {
				if err := line(k.Range.From, k.Range.To, "", "", "", r.say("kept free")+": "+k.Reason); err != nil {
					return err
				}
			}
			for _, e := range r.addressed() {
				if !inside(n.Prefix, e.Address) {
					continue
				}
				mac := ""
				if m, known := macOf(e); known {
					mac = m.String()
				}
				if err := line(e.Address, e.Address, e.Tag, e.Name, mac, e.Stands); err != nil {
					return err
				}
			}
		}
		w.Flush()
		return w.Error()
	},
}

// schema describes the inventory (JSON Schema, 2020-12).
//
//go:embed inventory.schema.json
var schema []byte

var inventorySchema = &Document{
	Name: "inventory-schema", Says: "JSON Schema of the inventory", File: "inventory.schema.json", Kind: "application/schema+json",
	Write: func(out io.Writer, _ Record) error {
		_, err := out.Write(schema)
		return err
	},
}

// inventory is all entries in plain JSON, of the form that the schema describes.
var inventory = &Document{
	Name: "inventory", Says: "Inventory in plain JSON, of the form that inventory-schema describes", File: "inventory.json", Kind: "application/json",
	Write: func(out io.Writer, r Record) error {
		type item struct {
			Tag      string     `json:"tag"`
			Kind     string     `json:"kind,omitempty"`
			Maker    string     `json:"maker,omitempty"`
			Model    string     `json:"model,omitempty"`
			Serial   string     `json:"serial,omitempty"`
			MAC      string     `json:"mac,omitempty"`
			Address  string     `json:"address,omitempty"`
			Name     string     `json:"name,omitempty"`
			Firmware string     `json:"firmware,omitempty"`
			Area     string     `json:"area,omitempty"`
			Floor    string     `json:"floor,omitempty"`
			Place    string     `json:"place,omitempty"`
			Behind   string     `json:"behind,omitempty"`
			State    string     `json:"state"`
			Checked  *time.Time `json:"checked,omitempty"`
		}
		doc := struct {
			Site    string    `json:"site"`
			Made    time.Time `json:"made"`
			Devices []item    `json:"devices"`
		}{r.Site.Name, r.At.UTC(), []item{}}
		text := func(e Entry, key string) string {
			for _, c := range Columns {
				if c.Key == key {
					return c.of(r, e).Text
				}
			}
			return ""
		}
		for _, e := range r.Entries {
			x := item{Tag: e.Tag, Kind: e.Kind, Maker: e.Maker, Model: e.Model, Serial: text(e, "serial"), Address: addrText(e.Address),
				Name: e.Name, Firmware: text(e, "firmware"), Area: e.Area, Floor: e.Floor, Place: e.Place, Behind: e.Behind, State: e.State}
			if mac, known := macOf(e); known {
				x.MAC = mac.String()
			}
			if !e.CheckedAt.IsZero() {
				at := e.CheckedAt.UTC()
				x.Checked = &at
			}
			doc.Devices = append(doc.Devices, x)
		}
		w := json.NewEncoder(out)
		w.SetIndent("", " ")
		return w.Encode(doc)
	},
}

// targets is a list of targets for monitoring by Prometheus (file_sd), with labels.
var targets = &Document{
	Name: "targets", Says: "Targets for Prometheus (file_sd), with tag, kind and place as labels", File: "targets.json", Kind: "application/json",
	Write: func(out io.Writer, r Record) error {
		type group struct {
			Targets []string          `json:"targets"`
			Labels  map[string]string `json:"labels"`
		}
		list := []group{}
		for _, e := range r.addressed() {
			list = append(list, group{[]string{e.Address.String()}, map[string]string{"site": r.Site.Key, "tag": e.Tag, "kind": e.Kind,
				"area": e.Area, "place": e.Place, "model": e.Model}})
		}
		w := json.NewEncoder(out)
		w.SetIndent("", " ")
		return w.Encode(list)
	},
}
