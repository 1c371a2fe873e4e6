// Package fs24 simulates the Fennmark FS24 managed switch: it tells neighbours over LLDP which
// port they hang on, and over SNMP what hangs where.
package fs24

import (
	"cmp"
	_ "embed"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"redstart/internal/sim/box"
	"redstart/internal/wire/lldp"
	"redstart/internal/wire/snmp"
)

//go:embed plan.csv
var plan []byte

// OurPort is the port at which Redstart is plugged in.
const OurPort = 24

// placed is its state on this site: somebody set it before.
var placed = box.Settings{
	Name: "hall-core-01", Address: netip.MustParsePrefix("10.40.9.29/22"), Gateway: netip.MustParseAddr("10.40.8.1"),
}

// Model is the managed switch.
var Model = box.Model{
	Maker: "Fennmark Networks", Name: "FS24", Firmware: "4.1.0", Port: 443, TLS: true,
	Handler:   box.FrontPage("Fennmark FS24", "#a63", "Managed switch, twenty-four ports."),
	Datagrams: []box.Datagram{{Port: snmp.Port, Answer: tells}},
	Beat:      announce,
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x06, 0x46, 0x32}, Serial: "FN24-%06d", Away: 4 * time.Second,
	Factory: box.Always(placed),
	Short:   "CORE", Kind: "switch", Profile: "fennmark-fs24", Plan: plan,
	Stands: []box.Stand{{Tag: "HALL-CORE-01"}},
}

// object is one value of the managed switch's tables.
type object struct {
	oid   []int
	value snmp.Value
}

// tells answers SNMP reads of the public community.
func tells(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
	m, err := snmp.Parse(payload)
	if err != nil || m.Community != snmp.Community {
		return
	}
	if answer, err := agent(objects(b), m).Append(); err == nil {
		reply(answer, netip.AddrPort{})
	}
}

// announce says over LLDP who it is, at our port.
func announce(b *box.Box) {
	s := b.Running()
	u := lldp.Unit{
		Port: portName(OurPort), TTL: 120, System: s.Name, Description: b.Model.Maker + " " + b.Model.Name + " " +
			b.Model.Firmware,
		Capabilities: []string{"bridge"}, Management: []netip.Addr{s.Address.Addr()},
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
	for port := 1; port <= 24; port++ {
		add(snmp.Value{Number: 100 + port}, snmp.BasePortIf+"."+strconv.Itoa(port))
		add(snmp.Value{Text: portName(port)}, snmp.IfName+"."+strconv.Itoa(100+port))
	}
	for _, h := range b.Around() {
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
