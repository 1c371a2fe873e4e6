package inquiry

import (
	"context"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/fact"
	"redstart/internal/core/profile"
	"redstart/internal/wire/snmp"
)

const (
	perQuestion = 20               // values asked for in one question
	mostValues  = 4096             // of one table
	tableTime   = 12 * time.Second // for all tables of a switch, question by question
	tries       = 3
	tryTime     = 700 * time.Millisecond
)

// lldpRemChassis is the remote chassis ID, by time mark, local port and index
// (IEEE 802.1AB-2016, 11.5, lldpRemChassisId), as a MAC.
const lldpRemChassis = ".1.0.8802.1.1.2.1.4.1.1.5"

// snmpTables asks a device over SNMP (RFC 3416).
var snmpTables = question{profile.AskSNMP, tableTime, func(ctx context.Context, t *talker) error { return t.snmp(ctx) }}

// snmp asks for the system group, and a switch for what hangs where: its
// forwarding table (RFC 4188, RFC 4363) and its LLDP neighbours.
func (t *talker) snmp(ctx context.Context) error {
	c, err := t.DialUDP(snmp.Port)
	if err != nil {
		return err
	}
	defer c.Close()
	s := &session{conn: c}
	system, err := s.exchange(ctx, snmp.Message{Kind: snmp.KindGet,
		Values: []snmp.Value{{OID: snmp.SysDescr}, {OID: snmp.SysName}, {OID: snmp.SysObjectID}}})
	if err != nil {
		return err
	}
	for _, v := range system {
		if key := map[string]string{snmp.SysDescr: fact.Description, snmp.SysName: fact.Name,
			snmp.SysObjectID: fact.ObjectID}[v.OID]; key != "" {
			t.tell("snmp", "", key, v.Text)
		}
	}
	if !t.isSwitch {
		return nil
	}
	names, err := s.portNames(ctx)
	if err != nil {
		return err
	}
	for _, table := range []string{snmp.TableVlanFdb, snmp.TableFdbPort, lldpRemChassis} {
		values, err := s.walk(ctx, table)
		if err != nil {
			return err
		}
		for _, v := range values {
			port, mac := 0, address.MAC{}
			if index := strings.TrimPrefix(v.OID, table+"."); table == lldpRemChassis {
				parts := strings.Split(index, ".")
				if len(parts) == 3 && len(v.Text) == 6 {
					port, _ = strconv.Atoi(parts[1]) // 0 is no port, and left out below
					mac = address.MACFrom([]byte(v.Text))
				}
			} else {
				port, mac = v.Number, lastMAC(index)
			}
			if port > 0 && !mac.IsZero() && !mac.IsGroup() {
				protocol := "snmp"
				if table == lldpRemChassis {
					protocol = "lldp"
				}
				t.tell(protocol, "port "+names.of(port), fact.Behind, mac.String())
			}
		}
	}
	return nil
}

// lastMAC reads a MAC from the last six numbers of an index.
func lastMAC(index string) (m address.MAC) {
	parts := strings.Split(index, ".")
	if len(parts) < 6 {
		return m
	}
	for i, p := range parts[len(parts)-6:] {
		n, err := strconv.ParseUint(p, 10, 8)
		if err != nil {
			return address.MAC{}
		}
		m[i] = byte(n)
	}
	return m
}

// portNames are a bridge's ports by number, as its interfaces are called.
type portNames map[int]string

func (n portNames) of(port int) string {
	if name := n[port]; name != "" {
		return name
	}
	return strconv.Itoa(port)
}

func (s *session) portNames(ctx context.Context) (portNames, error) {
	interfaces, err := s.walk(ctx, snmp.BasePortIf)
	if err != nil {
		return nil, err
	}
	called, err := s.walk(ctx, snmp.IfName)
	if err != nil {
		return nil, err
	}
	byIndex := map[string]string{}
	for _, v := range called {
		byIndex[strings.TrimPrefix(v.OID, snmp.IfName+".")] = v.Text
	}
	names := portNames{}
	for _, v := range interfaces {
		if port, err := strconv.Atoi(strings.TrimPrefix(v.OID, snmp.BasePortIf+".")); err == nil {
			names[port] = byIndex[strconv.Itoa(v.Number)]
		}
	}
	return names, nil
}

// session is a conversation with an agent.
type session struct {
	conn net.Conn
	id   uint32
}

// exchange asks until the answer comes.
func (s *session) exchange(ctx context.Context, m snmp.Message) ([]snmp.Value, error) {
	s.id++
	m.ID, m.Community = s.id, snmp.Community
	question, err := m.Append()
	if err != nil {
		return nil, err
	}
	answer := make([]byte, 8192)
	for range tries {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if _, err := s.conn.Write(question); err != nil {
			return nil, err
		}
		if err := s.conn.SetReadDeadline(time.Now().Add(tryTime)); err != nil {
			return nil, err
		}
		for {
			n, err := s.conn.Read(answer)
			if err != nil {
				break // nothing came; ask again
			}
			if a, err := snmp.Parse(answer[:n]); err == nil && a.Kind == snmp.KindResponse && a.ID == s.id {
				return a.Values, nil
			}
		}
	}
	return nil, fmt.Errorf("no SNMP agent answered: %w", os.ErrDeadlineExceeded)
}

// walk reads a table. An agent that goes backwards ends it.
func (s *session) walk(ctx context.Context, table string) ([]snmp.Value, error) {
	var list []snmp.Value
	at := table
	for len(list) < mostValues {
		values, err := s.exchange(ctx, snmp.Message{Kind: snmp.KindBulk, Most: perQuestion,
			Values: []snmp.Value{{OID: at}}})
		if err != nil || len(values) == 0 {
			return list, err
		}
		for _, v := range values {
			if v.End || !strings.HasPrefix(v.OID, table+".") || v.OID == at {
				return list, nil
			}
			list = append(list, v)
			at = v.OID
		}
	}
	return list, nil
}
