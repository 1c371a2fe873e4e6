// Package fs24 simulates the Fennmark FS24 managed switch: no address until one is given over
// DCP or at its serial console; its first password is the serial on its label; it is set over RESTCONF. It tells
// neighbours over LLDP which port they hang on, and over SNMP what hangs where.
package fs24

import (
	"cmp"
	_ "embed"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"redstart/internal/core/naming"
	"redstart/internal/core/profile"
	"redstart/internal/core/value"
	"redstart/internal/sim/box"
	"redstart/internal/sim/station"
	"redstart/internal/wire/lldp"
	"redstart/internal/wire/snmp"
)

//go:embed plan.csv
var plan []byte

// OurPort is the port at which Redstart is plugged in, of so many.
const (
	OurPort = 24
	ports   = 24
)

// Own are the settings that only managed switches have.
type Own struct {
	Zone, NTP, DNS, Domain string // several addresses are divided by spaces
	NTPOn                  bool
	VLAN                   int    // on which it is managed; 0 is 1
	ManagedAt              string // the ports at which it is; "": all
	DataVLAN               int
	DataName               string
	SSH, TelnetOff         bool
	Log, Traps, Community  string
	Ring                   string
	Ports                  string // as JSON
	Loaded                 bool   // a sibling's configuration was loaded
	SNMPWrite              string // the community with which it is set over SNMP; "": not at all
	Contact, Location      string
}

// Factory is the state in which every managed switch leaves the factory.
var Factory = box.Settings{Own: Own{Ring: "none"}}

// placed is its state on this site: somebody gave it name and address before, and nothing
// else.
var placed = box.Settings{
	Name: "hall-core-01", Address: netip.MustParsePrefix("10.40.9.29/22"), Gateway: netip.MustParseAddr("10.40.8.1"),
	Own: Own{Ring: "none"},
}

var names = naming.Rules{Max: 48, Case: "lower", Extra: "."}

// Model is the managed switch.
var Model = box.Model{
	Maker: "Fennmark Networks", Name: "FS24", Firmware: "4.1.0", Port: 443, TLS: true,
	Handler: handler, Frame: station.With(names), Console: atConsole, Deaf: deaf,
	Services: []box.Service{
		box.Greets(22, "SSH-2.0-fennmark_FS24").While(func(b *box.Box) bool { return ownOf(b).SSH }),
		box.Greets(23, "FS24").While(func(b *box.Box) bool { return !ownOf(b).TelnetOff }),
	},
	Datagrams: []box.Datagram{{Port: snmp.Port, Answer: tells}},
	Beat:      announce,
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x06, 0x46, 0x32}, Serial: "FN24-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory),
	Short:   "CORE", Kind: "switch", Profile: "fennmark-fs24", Plan: plan,
	Stands: []box.Stand{{Tag: "HALL-CORE-01", Named: "serial", Factory: &placed}},
	Row: func(row map[string]string, b *box.Box, _ int, _ bool) {
		row["serial"] = b.Label
		row["management-vlan"], row["management-ports"] = "408", "21-24"
		row["data-vlan"], row["data-vlan-name"] = "410", "terminal"
		row["snmp-community"], row["snmp-write"] = "skerry-read", "skerry-set"
		row["snmp-contact"], row["snmp-location"] = "duty@skerry-point.example", "Server room"
		row["ring-role"] = "manager"
		row["port-roles"] = rows()
	},
}

// rows are the roles of its ports at this site.
func rows() string {
	var list []profile.Row
	for n := 1; n <= ports; n++ {
		row := profile.Row{"port": strconv.Itoa(n), "role": "terminal"}
		switch {
		case n <= 2:
			row["role"] = "link"
		case n > 20:
			row["role"] = "management"
		}
		list = append(list, row)
	}
	return profile.RowsText(list)
}

// deaf reports whether it hears nothing of what comes in at our port: that is off, or it is
// not managed there.
func deaf(b *box.Box) bool {
	own := ownOf(b)
	at, _ := value.Numbers(own.ManagedAt) // it is ours
	return own.Ports != "" && !portsOf(b)[OurPort-1].On || len(at) > 0 && !slices.Contains(at, OurPort)
}

// object is one value of the managed switch's tables.
type object struct {
	oid   []int
	value snmp.Value
}

// tells answers SNMP reads of the public community.
func tells(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
	m, err := snmp.Parse(payload)
	if err != nil {
		return
	}
	if own := ownOf(b); m.Kind == snmp.KindSet && own.SNMPWrite != "" && m.Community == own.SNMPWrite {
		if answer, err := set(b, m).Append(); err == nil {
			reply(answer, netip.AddrPort{})
		}
		return
	}
	if m.Community != snmp.Community || m.Kind == snmp.KindSet {
		return
	}
	if answer, err := agent(objects(b), m).Append(); err == nil {
		reply(answer, netip.AddrPort{})
	}
}

