package standin

import (
	"cmp"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/fs8"
	"redstart/internal/wire/lldp"
	"redstart/internal/wire/snmp"
)

const switchMaker, switchColour = "Fennmark Networks", "#a63"

// Fennmark Networks, besides the field switch: the access point answers DCP; the
// desk switch hands an address to whoever sets it up, until it is.
var (
	AP2 = box.Model{Maker: switchMaker, Name: "AP2", Firmware: "2.6.0", Port: 443, TLS: true, Handler: page("Fennmark AP2", switchColour, "Access point."), Frame: fs8.Station}
	FS5 = box.Model{Maker: switchMaker, Name: "FS5", Firmware: "1.2.0", Port: 80, Handler: page("Fennmark FS5: first use", switchColour, "Desk switch, five ports. Set a password to begin."),
		Pool: netip.MustParsePrefix("192.168.88.2/24")}
)

// FS5Factory is the state in which every desk switch leaves the factory.
var FS5Factory = box.Settings{Name: "fs5", Address: netip.MustParsePrefix("192.168.88.1/24")}

// Hang is one MAC behind a port.
type Hang struct {
	MAC    address.MAC
	Port   int
	Speaks bool // LLDP
}

// object is one value of the managed switch's tables.
type object struct {
	oid   []int
	value snmp.Value
}

// FS24 is a managed switch: it tells neighbours over LLDP which port they hang
// on, and over SNMP what hangs where.
func FS24(ours int, table func() []Hang) box.Model {
	return box.Model{Maker: switchMaker, Name: "FS24", Firmware: "4.1.0", Port: 443, TLS: true, Handler: page("Fennmark FS24", switchColour, "Managed switch, twenty-four ports."),
		Datagrams: []box.Datagram{{Port: snmp.Port, Answer: func(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
			if m, err := snmp.Parse(payload); err == nil && m.Community == snmp.Community {
				if answer, err := agent(objects(b, table()), m).Append(); err == nil {
					reply(answer, netip.AddrPort{})
				}
			}
		}}},
		Beat: func(b *box.Box) {
			s := b.Running()
			u := lldp.Unit{Port: portName(ours), TTL: 120, System: s.Name, Description: b.Model.Maker + " " + b.Model.Name + " " + b.Model.Firmware,
				Capabilities: []string{"bridge"}, Management: []netip.Addr{s.Address.Addr()}}
			b.Send(u.Frame(b.MAC))
		}}
}

func portName(n int) string { return "port" + strconv.Itoa(n) }

// objects are all that the agent tells, in the order of their identifiers.
func objects(b *box.Box, table []Hang) []object {
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
	for _, h := range table {
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
		i, exact := slices.BinarySearchFunc(all, at, func(o object, at []int) int { return cmp.Compare(slices.Compare(o.oid, at), 0) })
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
