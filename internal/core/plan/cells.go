package plan

import (
	"cmp"
	"net/netip"
	"slices"

	"redstart/internal/core/address"
)

// What an address of a subnet is.
const (
	Free     = "free"
	KeptCell = "kept"     // kept free, a server's, the network's own, or a factory address
	Planned  = "planned"  // of an entry
	Found    = "found"    // of an entry whose device is there, or of a device that is no entry
	Conflict = "conflict" // of several entries, or held by another than the planned device
)

// Cell is one address of a subnet that is not simply free.
type Cell struct {
	Address netip.Addr `json:"address"`
	Is      string     `json:"is"`
	Tag     string     `json:"tag,omitempty"`
	Text    string     `json:"text"` // in words
}

// Map is a subnet with what each of its addresses is. Free addresses have no cell.
type Map struct {
	Name    string       `json:"name"`
	Prefix  netip.Prefix `json:"prefix"`
	Hosts   int          `json:"hosts"` // addresses that a host may use
	Free    int          `json:"free"`
	Cells   []Cell       `json:"cells"` // ascending
	Network netip.Addr   `json:"network"`
	Last    netip.Addr   `json:"broadcast"`
	Mask    string       `json:"mask"`
}

// Map tells what each address of a subnet is.
func (p Plan) Map(n Subnet) Map {
	hosts := address.Hosts(n.Prefix)
	m := Map{Name: n.Name, Prefix: n.Prefix, Hosts: hosts.Size(), Network: address.Network(n.Prefix),
		Last: address.LastOf(n.Prefix), Mask: address.Mask(n.Prefix)}
	cells := map[netip.Addr]*Cell{}
	put := func(a netip.Addr, is, tag, text string) {
		if n.Prefix.Contains(a) {
			cells[a] = &Cell{a, is, tag, text}
		}
	}
	for _, k := range n.KeptFree {
		// Large ranges are drawn, but no larger than the subnet itself.
		for i := address.Number(k.Range.From); i <= address.Number(k.Range.To) &&
			i-address.Number(k.Range.From) < 1<<16; i++ {
			put(address.FromNumber(i), KeptCell, "", "kept free "+k.Reason)
		}
	}
	pool := p.pool()
	for a, model := range pool.factory {
		put(a, KeptCell, "", "the "+model)
	}
	for _, s := range n.servers() {
		put(s.at, KeptCell, "", "the "+s.what)
	}
	put(m.Network, KeptCell, "", "the network address")
	put(m.Last, KeptCell, "", "the broadcast address")
	for _, e := range p.Entries {
		switch c := cells[e.Address]; {
		case !e.Address.IsValid():
		case c == nil:
			put(e.Address, Planned, e.Tag, e.Tag)
		default:
			put(e.Address, Conflict, e.Tag, e.Tag+", but it is "+c.Text)
			if c.Tag != "" {
				put(e.Address, Conflict, e.Tag, c.Text+" and "+e.Tag)
			}
		}
	}
	for _, e := range p.Entries {
		for _, a := range p.furtherPorts(e) {
			if cells[a] == nil {
				put(a, Planned, e.Tag, e.Tag+", a further port")
			}
		}
	}
	for _, l := range p.Known.Living {
		switch c := cells[l.Address]; {
		case c == nil || c.Is == KeptCell:
			put(l.Address, Found, l.Tag, "held by "+cmp.Or(l.Tag, l.MAC.String()))
		case c.Is == Planned && c.Tag == l.Tag, c.Is == Found && c.Tag == l.Tag && l.Tag != "":
			put(l.Address, Found, l.Tag, l.Tag+", there")
		default:
			put(l.Address, Conflict, c.Tag, c.Text+", but held by "+cmp.Or(l.Tag, l.MAC.String()))
		}
	}
	m.Free = m.Hosts
	for _, c := range cells {
		m.Cells = append(m.Cells, *c)
		if hosts.Contains(c.Address) {
			m.Free--
		}
	}
	slices.SortFunc(m.Cells, func(a, b Cell) int { return a.Address.Compare(b.Address) })
	return m
}