// Objects of the system group that can be set (RFC 3418, 2).
const (
	sysContact  = ".1.3.6.1.2.1.1.4.0"
	sysLocation = ".1.3.6.1.2.1.1.6.0"
)

// set takes what is set over SNMP, all or none (RFC 3416, 4.2.5).
func set(b *box.Box, m snmp.Message) snmp.Message {
	m.Kind = snmp.KindResponse
	for _, v := range m.Values {
		if v.OID != sysContact && v.OID != sysLocation {
			m.Status = snmp.StatusNotOurs
			return m
		}
	}
	keep(b, "SNMP", func(o *Own) {
		for _, v := range m.Values {
			if v.OID == sysContact {
				o.Contact = v.Text
			} else {
				o.Location = v.Text
			}
		}
	})
	return m
}

// announce says over LLDP who it is, at our port.
func announce(b *box.Box) {
	s := b.Running()
	u := lldp.Unit{
		Port: portName(OurPort), TTL: 120, System: s.Name, Description: b.Model.Maker + " " + b.Model.Name + " " +
			b.Model.Firmware,
		Capabilities: []string{"bridge"},
	}
	if s.Address.IsValid() {
		u.Management = []netip.Addr{s.Address.Addr()}
	}
	b.Send(u.Frame(b.MAC))
}

func portName(n int) string { return "port" + strconv.Itoa(n) }

// objects are all that the agent tells, in the order of their identifiers.
func objects(b *box.Box) []object {
	var list []object
	add := func(v snmp.Value, oid string) {
		v.OID = oid
		list = append(list, object{numbers(oid), v})
	}
	add(snmp.Value{Text: b.Model.Maker + " " + b.Model.Name + " " + b.Model.Firmware}, snmp.SysDescr)
	add(snmp.Value{Text: ".1.3.6.1.4.1.99999.24"}, snmp.SysObjectID)
	add(snmp.Value{Text: b.Running().Name}, snmp.SysName)
	own := ownOf(b)
	add(snmp.Value{Text: own.Contact, Empty: own.Contact == ""}, sysContact)
	add(snmp.Value{Text: own.Location, Empty: own.Location == ""}, sysLocation)
	for port := 1; port <= 24; port++ {
		add(snmp.Value{Number: 100 + port}, snmp.BasePortIf+"."+strconv.Itoa(port))
		add(snmp.Value{Text: portName(port)}, snmp.IfName+"."+strconv.Itoa(100+port))
	}
	var around []box.Hang // of one that stands alone nothing is known
	if b.Around != nil {
		around = b.Around()
	}
	for _, h := range around {
		index := ""
		for _, octet := range h.MAC {
			index += "." + strconv.Itoa(int(octet))
		}
		add(snmp.Value{Number: h.Port}, snmp.TableVlanFdb+".1"+index)
		if h.Speaks { // LLDP, lldpRemChassisId by time mark, port and index
			add(snmp.Value{Text: string(h.MAC[:])}, ".1.0.8802.1.1.2.1.4.1.1.5.0."+strconv.Itoa(h.Port)+".1")
		}
	}
	slices.SortFunc(list, func(a, b object) int { return slices.Compare(a.oid, b.oid) })
	return list
}

func numbers(oid string) []int {
	var list []int
	for _, part := range strings.Split(strings.TrimPrefix(oid, "."), ".") {
		n, _ := strconv.Atoi(part) // a wrong part sorts first, and is found by nobody
		list = append(list, n)
	}
	return list
}

// agent answers get, next and bulk (RFC 3416, 4.2).
func agent(all []object, m snmp.Message) snmp.Message {
	answer := snmp.Message{Kind: snmp.KindResponse, ID: m.ID, Community: m.Community}
	for _, asked := range m.Values {
		at := numbers(asked.OID)
		i, exact := slices.BinarySearchFunc(all, at, func(o object, at []int) int {
			return cmp.Compare(slices.Compare(o.oid, at), 0)
		})
		if m.Kind == snmp.KindGet {
			if v := (snmp.Value{OID: asked.OID, End: true}); !exact {
				answer.Values = append(answer.Values, v)
			} else {
				answer.Values = append(answer.Values, all[i].value)
			}
			continue
		}
		if exact {
			i++
		}
		most := 1
		if m.Kind == snmp.KindBulk {
			most = max(m.Most, 1)
		}
		for range min(most, 64) {
			if i >= len(all) {
				answer.Values = append(answer.Values, snmp.Value{OID: asked.OID, End: true})
				break
			}
			answer.Values = append(answer.Values, all[i].value)
			i++
		}
	}
	return answer
}
